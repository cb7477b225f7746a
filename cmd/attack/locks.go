package main

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"wexter/casework"
	"wexter/store"
)

// locks takes the shop's file away from under the program, and gives it files that are no
// shop.
func locks(ctx context.Context, w world) ([]figure, error) {
	id := ""
	p, path, err := w.open(ctx, func(s *casework.Shop) (err error) { id, err = s.OpenCase(ctx, "", newCase("LOCK 1")); return err })
	if err != nil {
		return nil, err
	}
	defer p.kill()
	wrong := 0
	expect := func(what, say string, args ...string) {
		out, err := exec.CommandContext(ctx, w.wexter, args...).CombinedOutput()
		if text := string(out); (err == nil) != (say == "done") || say != "done" && !strings.Contains(text, say) {
			wrong++
			fmt.Printf("    %s: %v %.200s; asked for %q\n", what, err, text, say)
		}
	}
	backup := filepath.Join(w.dir, "backup.db")
	expect("a second server", "is served already", "serve", "--db", path, "--addr", "127.0.0.1:0")
	expect("a backup beside the server", "done", "backup", "--db", path, backup)
	bundle := filepath.Join(w.dir, "case.json")
	expect("an export beside the server", "done", "export", "--db", path, "--out", bundle, "SQ-102")
	expect("an import beside the server", "done", "import", "--db", path, bundle)
	expect("restoring beside the server", "is served already", "restore", "--db", path, backup)
	for name, f := range map[string]func(data []byte) []byte{
		"empty":     func([]byte) []byte { return nil },
		"no shop":   func(data []byte) []byte { data = append([]byte{}, data...); copy(data[68:72], "ELSE"); return data },
		"cut off":   func(data []byte) []byte { return data[:len(data)/2] },
		"no pages":  func([]byte) []byte { return []byte("this is a letter\n") },
		"all zeros": func(data []byte) []byte { return make([]byte, len(data)) },
	} {
		data, err := os.ReadFile(backup)
		if err != nil {
			return nil, err
		}
		bad := filepath.Join(w.dir, name+".db")
		if err := os.WriteFile(bad, f(data), 0o600); err != nil {
			return nil, err
		}
		expect("restoring a file that is "+name, "wexter restore: ", "restore", "--db", filepath.Join(w.dir, "other.db"), bad)
		if name != "empty" {
			expect("serving a file that is "+name, "wexter serve: ", "serve", "--db", bad, "--addr", "127.0.0.1:0")
		}
	}
	locked, err := p.locked(ctx, path, id)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(backup)
	if err != nil {
		return nil, err
	}
	return append(locked, figure{what: "answers that are not as they should be", got: float64(wrong)},
		figure{what: "rights of others on a backup", got: float64(info.Mode().Perm() & 0o077)}), p.stop()
}

// locked holds the shop's file as another program might, and reads and writes meanwhile.
func (p *program) locked(ctx context.Context, path, id string) ([]figure, error) {
	db, err := store.Open(path)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	b := newBrowser(p.base)
	if err := b.ready(ctx); err != nil {
		return nil, err
	}
	held, release := make(chan struct{}), make(chan struct{})
	done := make(chan error, 1)
	go func() {
		done <- db.Write(ctx, func(store.Tx) error { close(held); <-release; return nil })
	}()
	<-held
	page, perr := b.get(ctx, "/cases/"+id)
	a, err := b.post(ctx, "/cases/"+id+"/codes", url.Values{"codes": {"P0456"}, "status": {"stored"}})
	close(release)
	if err := errors.Join(perr, err, <-done); err != nil {
		return nil, err
	}
	if page.code != 200 || a.code != 503 || !strings.Contains(a.says(), "locked") {
		return nil, fmt.Errorf("a locked file: %d, %d %s", page.code, a.code, a.says())
	}
	after, err := b.post(ctx, "/cases/"+id+"/codes", url.Values{"codes": {"P0456"}, "status": {"stored"}})
	if err != nil || after.code != 303 {
		return nil, fmt.Errorf("after the lock: %d %s %w", after.code, after.says(), err)
	}
	return []figure{{what: "a page beside a locked file is there within", got: float64(page.took) / 1e6, most: 1000, unit: "ms"},
		{what: "a locked file is said within", got: float64(a.took) / 1e6, most: 2000, unit: "ms"}}, nil
}
