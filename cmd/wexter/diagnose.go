package main

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/ingest"
	"wexter/report"
)

// diagnosed is what `wexter diagnose --json` prints.
type diagnosed struct {
	Archetypes string           `json:"archetypes"`
	Suspects   []diagnosedOdds  `json:"suspects"`
	Parts      []diagnosedOdds  `json:"parts"`
	Next       []diagnosedNext  `json:"next"`
	Renew      []diagnosedSwap  `json:"renew"`
	Clashes    []diagnosedClash `json:"contradictions"`
	LeftOut    []string         `json:"left_out"`
	Without    []diagnosedBuy   `json:"would_help"`
}

type diagnosedOdds struct {
	Fault       string  `json:"fault"`
	Name        string  `json:"name"`
	Probability float64 `json:"probability"`
}

type diagnosedNext struct {
	Kind     string             `json:"kind"`            // test, replace, ask, wait, drive or stop
	Test     string             `json:"test"`            // empty but for tests
	Fault    string             `json:"fault,omitempty"` // of a part to replace
	Sign     string             `json:"sign,omitempty"`  // of a question
	Name     string             `json:"name"`
	Part     string             `json:"part,omitempty"`
	Plug     string             `json:"plug,omitempty"`
	Entry    string             `json:"entry,omitempty"` // of smoke
	Cost     float64            `json:"cost"`            // expected until the car is fixed, this move included, in minutes and what is worth them
	Minutes  float64            `json:"minutes"`         // of work
	Money    float64            `json:"money"`           // for parts
	Currency string             `json:"currency"`
	WaitDays int                `json:"wait_days"`
	Bits     float64            `json:"bits"`
	Why      string             `json:"why"`
	Out      []diagnosedOutcome `json:"outcomes,omitempty"`
}

type diagnosedOutcome struct {
	Outcome     string  `json:"outcome"`
	Probability float64 `json:"probability"`
}

type diagnosedSwap struct {
	Fault     string  `json:"fault"`
	Cost      float64 `json:"cost"`
	BreakEven float64 `json:"break_even"`
}

type diagnosedClash struct {
	First  string  `json:"first"`
	Second string  `json:"second"`
	Rarer  float64 `json:"rarer"`
}

type diagnosedBuy struct {
	Kit   string  `json:"kit"`
	Saves float64 `json:"saves_minutes"`
	worth string  // the same in money
}

// runDiagnose weighs what is known of a car and ranks what may be done next.
func runDiagnose(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("diagnose", flag.ContinueOnError)
	kit := fs.String("kit", "", "the kit at hand, by key with commas between; without it that of the case, or all")
	asJSON := fs.Bool("json", false, "print for machines")
	pages := fs.String("book", "", "a file or folder of the shop's own pages of the Book")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) != 1 {
		return usage("one case file, or one bundle, is needed; - reads standard input")
	}
	b, err := ingest.BookWith(*pages)
	if err != nil {
		return err
	}
	bay := diagnose.Bay{}
	if *kit != "" {
		if bay.Kit, err = ingest.ReadKit(b, *kit); err != nil {
			return usage("--kit: %v", err)
		}
	}
	const most = 256 << 20
	data, err := readAll(words[0], most)
	if err != nil {
		return err
	}
	if len(data) > most {
		return fmt.Errorf("%s is larger than 256 MB", words[0])
	}
	st, bay, left, err := thinkOf(b, data, bay)
	if err != nil {
		return fmt.Errorf("%s: %w", words[0], err)
	}
	d := diagnosedOf(st, bay, left)
	if *asJSON {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(d)
	}
	d.print(out)
	return nil
}

// diagnosedOf is what is thought of a car, and what may be done next, as it is printed.
func diagnosedOf(st *diagnose.State, bay diagnose.Bay, left []diagnose.Silent) diagnosed {
	d := diagnosed{Archetypes: st.Of.String(), LeftOut: []string{}, Clashes: []diagnosedClash{}, Without: []diagnosedBuy{}, Renew: []diagnosedSwap{}, Next: []diagnosedNext{}}
	for _, e := range st.Explanations() {
		d.Suspects = append(d.Suspects, diagnosedOdds{e.Key, e.Name, e.Odds})
	}
	marg := st.Marginals()
	for i, s := range st.Suspects {
		d.Parts = append(d.Parts, diagnosedOdds{s.Key, s.Name, marg[i]})
	}
	slices.SortStableFunc(d.Parts, func(a, b diagnosedOdds) int { return cmp.Compare(b.Probability, a.Probability) })
	clashes := st.Clashes()
	bay.Doubts = diagnose.Doubts(clashes)
	plan := st.Next(bay)
	for _, m := range plan.Moves {
		d.Next = append(d.Next, nextOf(m, bay))
	}
	for _, s := range plan.Swaps {
		d.Renew = append(d.Renew, diagnosedSwap{s.Fault, tenth(s.Expect), math.Round(s.BreakEven*100) / 100})
	}
	for _, x := range clashes {
		d.Clashes = append(d.Clashes, diagnosedClash{x.First.Says, x.Second.Says, tenth(x.Against)})
	}
	for _, x := range append(left, st.Silent...) {
		d.LeftOut = append(d.LeftOut, x.Says+": "+x.Why)
	}
	for _, x := range plan.Buy {
		d.Without = append(d.Without, diagnosedBuy{x.Kit, tenth(x.Saves), bay.Worth(x.Saves)})
	}
	return d
}

