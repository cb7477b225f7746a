package evidence

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

// Line is one reading of a result in words.
type Line struct{ Name, Value string }

// Lines are the readings of a result, those that were left out left out.
func (c *Car) Lines(x record.Result) (out []Line) {
	t := c.tests[x.Test]
	b := bench.For(t)
	for _, f := range x.Figures {
		e, _ := t.Read(f.Key)
		ch, _ := b.Channel(e.Key)
		if v := c.figure(f, e, ch); v != "" {
			out = append(out, Line{f.Name, v})
		}
	}
	var exits []string
	for _, e := range x.Exits {
		s := strings.TrimSpace(string(e.Size) + " at the " + c.part(e.Part))
		if e.Size == "" {
			s = c.part(e.Part)
		}
		if e.Expected {
			s += " (expected)"
		}
		exits = append(exits, s)
	}
	if len(exits) > 0 {
		name := "places"
		if e, ok := t.Read(b.PlaceChannel()); ok {
			name = e.Name
		}
		out = append(out, Line{name, strings.Join(exits, ", ")})
	}
	return out
}

// Worked are the figures that a result's readings come to, with their intervals.
func (c *Car) Worked(x record.Result) (out []Line) {
	t := c.tests[x.Test]
	v, err := bench.Judge(t, c.Subject(x.Part), Readings(t, x))
	if err != nil {
		return nil
	}
	for _, f := range v.Figures {
		if math.IsInf(f.Value, 0) {
			continue
		}
		unit := strings.TrimSuffix(" "+f.Unit, " 1")
		out = append(out, Line{f.Name, fmt.Sprintf("%s%s, %s to %s", units.Digits(f.Value, 3), unit, units.Digits(f.Low, 3), units.Digits(f.High, 3))})
	}
	return out
}

// figure is one reading in words; empty when it was not read.
func (c *Car) figure(f record.Figure, e knowledge.Reading, ch bench.Channel) string {
	if f.Value == nil {
		var w []string
		for _, x := range f.Words {
			switch {
			case ch.Kind == bench.Cycles:
			case ch.Kind == bench.Places && x != nothing:
				x = c.part(x)
			default:
				x = e.Word(x)
			}
			w = append(w, x)
		}
		if ch.Kind == bench.Cycles && len(w) > 0 {
			yes, all := bench.Readings{"": {Words: w}}.Cycles("")
			return fmt.Sprintf("%d of %d", yes, all)
		}
		return strings.Join(w, ", ")
	}
	values := f.Values
	if len(values) == 0 {
		values = []float64{*f.Value}
	}
	var w, second []string
	k, known := units.KindOf(f.Unit)
	for _, v := range values {
		w = append(w, strconv.FormatFloat(v, 'f', -1, 64))
		if known {
			u := units.Must(f.Unit, k)
			second = append(second, units.Format(u.ToSI(v), k, units.Second(u.Symbol, k), 3))
		}
	}
	s := strings.TrimSpace(strings.Join(w, ", ") + " " + f.Unit)
	if len(second) > 0 && k != units.Time {
		s += " (" + strings.Join(second, ", ") + ")"
	}
	return s
}

// JudgedBy says who named the outcome of a result.
func (c *Car) JudgedBy(x record.Result) string {
	switch {
	case !x.ByHand():
		return "by its readings"
	case x.Overruled != "" && x.Judged != "":
		return fmt.Sprintf("by hand: %s. The readings say: %s", x.Overruled, plumbing.Lower(c.OutcomeName(x.Test, x.Judged)))
	case x.Overruled != "":
		return "by hand: " + x.Overruled
	}
	return "by hand"
}
