package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/demo"
	"wexter/ingest"
	"wexter/store"
)

// program is Wexter serving a shop.
type program struct {
	cmd  *exec.Cmd
	base string
	said *tail // what it wrote to its log
}

// tail keeps the end of what is written.
type tail struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.buf.Len() > 1<<20 {
		t.buf.Reset()
	}
	return t.buf.Write(b)
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.buf.String()
}

// serve starts the program on a shop's file and waits until it has said its address.
func (w world) serve(ctx context.Context, path string) (*program, error) {
	p := &program{cmd: exec.CommandContext(ctx, w.wexter, "serve", "--db", path, "--addr", "127.0.0.1:0"), said: &tail{}}
	p.cmd.Stderr = p.said
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	if err := p.cmd.Start(); err != nil {
		return nil, err
	}
	line, err := bufio.NewReader(out).ReadString('\n')
	i := strings.Index(line, "http://")
	if err != nil || i < 0 {
		_ = p.cmd.Wait()
		return nil, fmt.Errorf("the program did not start: %s%s", line, p.said)
	}
	go func() { _, _ = io.Copy(io.Discard, out) }()
	p.base = strings.TrimSpace(line[i:])
	return p, nil
}

// kill ends the program as a power cut would.
func (p *program) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// stop ends the program as it is meant to be ended.
func (p *program) stop() error {
	_ = p.cmd.Process.Signal(os.Interrupt)
	done := make(chan error, 1)
	go func() { done <- p.cmd.Wait() }()
	select {
	case err := <-done:
		return err
	case <-time.After(30 * time.Second):
		p.kill()
		return errors.New("the program did not end within 30 s")
	}
}

// megabytes reads a line of what the kernel says of the program's memory: VmRSS as it is,
// VmHWM the most it ever was.
func (p *program) megabytes(line string) float64 {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		return 0
	}
	m := regexp.MustCompile(line + `:\s+(\d+) kB`).FindSubmatch(data)
	if m == nil {
		return 0
	}
	kb, _ := strconv.ParseFloat(string(m[1]), 64)
	return kb / 1024
}

// forget lets the kernel count the most memory again from here.
func (p *program) forget() error {
	return os.WriteFile(fmt.Sprintf("/proc/%d/clear_refs", p.cmd.Process.Pid), []byte("5"), 0o200)
}

// open serves a shop with the demo's cars, with which f has done something before.
func (w world) open(ctx context.Context, f func(s *casework.Shop) error) (p *program, path string, err error) {
	path = filepath.Join(w.dir, "shop.db")
	if err := stocked(ctx, path, f); err != nil {
		return nil, path, err
	}
	p, err = w.serve(ctx, path)
	return p, path, err
}

// stocked makes a shop with the demo's cars and does with it what f says, before it is
// served.
func stocked(ctx context.Context, path string, f func(s *casework.Shop) error) error {
	db, err := store.Open(path)
	if err != nil {
		return err
	}
	s := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if err = demo.Stock(ctx, s); err == nil && f != nil {
		err = f(s)
	}
	return errors.Join(err, db.Close())
}
