package bench

import (
	"fmt"
	"math"

	"wexter/core/plumbing"
	"wexter/core/record"
)

const pumpHand = "pump-hand"

// slowPause is how long a leak pump pauses between strokes when the system holds its
// pressure, s (common practice, no source).
const slowPause = 3.6

// PumpByHand is the hand on a vacuum-driven leak pump, or a meter on its switch, section by section.
var PumpByHand = Register(Test{
	Key:       pumpHand,
	Odds:      FromPlant,
	Feels:     []string{"vapour"},
	OneVolume: true,
	Channels: []Channel{
		{Key: "strokes", Kind: Count, Low: 0, High: 2000, Sense: PumpStrokes},
		{Key: "pause", Unit: "s", Low: 0, High: 600, Sense: PumpPause},
		{Key: "section", Kind: Choice, Words: sections, Optional: true},
		{Key: "first", Unit: "s", Low: 0, High: 600, Optional: true},
		{Key: "hold", Unit: "s", Low: 0, High: 600, Optional: true},
		{Key: "contact", Unit: "V", Low: -1, High: 32, Sense: PumpSwitch, Optional: true, Worked: true},
	},
	Phases: []Phase{{Do: []Step{{Do: Idle}}, For: 140, Read: []string{"strokes", "pause"}}},
	Live: Live{Stretches: strokeStretches, Watch: newStrokeWatch, Looks: []record.RunKind{strokesWhole, strokesPump, strokesCanister}, Picture: strokesSoFar, AsksCodes: true,
		Taps: []Tap{{Key: strokeTap, Name: "Stroke felt"}}, AllIn: "This start is in: keep its result. The next section wants another cold start."},
	Picture: strokePicture,
	Reduce: func(_ Subject, r Readings) Verdict {
		n, ok := r.Mean("strokes")
		pause, has := r.Mean("pause")
		first, began := r.Mean("first")
		of := map[string]string{"pump": " with the pump alone", "canister": " with pump and canister"}[r.Word("section")]
		grows := ""
		if began && has && first > 0 {
			grows = fmt.Sprintf(", from %s s at the beginning", say(first))
		}
		switch {
		case !ok:
			return ask("strokes", "How many strokes did you feel? 0 is an answer.")
		case n == 0:
			return is("silent", "No strokes on this start: no verdict. It runs once in one to three cold starts, and not with a code stored.")
		case !has:
			return ask("pause", "How long is the pause between the last two strokes?")
		case n == 1 && pause < slowPause:
			return ask("strokes", "A single stroke has no pause after it. Count on until the pump is silent, or the purge valve begins to tick.")
		case began && pause < 0.7*first:
			return unsure("The pauses become shorter (%s to %s s)%s: strokes were missed at the beginning, or felt twice at the end. Count on another cold start.", say(first), say(pause), of)
		case pause > slowPause:
			return is("slows", "The pauses grow to %s s%s: it holds%s.", say(pause), grows, of)
		case pause > slowPause-0.3:
			return unsure("A last pause of %s s lies at the limit%s.", say(pause), of)
		}
		return is("fast", "The last pause is only %s s%s: it never slows down%s.", say(pause), grows, of)
	},
})

// sections are what the car's own pump can be tried on, by plugs: the pump, with the canister, all.
var sections = []string{"pump", "canister", "whole"}

// SectionPlug is the line that is plugged so that the car's own pump tries a section of the system;
// empty for the whole.
func SectionPlug(section string) string {
	return map[string]string{"pump": "vent-hose", "canister": "vapour-line"}[section]
}

// sectionSet is how a car stands for a section.
func sectionSet(section string) plumbing.Settings {
	if p := SectionPlug(section); p != "" {
		return plumbing.Settings{p: plumbing.Plugged}
	}
	return plumbing.Settings{}
}

// strokeTap is the tap at which a stroke is felt.
const strokeTap = "stroke"

// Of strokes, chosen: two that are felt or read closer than this are one, a hand that pressed twice or a
// contact that bounced, s; and how many make a beginning.
const (
	strokeApart = 0.2
	strokesIn   = 3
)

// strokeRhythm is what strokes come to.
type strokeRhythm struct {
	At          []float64 // s
	First, Last float64   // pauses, s; NaN: none
	Hold        float64   // s of silence at the end that is longer than the last pause; 0: none
}

// rhythm takes strokes and the time to which somebody listened.
func rhythm(at []float64, until float64) strokeRhythm {
	r := strokeRhythm{First: math.NaN(), Last: math.NaN()}
	for _, t := range at {
		if n := len(r.At); n == 0 || t-r.At[n-1] >= strokeApart {
			r.At = append(r.At, t)
		}
	}
	// A pump begins with its fastest strokes: what comes long before them is the key, or a hand that tried the tap.
	for len(r.At) > strokesIn+1 && r.At[1]-r.At[0] > 3*(r.At[strokesIn+1]-r.At[1])/strokesIn {
		r.At = r.At[1:]
	}
	n := len(r.At)
	if n == 0 {
		return r
	}
	if n > 1 {
		k := min(n-1, strokesIn)
		r.First, r.Last = (r.At[k]-r.At[0])/float64(k), r.At[n-1]-r.At[n-2]
	}
	if silent := until - r.At[n-1]; silent > math.Max(2*r.Last, slowPause) || n == 1 && silent > slowPause {
		r.Hold = silent
	}
	return r
}

// readings are the rhythm as the test reads it: silence at the end is the longest pause.
func (r strokeRhythm) readings(section string) Readings {
	out := Readings{"strokes": Num(float64(len(r.At))), "section": Said(section)}
	put := func(key string, v float64) {
		if v == v {
			out[key] = Num(math.Round(v*100) / 100)
		}
	}
	put("first", r.First)
	put("pause", math.Max(r.Last, r.Hold))
	if r.Hold > 0 {
		put("hold", r.Hold)
		if r.Last != r.Last {
			put("pause", r.Hold)
		}
	}
	return out
}
