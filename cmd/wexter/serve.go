package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"wexter/casework"
	"wexter/demo"
	"wexter/ingest"
	"wexter/store"
	"wexter/web"
)

func serve(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("serve", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:8080", "address to serve on")
	db := fs.String("db", "wexter.db", "the shop's file")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	return serveShop(*addr, *db, nil, out)
}

func serveDemo(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("demo", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:8080", "address to serve on")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	dir, err := os.MkdirTemp("", "wexter-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	return serveShop(*addr, filepath.Join(dir, "demo.db"), demo.Fill, out)
}

// serveShop opens the shop, fills it when asked, serves until a signal comes, lets
// what is under way end, and closes the database.
func serveShop(addr, path string, fill func(context.Context, *casework.Shop) error, out io.Writer) error {
	if !web.Loopback(addr) {
		return usage("%s is open to others; Wexter serves this computer only: use 127.0.0.1:PORT", addr)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	// The address first: a taken port must not leave a new database behind.
	l, err := net.Listen("tcp", addr)
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is taken by another program; stop that one, or choose another with --addr 127.0.0.1:8081", addr)
		}
		return fmt.Errorf("cannot serve on %s: %w", addr, err)
	}
	db, err := store.Open(path)
	if err != nil {
		l.Close()
		return err
	}
	shop := &casework.Shop{DB: db, Book: ingest.Book(), Now: time.Now}
	if fill != nil {
		if err := fill(ctx, shop); err != nil {
			return errors.Join(err, l.Close(), db.Close())
		}
	}
	h, err := web.New(shop)
	if err != nil {
		return errors.Join(err, l.Close(), db.Close())
	}
	srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 2 * time.Minute, WriteTimeout: 2 * time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	fmt.Fprintf(out, "Wexter is at http://%s\n", l.Addr())
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }()
	select {
	case err = <-done:
	case <-ctx.Done():
		end, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		err = srv.Shutdown(end)
		fmt.Fprintln(out, "Wexter has closed the shop.")
	}
	if errors.Is(err, http.ErrServerClosed) {
		err = nil
	}
	return errors.Join(err, db.Close())
}
