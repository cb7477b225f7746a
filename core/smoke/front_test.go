package smoke_test

import (
	"math"
	"testing"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/smoke"
	"wexter/ingest"
)

func system(t *testing.T, entry string, level float64) (*smoke.Front, *plumbing.Graph) {
	t.Helper()
	b := ingest.Book()
	a, _ := b.Archetype("engine-vacuum")
	of, err := b.Plumbing.Complete(plumbing.Combination{Vapour: a.Key})
	if err != nil {
		t.Fatal(err)
	}
	g, err := b.Plumbing.Combine(of)
	if err != nil {
		t.Fatal(err)
	}
	f, err := smoke.New(smoke.Setup{Graph: g, Set: a.Settings(), Entry: entry, Far: "cap", Level: level})
	if err != nil {
		t.Fatal(err)
	}
	return f, g
}

// A canister that is swept alone fills as a mixed volume does: 1 − e^(−Qt/V) (Levenspiel, Chemical
// Reaction Engineering, 1972, value from memory); the short lines before it hardly count.
func TestFrontFillsAsAMixedVolume(t *testing.T) {
	f, g := system(t, "service-port", 0.5)
	can, _ := g.Part("canister")
	const q = 10e-3 / 60
	for s := 1.0; s <= 30; s++ {
		f.Advance(1, q, smoke.Open)
	}
	want := -math.Expm1(-q * (30 - 1.2) / can.GasVolume(0.5)) // 0.2 L of lines lie before it
	if got := f.Share("canister"); math.Abs(got-want) > 0.02 {
		t.Errorf("the canister holds %.3f of the smoke, %.3f expected", got, want)
	}
	// The tank alone, from the neck's side: the arithmetic of the trade's calculator.
	f, g = system(t, "service-port", 0.5)
	tank, _ := g.Part("tank")
	least := gas.SmokeTime(tank.GasVolume(0.5), q, smoke.Reached)
	togo := f.ToGo([]string{"tank", "cap", "vent-hose", "no-such-part"}, q, smoke.Open)
	if togo["tank"] < least || togo["tank"] > 2*least || !math.IsInf(togo["no-such-part"], 1) {
		t.Errorf("to go %v, the tank by itself %.0f s", togo, least)
	}
	for s := 0.0; s < togo["tank"]; s++ {
		f.Advance(1, q, smoke.Open)
	}
	if d := f.Share("tank"); d < 0.9*smoke.Reached || d > 1.1*smoke.Reached {
		t.Errorf("after the time to go %.3f is there", d)
	}
}

// What branches off stands still while the far end is open. Closed from the start, the far half stays
// clear for a long time.
func TestSmokeStandsStillWhereNothingFlows(t *testing.T) {
	f, _ := system(t, "service-port", 0.3)
	f.Advance(600, 10e-3/60, smoke.Open)
	if f.Share("cap") < 0.5 || f.Share("vent-hose") > 0 || f.For("vent-hose") != 0 {
		t.Errorf("cap %.2f, the branch to the vent %.2f", f.Share("cap"), f.Share("vent-hose"))
	}
	early, _ := system(t, "service-port", 0.3)
	early.Advance(300, 0.3e-3/60, smoke.Shut) // only what a leak takes
	if early.Share("tank") > 0.03 || early.Share("cap") > 0.03 {
		t.Errorf("closed from the start: tank %.3f, cap %.3f after five minutes", early.Share("tank"), early.Share("cap"))
	}
	before := early.Shares()
	for _, x := range []struct{ s, q float64 }{{math.NaN(), 1e-4}, {10, math.NaN()}, {10, math.Inf(1)}, {-5, 1e-4}, {10, -3}} {
		early.Advance(x.s, x.q, smoke.Open)
	}
	for k, v := range early.Shares() {
		if math.Abs(v-before[k]) > 1e-12 {
			t.Errorf("%s changed from %.4f to %.4f with no flow to speak of", k, before[k], v)
		}
	}
}

// What cannot be is said.
func TestFrontRefuses(t *testing.T) {
	if _, err := smoke.New(smoke.Setup{}); err == nil {
		t.Error("a car that nobody knows has a front")
	}
	_, g := system(t, "service-port", 0.3)
	if _, err := smoke.New(smoke.Setup{Graph: g, Entry: "throttle-valve-of-another-car", Far: "cap"}); err == nil {
		t.Error("smoke goes in where there is no part")
	}
}
