package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/casework"
	"wexter/core/record"
	"wexter/core/units"
)

// crowdSize is how many come, and for how long.
type crowdSize struct {
	readers, writers int
	lasts            time.Duration
}

// visits gathers how long requests took and what went wrong.
type visits struct {
	mu     sync.Mutex
	took   []time.Duration
	failed []string
}

func (v *visits) add(what string, a answer, err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	switch {
	case err != nil:
		v.failed = append(v.failed, fmt.Sprintf("%s: %v", what, err))
	case a.code >= 400:
		v.failed = append(v.failed, fmt.Sprintf("%s: %d %s", what, a.code, a.says()))
	}
	v.took = append(v.took, a.took)
}

// share is how long all but so many requests took at most, ms.
func share(took []time.Duration, of float64) float64 {
	if len(took) == 0 {
		return math.NaN()
	}
	took = slices.Clone(took)
	slices.Sort(took)
	return float64(took[min(int(of*float64(len(took))), len(took)-1)]) / 1e6
}

// figures are those of all visits; a few of the failures are printed.
func (v *visits) figures(of string, p99 float64) []figure {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, f := range v.failed[:min(len(v.failed), 5)] {
		fmt.Println("   ", f)
	}
	fmt.Printf("    %s: %d requests, median %.0f ms, nine in ten %.0f ms, longest %.0f ms\n", of, len(v.took), share(v.took, 0.5), share(v.took, 0.9), share(v.took, 1))
	return []figure{{what: of + ": errors", got: float64(len(v.failed))},
		{what: of + ": 99 in 100 answered within", got: share(v.took, 0.99), most: p99, unit: "ms"}}
}

// think waits 0.2 to 1 s; false when it is over.
func think(ctx context.Context, rng *rand.Rand) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(time.Duration(200+rng.IntN(800)) * time.Millisecond):
		return true
	}
}

// openCases are the numbers of cases that are being worked on.
func openCases(ctx context.Context, s *casework.Shop) (out []string, err error) {
	rows, err := s.Slate(ctx)
	for _, r := range rows {
		out = append(out, r.Case.ID)
	}
	return out, err
}

// reader looks at one page after another.
func reader(ctx context.Context, base string, seed int, cases []string, v *visits) {
	rng := rand.New(rand.NewPCG(uint64(seed), 1))
	b := newBrowser(base)
	for think(ctx, rng) {
		id := cases[rng.IntN(len(cases))]
		path := []string{"/", "/cases/" + id, "/cases/" + id, "/cases/" + id + "/pulse", "/cases/" + id + "/pulse", "/cases/" + id + "/map", "/record", "/book?q=smoke", "/cases/" + id + "/report", "/cases/new"}[rng.IntN(10)]
		a, err := b.get(ctx, path)
		if ctx.Err() == nil {
			v.add("GET "+path, a, err)
		}
	}
}

// writer opens a case of its own and works on it, and now and then begins another.
func writer(ctx context.Context, base string, seed int, v *visits) {
	rng := rand.New(rand.NewPCG(uint64(seed), 2))
	b := newBrowser(base)
	at := ""
	for n := 0; think(ctx, rng); n++ {
		var a answer
		var err error
		what := ""
		switch {
		case n%12 == 0:
			what = "POST /cases"
			a, err = b.post(ctx, "/cases", typedCase(fmt.Sprintf("AT %d %d", seed, n)))
			if a.to != "" {
				at = a.to
			}
		case n%3 == 1:
			what = "POST notes"
			a, err = b.upload(ctx, at+"/notes", map[string]string{"kind": "note", "words": fmt.Sprint("seen ", n)}, file{"photo", "", nil})
		case n%3 == 2:
			what = "POST observe"
			a, err = b.post(ctx, at+"/observe", url.Values{"tap": {"sign " + []string{"smell", "rough-idle"}[n%2]}})
		default:
			what = "GET case"
			a, err = b.get(ctx, at)
		}
		if ctx.Err() != nil {
			return
		}
		v.add(what, a, err)
		if a.to != "" { // as a browser does
			to, _, _ := strings.Cut(a.to, "#")
			if a, err = b.get(ctx, to); ctx.Err() == nil {
				v.add("then GET", a, err)
			}
		}
	}
}

// typedCase is a new case as the form sends it.
func typedCase(plate string) url.Values {
	return url.Values{"plate": {plate}, "make": {"Ostrel"}, "model": {"Wherry"}, "year": {"2019"}, "odometer": {"81000"}, "tank": {"50"},
		"metering": {"maf"}, "archetype": {"engine-vacuum"}, "complaint": {"Lamp on, smells of fuel."}, "codes": {"P0442"}}
}

// crowd is many who read and write at once.
func crowd(ctx context.Context, w world) ([]figure, error) {
	var cases []string
	p, _, err := w.open(ctx, func(s *casework.Shop) (err error) { cases, err = openCases(ctx, s); return err })
	if err != nil {
		return nil, err
	}
	defer p.kill()
	var seen visits
	during, end := context.WithTimeout(ctx, w.crowd.lasts)
	defer end()
	var all sync.WaitGroup
	for i := range w.crowd.readers {
		all.Go(func() { reader(during, p.base, i, cases, &seen) })
	}
	for i := range w.crowd.writers {
		all.Go(func() { writer(during, p.base, i, &seen) })
	}
	all.Wait()
	return append(seen.figures("reading and writing", 500), figure{what: "most memory", got: p.megabytes("VmHWM"), most: 300, unit: "MB"}), p.stop()
}

