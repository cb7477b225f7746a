package bench

import (
	"fmt"
	"math"
	"slices"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// CheckValve is a check valve tried both ways; 15 inHg that does not stay above 12 has passed
// (common practice, no source).
var CheckValve = Register(Test{
	Key:  "check-valve",
	On:   OnePart,
	Odds: FromPlant,
	Channels: []Channel{
		{Key: "forward", Kind: Choice, Words: []string{"passes", "shut"}, Sense: PassesForward},
		{Key: "backward", Unit: "inHg", Low: 0, High: 30, Sense: HoldsBackward},
		{Key: "flap", Kind: Choice, Words: []string{"there", "missing"}, Optional: true},
		besideChannel,
		{Key: "rig", Unit: "inHg", Low: 0, High: 30, Optional: true},
	},
	Phases:  []Phase{{Read: []string{"forward", "backward"}}},
	Live:    Live{Stretches: checkStretches, Watch: newCheckWatch, AllIn: "Both ways are in. Look inside with a light: is its flap there? Then keep the result."},
	Picture: checkPicture,
	Tries: func(t Target) string {
		if t.Part.Kind == plumbing.Check {
			return t.Part.Key
		}
		return ""
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		held, ok := r.Mean("backward")
		if own, has := r.Mean("rig"); has && ok && held < heldAt && zone(own, heldAt, 0.5) < 0 {
			return ask("rig", "Plugged, the rig itself keeps only %s of %s inHg: it leaks. Mend it, plug it again, then try the valve again.", say(own), say(vacuumAt))
		}
		switch w := r.Word("forward"); {
		case r.Word("flap") == "missing":
			if ok && held > 12.5 {
				return ask("backward", "Its flap is missing, yet it holds %s inHg backwards. Both cannot be: try it again.", say(held))
			}
			return is("both", "Its flap is missing: it passes both ways. Look for the piece.")
		case w == "":
			return ask("forward", "Does it pass the way it must?")
		case w == "shut":
			return is("blocked", "It does not pass the way it must.")
		case !ok:
			return ask("backward", "How many inHg of 15 does it hold the other way?")
		case held < 11.5:
			return is("both", "Holds only %s of 15 inHg backwards: it passes both ways.", say(held))
		case held > 12.5:
			return is("good", "Passes forward, holds %s inHg backwards: one way only.", say(held))
		}
		return unsure("%s of 15 inHg backwards lies at the limit. Clean it and try again.", say(held))
	},
})

// backwards and forwards are the stretches of a check valve, each with the pump on its other side.
var backwards, forwards = phaseKey(0), phaseKey(1)

// checkStretches are the plugged rig, the valve the way it must hold, and turned round.
func checkStretches(k Known) []Stretch {
	pump := Step{Do: Pump, At: AtPart, Value: -vacuumAt * units.InHg}
	how := fmt.Sprintf("%.0f inHg (%.0f kPa)", vacuumAt, vacuumAt*units.InHg/1e3)
	return []Stretch{
		rigPlugged(k, pump),
		{Key: backwards, Name: "The way it must hold", Detail: how + " for 20 s, hands off", Stand: []Step{pump}, For: keepsOver, Judged: true, Rests: true, Read: []string{"backward"}, Done: k.In[backwards],
			Before: "Hand pump on the side from which nothing must pass. Start; pump up to " + how + ", then hands off for 20 s."},
		{Key: forwards, Name: "Turned round", Detail: "ten strokes must bring nothing up", Stand: []Step{{Do: Pump, At: AtPart, Value: vacuumAt * units.InHg}}, Judged: true, Rests: true, Read: []string{"forward"}, Done: k.In[forwards],
			Before: "Turn the valve round. Start; ten strokes of the pump: through a sound one they bring nothing up. Then go on."},
	}
}

// rigPlugged is the rig by itself: its hose and adapter may leak as well.
func rigPlugged(k Known, pump Step) Stretch {
	pump.At = ""
	return Stretch{Key: record.RunRig, Name: "Rig plugged", Detail: "the adapter hose may leak", Stand: []Step{{Do: PlugRig}, pump}, For: keepsOver, Rests: true, Done: k.In[record.RunRig],
		Before: fmt.Sprintf("Plug the rig's end. Start; pump up to %.0f inHg (%.0f kPa), then hands off for 20 s.", vacuumAt, vacuumAt*units.InHg/1e3)}
}

func newCheckWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of("check-valve")
	pump := pumpWatch{newWholeWatch(t, s, cols), k, map[record.RunKind]string{record.RunRig: "rig", backwards: "backward"}[s.Key]}
	if s.Key == forwards {
		return &turnedWatch{pump}
	}
	return &pump
}

