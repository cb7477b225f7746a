package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"wexter/core/sim"
	"wexter/core/units"
	"wexter/instrument"
	"wexter/standin"
)

// newModule is a simulated module on a system with a leak at the limit.
func newModule() (*standin.Module, error) {
	return standin.NewModule(sim.Vessel{Volume: 0.033, Leak: 0.5e-3}, standin.Model{Name: "attacked", Range: 20 * units.InH2O, Resolution: 2.5, Noise: 3, Rate: 10, Speed: 1, Seed: 4})
}

// serveGauge serves a gauge until the context ends, and returns its address.
func serveGauge(ctx context.Context, g standin.Gauge) (string, error) {
	l, err := instrument.Listen("127.0.0.1:0")
	if err != nil {
		return "", err
	}
	go func() { _ = standin.Serve(ctx, l, g) }()
	return l.Addr().String(), nil
}

// hold is a leg that is read live, as a page sees it.
type hold struct {
	b    *browser
	test string
}

// press presses a button of the bench.
func (h hold) press(ctx context.Context, fields url.Values) answer {
	a, err := h.b.post(ctx, "/tests/"+h.test+"/live", fields)
	if err != nil {
		return answer{code: 599, body: err.Error()}
	}
	return a
}

// beginHold takes the module and starts a hold, as soon as it measures.
func beginHold(ctx context.Context, base, test, address string) (hold, error) {
	h := hold{newBrowser(base), test}
	if a := h.press(ctx, url.Values{"do": {"join"}, "module": {address}}); a.code != http.StatusSeeOther {
		return h, fmt.Errorf("the module is not taken: %d %s", a.code, a.says())
	}
	var a answer
	for range 100 {
		if a = h.press(ctx, url.Values{"do": {"start"}, "leg": {"hold"}}); a.code < 300 {
			return h, nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return h, fmt.Errorf("no hold is begun: %d %s", a.code, a.says())
}

// news is what a page is told of a bench.
type news struct {
	View *struct {
		Status string `json:"status"`
		Said   string `json:"said"`
		Leg    string `json:"leg"`
		Disk   string `json:"disk"`
		Gaps   []any  `json:"gaps"`
	} `json:"view"`
	Points *struct {
		T []float64 `json:"t"`
	} `json:"points"`
	Now  *struct{ At float64 } `json:"now"`
	Disk float64               `json:"disk"`
}

// stream calls f with all that the bench tells, until the context ends or f says so.
func (h hold) stream(ctx context.Context, f func(news) (goOn bool)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, h.b.base+"/tests/"+h.test+"/live/stream", nil)
	if err != nil {
		return err
	}
	res, err := (&http.Client{Jar: h.b.http.Jar}).Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 8<<20)
	for lines.Scan() {
		text, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var n news
		if err := json.Unmarshal([]byte(text), &n); err != nil {
			return err
		}
		if !f(n) {
			return nil
		}
	}
	if ctx.Err() != nil {
		return nil
	}
	return errors.Join(errors.New("the stream has ended"), lines.Err())
}

// follow looks on, and returns how long each reading that was shown took to be on disk.
func (h hold) follow(ctx context.Context) (lag []time.Duration, err error) {
	type shown struct {
		t  float64
		at time.Time
	}
	var waiting []shown
	err = h.stream(ctx, func(n news) bool {
		now := time.Now()
		if n.Points != nil {
			for _, t := range n.Points.T {
				waiting = append(waiting, shown{t, now})
			}
		}
		for len(waiting) > 0 && waiting[0].t <= n.Disk+1e-3 {
			lag = append(lag, now.Sub(waiting[0].at))
			waiting = waiting[1:]
		}
		return true
	})
	for _, s := range waiting { // still not on disk
		lag = append(lag, time.Since(s.at))
	}
	if err == nil && len(lag) < 20 {
		err = fmt.Errorf("only %d readings were shown", len(lag))
	}
	return lag, err
}