// bigLog is a log of 100 000 rows, as CSV: a hold through a small leak.
func bigLog() []byte {
	rng := rand.New(rand.NewPCG(3, 3))
	var b bytes.Buffer
	b.WriteString("time_s,pressure_inH2O\n")
	for i := range 100_000 {
		t := float64(i) / 100
		fmt.Fprintf(&b, "%.2f,%.3f\n", t, 13*math.Exp(-t/900)+0.016*rng.NormFloat64())
	}
	return b.Bytes()
}

// uploader starts tests on cases of its own and uploads three legs to each; a case holds
// so many readings.
func uploader(ctx context.Context, base, caseID string, log []byte, v *visits) {
	b := newBrowser(base)
	test, at := "", "/cases/"+caseID
	for n := 0; ctx.Err() == nil; n++ {
		if n > 0 && n%15 == 0 {
			a, err := b.post(ctx, "/cases", typedCase(fmt.Sprintf("UP %s %d", caseID[:4], n)))
			if ctx.Err() != nil {
				return
			}
			v.add("POST /cases", a, err)
			if at = a.to; at == "" {
				return
			}
		}
		if n%3 == 0 {
			a, err := b.post(ctx, at+"/tests", url.Values{})
			if ctx.Err() != nil {
				return
			}
			v.add("POST tests", a, err)
			if test = a.to; test == "" {
				return
			}
		}
		a, err := b.upload(ctx, test+"/legs", map[string]string{"kind": "hold"}, file{"csv", "big.csv", log})
		if ctx.Err() == nil {
			v.add("POST legs", a, err)
		}
	}
}

// neighbours is a hold that is read live beside six who upload large logs and twenty who
// write: what is shown of it must soon be on disk.
func neighbours(ctx context.Context, w world) ([]figure, error) {
	m, err := newModule()
	if err != nil {
		return nil, err
	}
	address, err := serveGauge(ctx, m)
	if err != nil {
		return nil, err
	}
	var cases []string
	test := ""
	p, _, err := w.open(ctx, func(s *casework.Shop) (err error) {
		if test, err = liveTest(ctx, s, address); err != nil {
			return err
		}
		for i := range 6 {
			id, err := s.OpenCase(ctx, "", newCase(fmt.Sprint("UP ", i)))
			if err != nil {
				return err
			}
			cases = append(cases, id)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	defer p.kill()
	h, err := beginHold(ctx, p.base, test, address)
	if err != nil {
		return nil, err
	}
	during, end := context.WithTimeout(ctx, w.crowd.lasts)
	defer end()
	var all sync.WaitGroup
	var uploads, writes visits
	log := bigLog()
	for _, id := range cases {
		all.Go(func() { uploader(during, p.base, id, log, &uploads) })
	}
	for i := range w.crowd.writers {
		all.Go(func() { writer(during, p.base, i, &writes) })
	}
	lag, err := h.follow(during)
	all.Wait()
	if err != nil {
		return nil, err
	}
	stop := h.press(ctx, url.Values{"do": {"stop"}})
	if stop.code >= 400 {
		return nil, errors.New("the hold could not be stopped: " + stop.says())
	}
	fmt.Printf("    %d readings shown, on disk within %.0f ms in the median\n", len(lag), share(lag, 0.5))
	fs := []figure{{what: "what is shown is on disk within", got: share(lag, 1), most: 500, unit: "ms"}}
	fs = append(fs, uploads.figures("uploading", math.Inf(1))...)
	fs = append(fs, writes.figures("writing", math.Inf(1))...)
	return append(fs, figure{what: "most memory", got: p.megabytes("VmHWM"), most: 400, unit: "MB"}), p.stop()
}

func newCase(plate string) casework.NewCase {
	return casework.NewCase{Plate: plate, Make: "Ostrel", Model: "Wherry", Year: 2019, TankL: 50, Metering: "maf", Archetype: "engine-vacuum", Complaint: "Lamp on."}
}

// liveTest makes a case with a test, and lists the module it will be read from.
func liveTest(ctx context.Context, s *casework.Shop, address string) (string, error) {
	id, err := s.OpenCase(ctx, "", newCase("LIVE 1"))
	if err != nil {
		return "", err
	}
	if _, err := s.AddDevice(ctx, "", casework.NewDevice{Kind: record.Module, Name: "attacked", Address: address}); err != nil {
		return "", err
	}
	test, err := s.StartTest(ctx, "", id, "")
	if err != nil {
		return "", err
	}
	return test, s.NoteGauge(ctx, test, func(su *record.Setup) {
		// So that no verdict can be firm, and the hold does not end by itself.
		su.VolumeTolerance, su.Instrument.Range = 1, 20*units.InH2O
	})
}
