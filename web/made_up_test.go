package web_test

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/ingest"
)

// tapOnTheVent is a test that nobody has: this file and the page below are all of it.
var tapOnTheVent = bench.Register(bench.Test{
	Key:  "made-up-tap",
	On:   bench.OnePart,
	Odds: bench.FromPlant,
	Channels: []bench.Channel{
		{Key: "coil", Unit: "ohm", Low: 0, High: 1e9, Sense: bench.CoilOhms, Open: true},
		{Key: "budges", Kind: bench.Choice, Words: []string{"moves", "still"}, Sense: bench.PartMoves},
	},
	Phases: []bench.Phase{{Do: []bench.Step{{Do: bench.KeyOn}}, For: 5, Read: []string{"coil", "budges"}}},
	Tries: func(t bench.Target) string {
		if t.Named("made-up-tap") {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ bench.Subject, r bench.Readings) bench.Verdict {
		switch r.Word("budges") {
		case "moves":
			return bench.Verdict{Outcome: "lively", Says: "It budges."}
		case "still":
			return bench.Verdict{Outcome: "numb", Says: "It does not budge."}
		}
		return bench.Verdict{Ask: "budges", Says: "Does it budge when it is tapped?"}
	},
})

const madeUpPage = `
faults:
  - key: made-up-bent-pin
    family: vapour
    name: "A pin of the vent valve bent"
    place: "its connector"
    carries: [vent-valve]
    weight: 3
    changes: [{param: resistance, from: 20, to: 5000}]
    sets: {vent-circuit: 0.6}
    order: "connector"
    minutes: 10
    cost: a
    tests: [made-up-tap]
tests:
  - key: made-up-tap
    name: "A tap on the vent valve"
    families: [vapour]
    purpose: "Does it budge?"
    kit: [eyes]
    access: "canister"
    minutes: 3
    hazard: 1
    setup: [{do: "Key on.", why: ""}]
    steps: ["Tap it with a knuckle while it is commanded."]
    reads:
      - {key: coil, name: "coil", unit: ohm}
      - {key: budges, name: "when tapped it", words: [{key: moves, name: "budges"}, {key: still, name: "stays"}]}
    splits: "Stays: its circuit."
    outcomes:
      - {key: lively, name: "budges", means: sound, proves: true}
      - {key: numb, name: "stays", means: fault, singles: true}
    cautions: [vapour]
`

// madeUp is the Book with the made-up page, and the table with the rows that it adds on the
// plainest car; all of them take longer than they tell.
func madeUp(t *testing.T) (knowledge.Book, *diagnose.Table) {
	t.Helper()
	page := filepath.Join(t.TempDir(), "page.yaml")
	if err := os.WriteFile(page, []byte(madeUpPage), 0o600); err != nil {
		t.Fatal(err)
	}
	book, err := ingest.BookWith(page)
	if err != nil {
		t.Fatal(err)
	}
	if len(book.Warnings) > 0 {
		t.Errorf("warned: %v", book.Warnings)
	}
	rows, err := ingest.ReadReadings(ingest.ReadingsFile())
	if err != nil {
		t.Fatal(err)
	}
	want, err := diagnose.Wanted(book)
	if err != nil {
		t.Fatal(err)
	}
	asked := 0
	for _, w := range want {
		if w.Test != tapOnTheVent.Key || w.Car.Vapour != "engine-vacuum" || w.Car.Engine != "na-maf" {
			continue
		}
		r, err := diagnose.Fill(book, w)
		if err != nil {
			t.Fatal(err)
		}
		rows, asked = append(rows, r), asked+1
	}
	if asked < len(diagnose.Severities)+1 {
		t.Fatalf("only %d rows are wanted of the new test", asked)
	}
	table, err := diagnose.NewTable(book, rows)
	if err != nil {
		t.Fatal(err)
	}
	return book, table
}

// A new test is one file and one entry, a new fault one entry, with rows asked of the plant:
// then both go through simulation, odds, plan, page, Strip, found and proof.
func TestAMadeUpTestAndFault(t *testing.T) {
	book, table := madeUp(t)
	simulated(t, book)

	b := start(t, false)
	b.shop.Book, b.shop.Table = book, table
	c := coded(b, "P0449")
	id := strings.TrimPrefix(c, "/cases/")
	odds := func() float64 {
		f, err := b.shop.Load(context.Background(), id)
		if err != nil {
			t.Fatal(err)
		}
		th, err := b.shop.Think(context.Background(), f)
		if err != nil {
			t.Fatal(err)
		}
		offered := func(a diagnose.Action) bool { return a.Test == tapOnTheVent.Key && a.Part == "vent-valve" }
		if len(f.Results) == 0 && !slices.ContainsFunc(slices.Concat(th.Plan.Actions, th.Plan.Without), offered) {
			t.Error("the new test is not offered")
		}
		return th.State.Odds("made-up-bent-pin")
	}
	before := odds()
	do := c + "/do/made-up-tap"
	if code, body := b.get(do + "?on=vent-valve"); code != 200 || !strings.Contains(body, "when tapped it") || !strings.Contains(body, "Key on, engine off") {
		t.Errorf("its page: %d", code)
	}
	if code, body, _ := b.post(do, b.fill(do, "on", "vent-valve", "read-coil-0", "2,2 kΩ")); code != 422 || !strings.Contains(body, "Does it budge when it is tapped?") {
		t.Errorf("without its reading: %d", code)
	}
	code, body, at := b.post(do, b.fill(do, "on", "vent-valve", "read-coil-0", "2,2 kΩ", "read-budges-0", "still"))
	if code != 200 || at != c || !strings.Contains(body, "It does not budge.") || !strings.Contains(body, "foundoffer") && odds() < 0.5 {
		t.Errorf("%d at %s", code, at)
	}
	if after := odds(); after < 2*before {
		t.Errorf("the new fault goes from %.3f to %.3f", before, after)
	}
	f, _ := b.shop.Load(context.Background(), id)
	car, err := b.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		t.Fatal(err)
	}
	if on := car.RestsOn(f, "made-up-bent-pin", odds()); len(on) != 1 {
		t.Errorf("it rests on %q", on)
	}
	if p := f.Proof(book); p.Before == nil || p.Before.Test.Key != tapOnTheVent.Key || !p.Before.CanProve() {
		t.Errorf("what is to be repeated: %+v", p.Before)
	}
}

// simulated does the new test on a sound car and on one with the new fault.
func simulated(t *testing.T, book knowledge.Book) {
	t.Helper()
	of, err := book.Plumbing.Complete(plumbing.Combination{})
	if err != nil {
		t.Fatal(err)
	}
	e, _ := book.Test(tapOnTheVent.Key)
	for want, ohms := range map[string]float64{"lively": 0, "numb": 900} {
		c, err := sim.NewCar(book.Plumbing, of, nil, sim.Conditions{})
		if err != nil {
			t.Fatal(err)
		}
		if err := c.Apply(plumbing.Defect{Part: "vent-valve", Param: "resistance", Value: ohms}); err != nil {
			t.Fatal(err)
		}
		tr, err := sim.Try(c, book, e.Key, "vent-valve")
		if err != nil {
			t.Fatal(err)
		}
		if v, err := bench.Judge(e, tr.On, tr.Readings); err != nil || v.Outcome != want {
			t.Errorf("simulated with %g ohm it is %q, %v: %v", ohms, v.Outcome, err, tr.Readings)
		}
	}
}
