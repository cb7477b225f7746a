package diagnose

import "math"

// How surely the same is met again as long as nothing has changed that it could come from, chosen
// here: a control unit that stored a code on this car stores it again, whether anybody knows
// why or not, and a test that was done before has the same rig, the same hand and the same
// car's peculiarity in it. A second time is no second witness.
const (
	unitRepeats = 0.6
	handRepeats = 0.6
)

// answer is what a question to the car was answered by: a group of codes by being there or not, a
// test by its outcome. Without to it is no question that could be asked again.
type answer struct {
	to, is  string
	repeats float64 // how surely the same comes again
}

// ofTest is what a test was answered by.
func ofTest(test, part, outcome string) answer {
	return answer{test + " " + part, outcome, handRepeats}
}

// part is one thing that a piece of evidence says.
type part struct {
	likelihood
	answer
}

// known is an answer that was given before.
type known struct {
	answer
	epoch  int
	before bool // it was of the time before the car came
}

// memory are the answers given so far: the last by question, and each by question and answer.
type memory map[string]known

// same is the key of an answer.
func (a answer) same() string { return a.to + "=" + a.is }

// again is the likelihood of an outcome that is met a second time.
type again struct {
	likelihood
	by float64
}

func (l again) of(p float64) float64            { return l.by + (1-l.by)*p }
func (l again) sound(j int) float64             { return l.of(l.likelihood.sound(j)) }
func (l again) one(s, k, j int) float64         { return l.of(l.likelihood.one(s, k, j)) }
func (l again) two(a, ka, b, kb, j int) float64 { return l.of(l.likelihood.two(a, ka, b, kb, j)) }

// fainter is the likelihood of a number that is read a second time: part of it is new.
type fainter struct {
	likelihood
	by float64
}

func (l fainter) of(p float64) float64            { return math.Pow(p, 1-l.by) }
func (l fainter) sound(j int) float64             { return l.of(l.likelihood.sound(j)) }
func (l fainter) one(s, k, j int) float64         { return l.of(l.likelihood.one(s, k, j)) }
func (l fainter) two(a, ka, b, kb, j int) float64 { return l.of(l.likelihood.two(a, ka, b, kb, j)) }

// repeated is what a part says that says the same again.
func (p part) repeated() likelihood {
	switch p.likelihood.(type) {
	case *numbers, *holes, *driven:
		return fainter{p.likelihood, p.repeats}
	}
	return again{p.likelihood, p.repeats}
}

// filter carries the odds through one epoch: of the cars on which no repair of it did anything,
// and of those on which one did, since only on these may the car answer otherwise than before.
type filter struct {
	*Model
	stayed, moved *weights // moved is nil where the epoch began with no repair
	renewed       []int    // suspects that were repaired
	told          memory
	epoch         int
}

// repair begins the epoch with repairs.
func (f *filter) repair(repairs []Repair) error {
	if len(repairs) == 0 {
		return nil
	}
	f.moved = f.newWeights()
	for _, r := range repairs {
		s, err := f.suspect(r.Fault)
		if err != nil {
			return err
		}
		f.renewed = append(f.renewed, s)
		for _, from := range []*weights{f.moved, f.stayed} {
			if err := f.repaired(from, f.moved, r); err != nil {
				return err
			}
		}
	}
	return nil
}

// weigh weighs one part of a piece of evidence.
func (f *filter) weigh(p part, before bool) {
	last, asked := f.told[p.to]
	equal, same := f.told[p.same()]
	if p.to != "" {
		f.told[p.to] = known{p.answer, f.epoch, before}
		f.told[p.same()] = f.told[p.to]
	}
	stayed, moved := p.likelihood, p.likelihood
	asked, same = asked && last.epoch >= f.epoch-1, same && equal.epoch >= f.epoch-1
	if same {
		last = equal
	}
	touched := last.epoch < f.epoch && f.changed(p) // by a repair since
	if same {
		stayed = p.repeated()
		if !touched {
			moved = stayed
		}
	}
	top := f.Model.weigh(f.stayed, stayed, before)
	if same && last.before && !before { // what is gone since the car came sets nothing again
		f.clear(func(j int) float64 { return math.Max(p.sound(j), 1e-9) / stayed.sound(j) })
	}
	if f.moved == nil {
		return
	}
	f.moved.scale(f.Model.weigh(f.moved, moved, before) / top)
	if asked && !same && touched { // where nothing changed it would rather have answered as before
		f.stayed.scale(1 - p.repeats)
		if last.before {
			f.clear(func(int) float64 { return 1 / (1 - p.repeats) })
		}
	}
}

// clear multiplies the weights of cars on which nothing is there any more, by kind of car.
func (f *filter) clear(by func(j int) float64) {
	for j := range kinds {
		f.stayed.none[j] *= by(j)
	}
	for i := range f.stayed.gone {
		f.stayed.gone[i] *= by(i % kinds)
	}
}

// changed reports whether one of the repairs could have changed an answer.
func (f *filter) changed(p part) bool {
	for _, s := range f.renewed {
		if p.felt(s) {
			return true
		}
	}
	return false
}

// end ends the epoch.
func (f *filter) end() *weights {
	if f.moved != nil {
		f.stayed.add(f.moved)
	}
	return f.stayed
}
