package web

import (
	"strings"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// walkView is a test that asks for one measurement after another, as the page shows it.
type walkView struct {
	bench.Walk
	Now     *walkRead  // what tells most
	Instead []walkRead // what may be measured in its place
	Taken   []walkRead
	Notes   []doRead // what is written down besides
	Rest    []doRead // what tells nothing now
	Odds    []walkLeft
}

// walkLeft is a finding that is still possible, with its odds.
type walkLeft struct{ Name, Percent string }

// walkRead is a measurement with its field.
type walkRead struct {
	Field doRead
	bench.Asked
	Value, Says string
	Sound       bool
}

// walkNotes are channels that no measurement of the circuit is.
var walkNotes = []string{"coil-at", "coil-least", "coil-most", "fuse-name", "fuse-size", "rubbed", "mended"}

// walkOf is how a test stands by its readings; nil for one that does not ask so, or where no part is chosen.
func walkOf(t knowledge.Test, b bench.Test, on bench.Subject, r bench.Readings) *walkView {
	if b.Walk == nil || on.Part.Wired == nil {
		return nil
	}
	v := walkView{Walk: b.Walk(on, r)}
	field := func(key string) doRead {
		x, _ := readField(t, b, key, on.Part)
		return x
	}
	named := func(key, name string) doRead {
		x := field(key)
		x.Name = casework.Upper(name)
		return x
	}
	for _, x := range v.Left {
		v.Odds = append(v.Odds, walkLeft{x.Name, perCent(x.Share)})
	}
	shown := map[string]bool{}
	for i, a := range v.Next {
		x := walkRead{Field: named(a.Channel, a.Name), Asked: a}
		if shown[a.Channel] = true; i == 0 {
			x.Field.Asked = true
			v.Now = &x
			continue
		}
		v.Instead = append(v.Instead, x)
	}
	for _, a := range v.Walk.Taken {
		if !shown[a.Channel] {
			shown[a.Channel] = true
			v.Taken = append(v.Taken, walkRead{Field: named(a.Channel, a.Name), Asked: bench.Asked{Channel: a.Channel, Name: a.Name, Expect: a.Expect}, Value: a.Value, Says: a.Says, Sound: a.Sound})
		}
	}
	_, coil := on.Part.Wired.Measure("coil")
	for _, k := range walkNotes {
		if strings.HasPrefix(k, "coil") && !coil || strings.HasPrefix(k, "fuse") && len(on.Part.Wired.Fuse) == 0 {
			continue
		}
		v.Notes = append(v.Notes, field(k))
	}
	for _, m := range on.Part.Wired.Measures {
		if !shown[m.Key] {
			v.Rest = append(v.Rest, field(m.Key))
		}
	}
	return &v
}

// circuitless reports whether a test walks circuits and no part with one is chosen.
func circuitless(b bench.Test, p plumbing.Part) bool { return b.Walk != nil && p.Wired == nil }