// print prints for people: the likeliest, and the first few things to do.
func (d *diagnosed) print(out io.Writer) {
	fmt.Fprintf(out, "a car with %s\n\nodds\n", d.Archetypes)
	for i, x := range d.Suspects {
		if i < 10 && x.Probability >= 0.005 {
			fmt.Fprintf(out, "  %5.1f %%  %-34s %s\n", 100*x.Probability, x.Fault, x.Name)
		}
	}
	for _, x := range d.Clashes {
		fmt.Fprintf(out, "\ncontradiction: %s, and %s: repeat the cheaper one\n", x.First, x.Second)
	}
	if len(d.Parts) > 0 && slices.ContainsFunc(d.Suspects[:min(len(d.Suspects), 10)], func(x diagnosedOdds) bool { return strings.Contains(x.Fault, "+") && x.Probability >= 0.005 }) {
		fmt.Fprintf(out, "\nodds of a part, alone or with another\n")
		for i, x := range d.Parts {
			if i < 6 && x.Probability >= 0.005 {
				fmt.Fprintf(out, "  %5.1f %%  %-34s %s\n", 100*x.Probability, x.Fault, x.Name)
			}
		}
	}
	fmt.Fprintf(out, "\nnext\n")
	for i, n := range d.Next {
		if i < 6 {
			n.print(out)
		}
	}
	for i, x := range d.Renew {
		if i < 2 {
			pays := "no test at hand proves it for less; see the part yourself first"
			if x.BreakEven > 0 {
				pays = fmt.Sprintf("cheaper than testing only above %.0f %%", 100*x.BreakEven)
			}
			fmt.Fprintf(out, "or replace without testing: %s, %s\n", x.Fault, pays)
		}
	}
	for _, x := range d.Without {
		fmt.Fprintf(out, "would help: %s, saves work, parts and waiting worth some %s\n", x.Kit, x.worth)
	}
	for _, x := range d.LeftOut {
		fmt.Fprintf(out, "left out: %s\n", x)
	}
}

// nextOf is a move as it is printed.
func nextOf(m diagnose.Move, bay diagnose.Bay) diagnosedNext {
	n := diagnosedNext{Kind: string(m.Kind), Fault: m.Fault, Sign: m.Sign, Name: m.Name, Cost: tenth(m.Expect), Minutes: tenth(m.Minutes), Money: tenth(m.Money),
		Currency: cmp.Or(bay.Currency, diagnose.UsualCurrency), WaitDays: m.Days, Why: m.Why}
	a := m.Action
	if a == nil {
		return n
	}
	n.Test, n.Part, n.Plug, n.Bits = a.Test, a.Part, a.Plug, math.Round(a.Bits*1000)/1000
	if m.Kind != diagnose.ToTest {
		n.Test = ""
	}
	for _, w := range []string{a.First, a.Repeat} {
		if w != "" {
			n.Why = w + " " + n.Why
		}
	}
	if b, _ := bench.Of(a.Test); b.Odds == bench.FromSmoke {
		n.Entry = a.Entry
	}
	for _, o := range a.Out {
		n.Out = append(n.Out, diagnosedOutcome{o.Key, math.Round(o.Odds*1e4) / 1e4})
	}
	return n
}

// print writes a move in two lines: what it is and what it takes, and why.
func (n diagnosedNext) print(out io.Writer) {
	at := n.Part
	switch {
	case n.Plug != "":
		at = "plug " + n.Plug
	case n.Entry != "":
		at = "in at " + n.Entry
	case n.Kind != string(diagnose.ToTest):
		at = cmp.Or(n.Fault, n.Sign)
	}
	fmt.Fprintf(out, "  %-18s %-18s %s\n      %s\n", cmp.Or(n.Test, n.Kind), at, n.takes(), n.Why)
}

// takes says what a move takes: work, then money, then days of waiting.
func (n diagnosedNext) takes() string {
	s := fmt.Sprintf("%.0f min", n.Minutes)
	if n.Money > 0 {
		s += fmt.Sprintf(" and %.0f %s", n.Money, n.Currency)
	}
	switch {
	case n.WaitDays == 0:
	case n.Fault == "":
		s += ", overnight"
	case n.WaitDays == 1:
		s += ", part in a day"
	default:
		s += fmt.Sprintf(", part in %d days", n.WaitDays)
	}
	return s
}

func tenth(x float64) float64 { return math.Round(x*10) / 10 }

// thinkOf weighs a case file or a bundle.
func thinkOf(b knowledge.Book, data []byte, bay diagnose.Bay) (*diagnose.State, diagnose.Bay, []diagnose.Silent, error) {
	var head struct {
		Schema string `json:"schema"`
	}
	if json.Unmarshal(data, &head) == nil && strings.HasPrefix(head.Schema, "wexter-case/") {
		bundle, err := report.ReadBundle(data)
		if err != nil {
			return nil, bay, nil, err
		}
		s := &casework.Shop{Book: b, Now: time.Now}
		st, kit, left, err := s.ThinkOfBundle(bundle)
		if bay.Kit == nil {
			bay.Kit = kit
		}
		return st, bay, left, err
	}
	f, car, h, err := ingest.ReadCase(b, data)
	if err != nil {
		return nil, bay, nil, err
	}
	if bay.Kit == nil && len(f.Kit) > 0 {
		bay.Kit = f.Kit
	}
	m, err := diagnose.New(b, ingest.Table(), car)
	if err != nil {
		return nil, bay, nil, err
	}
	st, err := m.Think(h)
	return st, bay, nil, err
}
