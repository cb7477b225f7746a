package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// judged is what `wexter judge --json` prints. Outcome is empty when a reading is missing;
// ask then names it.
type judged struct {
	Test    string         `json:"test"`
	Outcome string         `json:"outcome"`
	Name    string         `json:"name"`
	Means   string         `json:"means"`
	Because string         `json:"because"`
	Ask     string         `json:"ask,omitempty"`
	Figures []judgedFigure `json:"figures,omitempty"`
}

type judgedFigure struct {
	Name  string  `json:"name"`
	Unit  string  `json:"unit"`
	Value float64 `json:"value"`
	Low   float64 `json:"low"`
	High  float64 `json:"high"`
}

// runJudge says what the readings of a test come to.
func runJudge(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("judge", flag.ContinueOnError)
	var which simulatedCar
	fs.StringVar(&which.archetypes, "archetype", "", "archetypes by key, joined with commas: one of each family at most; the rest is filled in")
	pages := fs.String("book", "", "a file or folder of the shop's own pages")
	test := fs.String("test", "", "the test, by key")
	part := fs.String("part", "", "the part that was tried by itself")
	asJSON := fs.Bool("json", false, "print for machines")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	b, err := bookWith(*pages, errs)
	if err != nil {
		return err
	}
	e, ok := b.Test(*test)
	if !ok {
		return usage("--test is %q; it is one of %s", *test, strings.Join(testKeys(b), ", "))
	}
	on, err := which.subject(b, e, *part)
	if err != nil {
		return err
	}
	r, err := typedReadings(e, on.Graph, words)
	if err != nil {
		return err
	}
	v, err := bench.Judge(e, on, r)
	if err != nil {
		return err
	}
	o, _ := e.Outcome(v.Outcome)
	if v.Outcome == "" {
		o = knowledge.Outcome{Name: "not yet: read on", Means: knowledge.Unclear}
	}
	if *asJSON {
		j := judged{Test: e.Key, Outcome: v.Outcome, Name: o.Name, Means: string(o.Means), Because: v.Says, Ask: v.Ask}
		for _, f := range v.Figures {
			if !math.IsInf(f.Value, 0) && !math.IsInf(f.High, 0) {
				j.Figures = append(j.Figures, judgedFigure{f.Name, f.Unit, f.Value, f.Low, f.High})
			}
		}
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		enc.SetEscapeHTML(false)
		return enc.Encode(j)
	}
	fmt.Fprintf(out, "%s: %s\n  %s\n", e.Name, o.Name, v.Says)
	if a, ok := e.Read(v.Ask); ok {
		fmt.Fprintf(out, "  give: %s=… (%s)\n", a.Key, a.Name)
	}
	return nil
}

// subject is what the test was done on.
func (s *simulatedCar) subject(b knowledge.Book, e knowledge.Test, part string) (bench.Subject, error) {
	c, err := s.combination(b)
	if err != nil {
		return bench.Subject{}, err
	}
	g, err := b.Plumbing.Combine(c)
	if err != nil {
		return bench.Subject{}, usage("%v", err)
	}
	if !e.Fits(c) {
		return bench.Subject{}, usage("the test %q is not for a car with %v", e.Key, c)
	}
	p, ok := g.Part(part)
	if part != "" && !ok {
		return bench.Subject{}, usage("this car has no part %q", part)
	}
	return bench.Subject{Of: c, Graph: g, Part: p}, nil
}

// typedReadings reads words such as pull=0.3inH2O, sealed=4of5, exits=neck:wisp,cap:stream.
func typedReadings(e knowledge.Test, g *plumbing.Graph, words []string) (bench.Readings, error) {
	t, out := bench.For(e), bench.Readings{}
	for _, w := range words {
		key, value, ok := strings.Cut(w, "=")
		c, known := t.Channel(key)
		r, _ := e.Read(key)
		switch {
		case !ok || !known:
			var keys []string
			for _, c := range t.Channels {
				keys = append(keys, c.Key)
			}
			return nil, usage("%q is no reading of the test %q; write KEY=VALUE with one of %s", w, e.Key, strings.Join(keys, ", "))
		case c.Kind == bench.Places:
			x, err := typedPlaces(g, value)
			if err != nil {
				return nil, err
			}
			out[key] = x
			continue
		}
		x, has, err := ingest.ReadChannel(c, r, []string{value})
		if err != nil {
			return nil, usage("%v", err)
		}
		if has {
			out[key] = x
		}
	}
	return out, nil
}

// typedPlaces reads parts with commas between, each with a size behind a colon and a
// question mark when it is expected there; "none" is no place at all.
func typedPlaces(g *plumbing.Graph, value string) (x bench.Reading, err error) {
	for _, w := range strings.Split(value, ",") {
		if w = strings.TrimSpace(w); w == "" || w == "none" {
			continue
		}
		p := bench.Place{}
		w, p.Expected = strings.CutSuffix(w, "?")
		p.Part, p.Size, _ = strings.Cut(w, ":")
		if _, ok := g.Part(p.Part); !ok {
			return x, usage("this car has no part %q", p.Part)
		}
		x.Places = append(x.Places, p)
	}
	return x, nil
}

func testKeys(b knowledge.Book) (out []string) {
	for _, t := range b.Tests {
		out = append(out, t.Key)
	}
	return out
}
