package main

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"math"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"wexter/casework"
	"wexter/instrument"
)

// rogue is a module that sends what it should not. It reads a pressure that falls by 1 Pa/s
// from 3000 Pa; nothing else may ever be kept of it.
type rogue struct {
	mode  atomic.Int32
	began time.Time
}

// What the rogue does.
const (
	honest   = iota
	nonsense // a bad line beside each good one
	faults   // 500 a second, and no reading
)

var nonsenses = []string{`{"t":%.3f}`, `{"t":%.3f,"pa":null}`, `{"t":%.3f,"pa":"low"}`, `{"t":%.3f,"pa":1e999}`, `{"t":%.3f,"pa":-9000}`, `{"pa":1}%.0s`, `pa=0 %.3f`, `{"t":1,"pa":0}%.0s`, `{"t":9e9,"pa":0}%.0s`, `{"t":%.3f,"fault":"loose"}`}

func (m *rogue) truth(t float64) float64 { return 3000 - t }

// serve speaks to whoever connects, until the context ends.
func (m *rogue) serve(ctx context.Context) (address string, err error) {
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		return "", err
	}
	m.began = time.Now()
	go func() { <-ctx.Done(); l.Close() }()
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go m.speak(ctx, conn)
		}
	}()
	return l.Addr().String(), nil
}

func (m *rogue) speak(ctx context.Context, conn net.Conn) {
	defer conn.Close()
	_, err := fmt.Fprintln(conn, `{"protocol":1,"name":"rogue","serial":"R1","session":"one","range_pa":5000,"resolution_pa":2.5,"rate_hz":10}`)
	tick := time.NewTicker(2 * time.Millisecond)
	defer tick.Stop()
	for n := 0; err == nil; n++ {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		t := time.Since(m.began).Seconds() + 1
		mode := m.mode.Load()
		switch {
		case mode == faults:
			_, err = fmt.Fprintf(conn, "{\"t\":%.3f,\"fault\":\"fault %d\"}\n", t, n)
		case n%50 == 0:
			_, err = fmt.Fprintf(conn, "{\"n\":%d,\"t\":%.4f,\"pa\":%.2f}\n", n, t, m.truth(t))
		case mode == nonsense && n%500 == 25:
			_, err = fmt.Fprintf(conn, nonsenses[n/500%len(nonsenses)]+"\n", t)
		}
	}
}

// module is a hold that is read from a rogue: nonsense for a while, then nothing but
// faults, and then it is stopped.
func module(ctx context.Context, w world) ([]figure, error) {
	m := &rogue{}
	address, err := m.serve(ctx)
	if err != nil {
		return nil, err
	}
	test := ""
	p, _, err := w.open(ctx, func(s *casework.Shop) (err error) { test, err = liveTest(ctx, s, address); return err })
	if err != nil {
		return nil, err
	}
	defer p.kill()
	h, err := beginHold(ctx, p.base, test, address)
	if err != nil {
		return nil, err
	}
	time.Sleep(5 * time.Second)
	m.mode.Store(nonsense)
	time.Sleep(20 * time.Second) // two of each
	m.mode.Store(faults)
	time.Sleep(5 * time.Second)
	lit := 0
	if err := h.stream(ctx, counting(20, func(n news) {
		if n.Now != nil {
			lit++
		}
	})); err != nil {
		return nil, err
	}
	stop := h.press(ctx, url.Values{"do": {"stop"}})
	if stop.code != http.StatusNoContent {
		return nil, fmt.Errorf("it cannot be stopped: %d %s", stop.code, stop.says())
	}
	kept, wrong, err := h.kept(ctx, m.truth)
	if err != nil {
		return nil, err
	}
	bench, err := h.b.get(ctx, "/tests/"+test)
	if err != nil {
		return nil, err
	}
	fmt.Printf("    %d readings kept, %d gaps told of\n", kept, strings.Count(bench.body, "nothing was read"))
	return []figure{{what: "readings kept that the module did not read", got: float64(wrong)},
		{what: "gaps told of on the bench", got: float64(strings.Count(bench.body, "nothing was read")), most: 10, least: true},
		{what: "looks at which a figure stood while it only sent faults", got: float64(lit)},
		{what: "stopping answers within", got: float64(stop.took) / 1e6, most: 1000, unit: "ms"}}, p.stop()
}

// counting calls f with the next so many news.
func counting(n int, f func(news)) func(news) bool {
	return func(x news) bool {
		f(x)
		n--
		return n > 0
	}
}

var csvLink = regexp.MustCompile(`/runs/[0-9a-f-]+/readings\.csv`)

// kept reads back what was kept of a run, and counts what is not true. The origin of its
// time is not known from outside: of all readings it must be the same.
func (h hold) kept(ctx context.Context, truth func(t float64) float64) (n, wrong int, err error) {
	page, err := h.b.get(ctx, "/tests/"+h.test)
	if err != nil {
		return 0, 0, err
	}
	link := csvLink.FindString(page.body)
	if link == "" {
		return 0, 0, errors.New("the bench links to no readings")
	}
	log, err := h.b.get(ctx, link)
	if err != nil {
		return 0, 0, err
	}
	rows, err := csv.NewReader(strings.NewReader(log.body)).ReadAll()
	if err != nil || len(rows) < 10 {
		return 0, 0, fmt.Errorf("%d rows came back: %w", len(rows), err)
	}
	origin := math.NaN()
	for _, r := range rows[1:] {
		t, terr := strconv.ParseFloat(r[0], 64)
		p, perr := strconv.ParseFloat(r[1], 64)
		if terr != nil || perr != nil {
			wrong++
			continue
		}
		if math.IsNaN(origin) {
			origin = truth(t) - p
		}
		if math.Abs(truth(t)-origin-p) > 0.5 {
			wrong++
		}
	}
	return len(rows) - 1, wrong, nil
}
