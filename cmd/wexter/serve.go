package main

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/live"
	"wexter/standin"
	"wexter/store"
	"wexter/web"
)

// reachFlags adds the flags that say how instruments are reached.
func reachFlags(fs *flag.FlagSet) *instrument.Dialer {
	d := &instrument.Dialer{Pool: &instrument.Pool{}}
	fs.DurationVar(&d.Patience, "patience", 0, "how long an instrument may take to answer, where the usual is too short")
	fs.Func("serial", "a serial device that may be used though the system does not list it; more than once allows several", func(name string) error {
		d.Allowed = append(d.Allowed, name)
		return nil
	})
	return d
}

func serve(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("serve", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:8080", "address to serve on")
	db := fs.String("db", "wexter.db", "the shop's file")
	reach := reachFlags(fs)
	pages := fs.String("book", "", "a file or folder of the shop's own pages of the Book")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	book, err := bookWith(*pages, errs)
	if err != nil {
		return err
	}
	return serveShop(service{addr: *addr, path: *db, book: book, reach: reach, out: out})
}

func serveDemo(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("demo", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:8080", "address to serve on")
	reach := reachFlags(fs)
	bay := fs.String("cars", "all", "the whole cars in the bay: all, none, or their cases as in SQ-102,SQ-105")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	cars, err := carsInBay(*bay)
	if err != nil {
		return err
	}
	demo.Prepare()
	dir, err := os.MkdirTemp("", "wexter-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	book, err := ingest.BookWith("")
	if err != nil {
		return err
	}
	return serveShop(service{addr: *addr, path: filepath.Join(dir, "demo.db"), book: book, reach: reach, out: out, fill: demo.Stock, later: func(ctx context.Context, s *casework.Shop) {
		if err := startStandins(ctx, s, cars); err != nil && ctx.Err() == nil {
			slog.Error("the demo is not whole", "error", err)
		}
	}})
}

// carsInBay reads which whole cars of the demo stand in the bay. Each costs a second or two
// of work at the start: it has been driven before it is looked at.
func carsInBay(words string) ([]string, error) {
	all := demo.WholeCars()
	switch words {
	case "all":
		return all, nil
	case "none":
		return nil, nil
	}
	cars := strings.Split(words, ",")
	for i, c := range cars {
		if cars[i] = strings.TrimSpace(c); !slices.Contains(all, cars[i]) {
			return nil, usage("the demo has no car %q; it has %s, and all or none", cars[i], strings.Join(all, ", "))
		}
	}
	return cars, nil
}

// startStandins runs the demo's instruments, each a process of its own that ends
// with this one, and brings whole cars into the bay.
func startStandins(ctx context.Context, s *casework.Shop, cars []string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, i := range demo.Instruments() {
		args := append([]string{"standin", i.Kind, "--until-eof", "--addr", "127.0.0.1:0"}, i.Args...)
		cmd := exec.CommandContext(ctx, self, args...)
		cmd.Stderr = os.Stderr
		out, err := cmd.StdoutPipe()
		if err != nil {
			return err
		}
		if _, err := cmd.StdinPipe(); err != nil { // held open as long as this process lives
			return err
		}
		if err := cmd.Start(); err != nil {
			return fmt.Errorf("the stand-in %s could not be started: %w", i.Name, err)
		}
		line, err := bufio.NewReader(out).ReadString('\n')
		if err != nil {
			return fmt.Errorf("the stand-in %s ended at once", i.Name)
		}
		go func() { _ = cmd.Wait() }()
		f := strings.Fields(line)
		if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: record.DeviceKind(i.Kind), Name: i.Name, Address: f[len(f)-1], For: i.For}); err != nil {
			return err
		}
	}
	if len(cars) > 0 {
		cases := map[string]string{}
		for _, n := range cars { // a whole car is called as its case
			cases[n] = n
		}
		bringCars(ctx, s, self, cases)
	}
	return nil
}

// carInstrument reads what a whole car says of one of its instruments: "The KIND NAME of
// CAR is at ADDRESS". Cases says which
// case a car belongs to.
func carInstrument(line string, cases map[string]string) (casework.NewDevice, bool) {
	f := strings.Fields(line)
	if len(f) < 8 {
		return casework.NewDevice{}, false
	}
	kind, number := record.DeviceKind(f[1]), cases[f[len(f)-4]]
	if f[1] == "tool" && f[2] != "technician" { // who does tests himself shows no figure
		kind = record.Module
	}
	if kind != record.Adapter && kind != record.Module {
		return casework.NewDevice{}, false
	}
	return casework.NewDevice{Kind: kind, Name: strings.Join(f[2:len(f)-5], " ") + " " + number, Address: f[len(f)-1], For: number}, true
}

// measuredBy are the channels of a module of a whole car, by its name.
func measuredBy(name string) []string {
	if name == "pressure module" {
		return []string{string(record.GaugePressure), string(record.RigWall)}
	}
	return standin.Measures(name)
}

// bringCars starts whole cars of the demo, in one process, and lists their adapters and
// modules as instruments by the number of their case. Pages do not wait for it.
func bringCars(ctx context.Context, s *casework.Shop, self string, cases map[string]string) {
	args := []string{"standin", "--until-eof", "--addr", "127.0.0.1:0"}
	for _, n := range slices.Sorted(maps.Keys(cases)) {
		args = append(args, "--car", "demo:"+n)
	}
	cmd := exec.CommandContext(ctx, self, args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.StdoutPipe()
	if err == nil {
		_, err = cmd.StdinPipe()
	}
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		slog.Error("the cars of the demo could not be started", "error", err)
		return
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		d, ok := carInstrument(lines.Text(), cases)
		if !ok {
			continue
		}
		id, err := s.AddDevice(ctx, "", d)
		if err == nil && d.Kind == record.Module { // so that a bench offers it, before anybody has looked at it, for what it measures alone
			err = s.NoteMeasures(ctx, id, measuredBy(strings.TrimSuffix(d.Name, " "+d.For)))
		}
		if err != nil && ctx.Err() == nil {
			slog.Error("an instrument of the demo could not be listed", "error", err)
		}
	}
	_ = cmd.Wait()
}

// service is a shop to be served.
type service struct {
	addr, path string
	book       knowledge.Book
	fill       func(context.Context, *casework.Shop) error // before the first page; nil for a shop that is there
	later      func(context.Context, *casework.Shop)       // beside the first pages, until the context ends
	reach      *instrument.Dialer                          // of instruments
	out        io.Writer
}

// memoryAim is what the collector keeps the program's memory to, as long as what is in use
// allows it: garbage may pile up to as much again otherwise, and the computer in a bay has
// other things to do. It is an aim, no limit: what is needed is had.
const memoryAim = 230 << 20

// serveShop opens the shop, fills it when asked, serves until a signal comes, lets
// what is under way end, and closes the database.
func serveShop(v service) error {
	if !web.Loopback(v.addr) {
		return usage("%s is open to others; Wexter serves this computer only: use 127.0.0.1:PORT", v.addr)
	}
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryAim)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	// The address first: a taken port must not leave a new database behind.
	l, err := net.Listen("tcp", v.addr)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is taken by another program; stop that one, or choose another with --addr 127.0.0.1:8081", v.addr)
		}
		return fmt.Errorf("cannot serve on %s: %w", v.addr, err)
	}
	hold, err := store.Serve(v.path, "at http://"+l.Addr().String(), time.Now())
	if err != nil {
		return errors.Join(err, l.Close())
	}
	defer hold.Close()
	db, err := store.Open(v.path)
	if err != nil {
		l.Close()
		return err
	}
	shop := &casework.Shop{DB: db, Book: v.book, Now: time.Now}
	reach := *v.reach
	shop.Ports = reach.Ports
	hub := live.New(shop, func(ctx context.Context, d record.Device) (instrument.Instrument, error) {
		return reach.Instrument(ctx, d, nil)
	})
	var pages, beside sync.WaitGroup
	trial := &demoCar{ctx: ctx, shop: shop, beside: &beside}
	var h http.Handler
	var broken error
	pages.Go(func() { h, broken = web.New(shop, hub, reach, trial.Open) })
	if v.fill != nil {
		err = v.fill(ctx, shop)
	}
	pages.Wait()
	if err = cmp.Or(err, broken); err == nil {
		err = hub.Resume(ctx)
	}
	if err != nil {
		return errors.Join(err, l.Close(), hub.Close(), db.Close())
	}
	fmt.Fprintf(v.out, "Wexter is at http://%s\n", l.Addr())
	beside.Go(trial.resume)
	beside.Go(func() {
		db.Watch(ctx, func(err error) { slog.Error("the shop's file is not whole", "error", err) })
	})
	beside.Go(func() {
		if err := shop.Plan(ctx); err != nil && ctx.Err() == nil {
			slog.Error("what is next on the cases could not be worked out", "error", err)
		}
	})
	if v.later != nil {
		beside.Go(func() { v.later(ctx, shop) })
	}
	err = serveUntil(ctx, l, h, hub)
	if ctx.Err() != nil {
		fmt.Fprintln(v.out, "Wexter has closed the shop.")
	}
	stop()
	beside.Wait()
	return errors.Join(err, hub.Close(), db.Close())
}

// serveUntil serves until the context ends, and then lets what is under way end.
func serveUntil(ctx context.Context, l net.Listener, h http.Handler, hub *live.Hub) error {
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 2 * time.Minute, WriteTimeout: 2 * time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }()
	var err error
	select {
	case err = <-done:
	case <-ctx.Done():
		end, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		// The live benches first: their streams would keep the server from ending.
		err = errors.Join(hub.Close(), srv.Shutdown(end))
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