// turnedWatch sees whether strokes of a pump bring anything up through a valve that must let them
// through.
type turnedWatch struct{ pumpWatch }

// Of strokes through a check valve, chosen: what stands below the first for so long passes, even where
// the valve itself needs a little to open; what stands above the second is shut; and so many strokes must
// be seen. What a stroke shows for a moment is the stroke.
const (
	passesBelow = 3.0  // inHg
	shutAbove   = 10.0 // inHg
	standsFor   = 0.6  // s
	fewStrokes  = 4
)

// strokes are how many were seen, and at most how much stood after one.
func (w *turnedWatch) strokes() (n int, most float64) {
	t, level := w.past().gauge()
	if len(t) < 4 {
		return 0, 0
	}
	_, n = newStrokes(t, level, 0).pumped(0, len(t))
	for i := range t {
		to, _ := slices.BinarySearch(t, t[i]+standsFor)
		if to < len(t) {
			most = math.Max(most, slices.Min(level[i:to+1]))
		}
	}
	return n, most
}

// State says how many strokes were seen.
func (w *turnedWatch) State() State {
	s := w.phaseWatch.State()
	n, most := w.strokes()
	s.Now = fmt.Sprintf("Ten strokes: %d seen, at most %s inHg stood.", n, say(most))
	if n >= 10 || most > shutAbove {
		s.Now += " That is enough: go on."
	}
	return s
}

// Told is whether it let them through.
func (w *turnedWatch) Told() Told {
	n, most := w.strokes()
	out := Told{Readings: Readings{}}
	switch {
	case most > shutAbove:
		out.Readings["forward"] = Said("shut")
	case n < fewStrokes:
		out.Says = "Hardly a stroke was seen: is the gauge between pump and valve? If it passes freely and the gauge stays at nothing, say so by hand."
	case most < passesBelow:
		out.Readings["forward"] = Said("passes")
	default:
		out.Says = fmt.Sprintf("%s inHg stood after a stroke: neither free nor shut. Clean it and try again.", say(most))
	}
	return out
}

// Picture is the valve the way it must pass.
func (w *turnedWatch) Picture() Scene {
	x, ok := w.pumpWatch.Picture().(ValveScene)
	x.Must = Passes
	if !ok {
		return nil
	}
	return x
}

// checkPicture is a check valve by its readings.
func checkPicture(_ Subject, r Readings) Scene {
	x := ValveScene{Must: Holds, Now: math.NaN()}
	if v, ok := r.Mean("backward"); ok {
		did := Did
		if v < heldAt {
			did = DidNot
		}
		x.Old.Spans = append(x.Old.Spans, Span{Must: Holds, Did: did, Loss: -math.Log(math.Min(math.Max(v, 0.01), vacuumAt)/vacuumAt) / keepsOver, Fall: math.NaN()})
	}
	if w := r.Word("forward"); w != "" {
		x.Old.Spans = append(x.Old.Spans, Span{Must: Passes, Did: map[string]Answer{"passes": Did, "shut": DidNot}[w], Loss: math.NaN(), Fall: math.NaN()})
	}
	return x
}
