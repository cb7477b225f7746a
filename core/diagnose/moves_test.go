package diagnose_test

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// moved is by how much a piece of evidence moves the odds: half the sum of what every
// explanation gains or loses; zero also when it is left out.
func moved(t *testing.T, m *diagnose.Model, e ...diagnose.Evidence) float64 {
	t.Helper()
	before, after := map[string]float64{}, 0.0
	for _, x := range think(t, m).Explanations() {
		before[x.Key] = x.Odds
	}
	s, err := m.Think(diagnose.History{{Evidence: e}})
	if err != nil {
		t.Errorf("%v: %v", e, err)
		return 0
	}
	for _, x := range s.Explanations() {
		after += math.Abs(x.Odds-before[x.Key]) / 2
	}
	return after
}

// everyArchetype is a few cars that have every archetype between them.
func everyArchetype(t *testing.T) (out []*diagnose.Model) {
	t.Helper()
	lib := ingest.Book().Plumbing
	done := map[string]bool{}
	for _, family := range plumbing.Families {
		for _, a := range lib.Family(family) {
			if done[a.Key] {
				continue
			}
			m := model(t, plumbing.Combination{}.With(family, a.Key))
			for _, f := range plumbing.Families {
				done[m.Of.Of(f)] = true
			}
			out = append(out, m)
		}
	}
	return out
}

// Every code that the unit of an archetype may set moves the odds there.
func TestEveryCodeMoves(t *testing.T) {
	for _, m := range everyArchetype(t) {
		t.Run(m.Of.String(), func(t *testing.T) {
			for _, g := range m.Book.Groups {
				if !g.Sets(m.Of) {
					continue
				}
				for _, c := range g.Codes {
					if d := moved(t, m, diagnose.Evidence{ID: c, Kind: diagnose.Scanned, Codes: []string{c}, Before: true}); d < 0.01 {
						t.Errorf("%s (%s) moves %.4f", c, g.Name, d)
					}
				}
			}
			if a, _ := m.Book.Plumbing.Find(m.Of.Vapour); a.Monitor != "" {
				for _, s := range m.Book.Sizes {
					if d := moved(t, m, diagnose.Evidence{ID: s.Key, Kind: diagnose.Scanned, Codes: s.Codes, Before: true}); d < 0.1 {
						t.Errorf("%v moves %.4f", s.Codes, d)
					}
				}
			}
		})
	}
}

// Every outcome that a test can be given, and every sign, moves the odds on a car that can
// have it, or its entry says why it does not.
func TestEveryObservationMoves(t *testing.T) {
	b := ingest.Book()
	cars := everyArchetype(t)
	most := map[string]float64{}
	const enough = 0.01
	for _, m := range cars {
		for _, s := range b.Signs {
			k := "sign " + s.Key
			if most[k] > enough {
				continue
			}
			most[k] = math.Max(most[k], moved(t, m, diagnose.Evidence{ID: s.Key, Kind: diagnose.Signed, Key: s.Key}))
		}
		for _, test := range b.Tests {
			if !test.Fits(m.Of) {
				continue
			}
			bt := bench.For(test)
			parts := []string{""}
			if bt.On == bench.OnePart {
				parts = nil
				for _, s := range m.Suspects {
					if p := diagnose.Target(m.Graph, s.Fault, s.Part, test.Key); p != "" && !slices.Contains(parts, p) {
						parts = append(parts, p)
					}
				}
			}
			arch, _ := b.Archetype(m.Of.Vapour)
			for _, part := range parts {
				for _, o := range test.Outcomes {
					k := fmt.Sprint(test.Key, " ", o.Key)
					if most[k] > enough {
						continue
					}
					ev := diagnose.Evidence{ID: k, Kind: diagnose.Done, Test: test.Key, Part: part, Outcome: o.Key}
					if bt.On == bench.SealedSystem {
						if arch.Entry == "" {
							continue
						}
						ev.Entry, ev.Set = arch.Entry, arch.Settings()
					}
					if bt.ByPlace == o.Key && bt.ByPlace != "" {
						for _, s := range m.Suspects {
							if most[k] > enough {
								break
							}
							ev.Outcome = o.Key + ":" + s.Part
							if _, err := m.Think(diagnose.History{{Evidence: []diagnose.Evidence{ev}}}); err == nil {
								most[k] = math.Max(most[k], moved(t, m, ev))
							}
						}
						continue
					}
					if o.Nothing != "" {
						if s, err := m.Think(diagnose.History{{Evidence: []diagnose.Evidence{ev}}}); err != nil || len(s.Silent) != 1 || !strings.Contains(s.Silent[0].Why, o.Nothing) {
							t.Errorf("%s is not said to change nothing: %v", k, err)
						}
						most[k] = 0
						continue
					}
					if bt.Odds == bench.FromHole || bt.Odds == bench.FromFlow {
						continue // weighed by their figures
					}
					if bt.Odds == bench.FromSmoke {
						if _, ok := m.Graph.Part(arch.Entry); !ok {
							continue
						}
					}
					most[k] = math.Max(most[k], moved(t, m, ev))
				}
			}
		}
	}
	for k, d := range most {
		test, outcome, _ := strings.Cut(k, " ")
		entry, _ := b.Test(test)
		o, _ := entry.Outcome(outcome)
		if (d < 0.004) != (o.Nothing != "") {
			t.Errorf("%s moves %.4f; the Book says of it %q", k, d, o.Nothing)
		}
	}
}
