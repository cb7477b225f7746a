package diagnose_test

import (
	"fmt"
	"os"
	"testing"
	"time"

	. "wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/ingest"
)

func TestTry(t *testing.T) {
	data, err := os.ReadFile("/tmp/readings.csv")
	if err != nil {
		t.Skip()
	}
	rows, err := ingest.ReadReadings(data)
	if err != nil {
		t.Fatal(err)
	}
	s := time.Now()
	tab := NewTable(rows)
	fmt.Println(len(rows), "table", time.Since(s))
	b := ingest.Book()
	full, err := b.Plumbing.Complete(plumbing.Combination{Engine: "na-maf", Vapour: "engine-vacuum"})
	if err != nil {
		t.Fatal(err)
	}
	g, err := b.Plumbing.Combine(full)
	if err != nil {
		t.Fatal(err)
	}
	s = time.Now()
	m, err := New(b, tab, Car{Of: full, Graph: g, Age: 8, Km: 120e3})
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println(len(m.Suspects), time.Since(s))
	a, _ := b.Archetype("engine-vacuum")
	h := History{{Evidence: []Evidence{{Kind: Scanned, Codes: []string{"P0442"}, Ran: []string{"fuel", "components"}, Before: true, Says: "codes"}, {Kind: Context, Key: "axle-work", Says: "axle work"},
		{Kind: Held, Curve: Measured(0.66e-3, 0.62e-3, 0.7e-3), Entry: a.Entry, Set: a.Settings(), Says: "hold"}}}}
	s = time.Now()
	st, err := m.Think(h)
	if err != nil {
		t.Fatal(err)
	}
	fmt.Println("think", time.Since(s))
	for i, e := range st.Explanations() {
		if i < 14 {
			fmt.Printf("%5.1f %% %s\n", 100*e.Odds, e.Key)
		}
	}
	s = time.Now()
	p := st.Next(Bay{})
	fmt.Println("next", time.Since(s), "now", p.Now)
	for i, a := range p.Actions {
		if i < 12 {
			fmt.Printf("%6.0f %5.1f min %5.0f cost %4.2f bits %s | %s\n", a.Expect, a.Minutes, a.Cost, a.Bits, a.Name, a.Why)
			for _, o := range a.Out {
				fmt.Printf("        %s %.2f -> %s %.2f\n", o.Name, o.Odds, o.Best, o.BestOdds)
			}
		}
	}
	for i, x := range p.Swaps {
		if i < 4 {
			fmt.Printf("swap %s %.2f cost %.0f expect %.0f breakeven %.2f by %s\n", x.Name, x.Odds, x.Cost, x.Expect, x.BreakEven, x.Prove)
		}
	}
	w, err := st.Why("quick-connect")
	fmt.Println(w, err)
	fmt.Println(st.Clashes())
}
