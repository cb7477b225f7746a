package bench

import (
	"math"
	"slices"

	"wexter/core/plumbing"
)

// ValveScene is the picture of a valve on the bench: how it stood its cycles, beside those of a new one.
type ValveScene struct {
	Must     Way // what a sound one does now
	Electric bool
	On       bool    // its power
	Plugged  bool    // the rig is by itself
	Now      float64 // inHg; NaN: none is read
	Old, New Tried
}

// Tried is how a part stood its cycles, and what the gauge showed meanwhile.
type Tried struct {
	Spans []Span
	T, P  []float64 // s, inHg
}

func (ValveScene) scene() {}

// valvePicture is a valve by its readings; nil where nothing was read of it.
func valvePicture(s Subject, r Readings) Scene {
	if x, ok := reliefPicture(s.Part, r); ok {
		return x
	}
	x := ValveScene{Must: mustAt(s.Part.Rest, off), Electric: electric(s.Part), Now: math.NaN()}
	x.Old.Spans = spansOf(r, "")
	x.New.Spans = spansOf(r, newPrefix)
	if len(x.Old.Spans)+len(x.New.Spans) == 0 {
		return nil
	}
	return x
}

// spansOf are the cycles that readings tell, in pairs.
func spansOf(r Readings, prefix string) (out []Span) {
	sealed, passed := r[prefix+"sealed"].Words, r[prefix+"passed"].Words
	figure := func(key string, i int) float64 {
		if v := r[key].Numbers; prefix == "" && i < len(v) {
			return v[i]
		}
		return math.NaN()
	}
	did := map[string]Answer{Yes: Did, No: DidNot}
	for i := range max(len(sealed), len(passed)) {
		if i < len(sealed) {
			loss := figure("loss", i)
			if !math.IsInf(loss, 1) {
				loss = -math.Log1p(-math.Min(loss/vacuumAt, 1-1e-9)) / 60
			}
			out = append(out, Span{Must: Holds, Did: did[sealed[i]], Loss: loss, Fall: math.NaN()})
		}
		if i < len(passed) {
			out = append(out, Span{Must: Passes, Did: did[passed[i]], Loss: math.NaN(), Fall: figure("fall", i)})
		}
	}
	return out
}

// tried is a stretch of cycles for the picture.
func (p Past) tried(rest plumbing.State) (out Tried) {
	out.T, out.P = p.gauge()
	out.Spans = tellings(p.cycles(rest))
	return out
}

// tellings leaves out spans in which nothing was tried.
func tellings(spans []Span) []Span {
	return slices.DeleteFunc(spans, func(s Span) bool { return s.Did == CannotSay && s.Why == "" })
}

// powering is whether what moves a valve is on.
type powering int

const (
	off powering = iota
	on
)

func powerOf(isOn bool) powering {
	if isOn {
		return on
	}
	return off
}

// mustAt is what a sound valve does with its power so.
func mustAt(rest plumbing.State, p powering) Way {
	if (p == on) == (rest == plumbing.Shut) {
		return Passes
	}
	return Holds
}

// valveLivePicture is the valve between stretches: with what was read of both parts.
func valveLivePicture(k Known) Scene {
	x := ValveScene{Must: mustAt(k.Part.Rest, off), Electric: electric(k.Part), Now: math.NaN()}
	if p, ok := k.Past[cyclesOld]; ok {
		x.Old = p.tried(k.Part.Rest)
	}
	if p, ok := k.Past[cyclesNew]; ok {
		x.New = p.tried(k.Part.Rest)
	}
	if len(x.Old.Spans)+len(x.New.Spans) == 0 {
		if s := valvePicture(k.Subject, k.Read); s != nil {
			return s
		}
	}
	return x
}

// Picture is the valve of this moment.
func (w *valveWatch) Picture() Scene {
	x, ok := valveLivePicture(w.known).(ValveScene)
	if !ok {
		return nil
	}
	x.On = w.On()
	if sw, _ := w.past().switchings(); len(sw) > 0 {
		x.On = sw[len(sw)-1].On
	}
	x.Must = mustAt(w.known.Part.Rest, powerOf(x.On))
	t, level := w.past().gauge()
	if len(level) == 0 {
		return x
	}
	x.Now = level[len(level)-1]
	mine := Tried{T: t, P: level, Spans: tellings(slices.Clone(w.find()))}
	if w.stretch.Key == cyclesNew {
		x.New = mine
	} else {
		x.Old = mine
	}
	return x
}
