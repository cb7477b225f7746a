package evidence

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
)

// Quantity is something of a car for which books state a value.
type Quantity struct {
	Key, Name, Unit string
	Test            string // in which it is measured; empty for what a set-up needs
	OnPart          bool   // of one part
}

// Quantities that a set-up needs.
const (
	LeakLimit     = "leak-limit"
	TankSize      = "tank"
	VapourVolume  = "vapour-volume"
	MostPermitted = "most-permitted"
)

// permittedUnit is the unit in which the most permitted pressure is compared.
const permittedUnit = "inH2O"

// Permitted lowers the pressure that an archetype is permitted to the least that a source
// states of a car. No source raises it: what an archetype is permitted protects the tank.
func Permitted(a knowledge.Archetype, stated []record.CarValue) knowledge.Archetype {
	for _, x := range stated {
		if x.What != MostPermitted || x.Struck() {
			continue
		}
		if spec, err := ingest.ReadSpec(x.Said, permittedUnit); err == nil && spec.High > 0 {
			a.MaxPa = math.Min(a.MaxPa, units.Must(permittedUnit, units.Pressure).ToSI(spec.High))
		}
	}
	return a
}

// Quantities lists what values can be stated of: what a set-up needs, then every figure
// that a test of the Book reads.
func Quantities(b knowledge.Book) []Quantity {
	out := []Quantity{
		{Key: LeakLimit, Name: "Leak that the monitor must find, as an orifice", Unit: "mm"},
		{Key: TankSize, Name: "Tank size", Unit: "L"},
		{Key: VapourVolume, Name: "Volume under the gauge", Unit: "L"},
		{Key: MostPermitted, Name: "Most pressure permitted", Unit: permittedUnit},
	}
	for _, t := range b.Tests {
		f := bench.For(t)
		for _, r := range t.Reads {
			if c, ok := f.Channel(r.Key); ok && c.Kind == bench.Number && r.Unit != "" {
				out = append(out, Quantity{Key: t.Key + "/" + r.Key, Name: r.Name, Unit: r.Unit, Test: t.Name, OnPart: f.On == bench.OnePart})
			}
		}
	}
	return out
}

// Stated is a value as a source states it.
type Stated struct {
	record.CarValue
	Spec ingest.Spec // in the quantity's unit
	Bad  string      // why it can no longer be read
	Off  bool        // what was measured last lies outside
}

// Measured is a value that was measured on this car.
type Measured struct {
	Value float64 // in the quantity's unit
	At    time.Time
	Case  string // number
	Test  string // id of a hold, or
	Of    string // id of the case whose result it is
}

// CarValues is one quantity of a car, of one part or of the whole: all that is stated, and
// beside it what was measured on this very car.
type CarValues struct {
	Quantity
	Part     string
	Stated   []Stated
	Measured []Measured
	Clash    bool // sources contradict each other
}

// Life is what was done to a car over all its cases.
type Life struct {
	Cases   []record.Case
	Results []record.Result
	Tests   []record.Test // with their set-ups
	Values  []record.CarValue
}

// Values puts what is stated of a car beside what was measured on it, for every quantity of
// which something is stated.
func Values(b knowledge.Book, l Life) []CarValues {
	quantities := Quantities(b)
	var out []CarValues
	at := func(what, part string) int {
		return slices.IndexFunc(out, func(v CarValues) bool { return v.Key == what && v.Part == part })
	}
	for _, x := range l.Values {
		q := slices.IndexFunc(quantities, func(q Quantity) bool { return q.Key == x.What })
		if q < 0 { // of a test that the Book no longer has
			quantities = append(quantities, Quantity{Key: x.What, Name: x.What})
			q = len(quantities) - 1
		}
		i := at(x.What, x.Part)
		if i < 0 {
			out = append(out, CarValues{Quantity: quantities[q], Part: x.Part})
			i = len(out) - 1
		}
		s := Stated{CarValue: x}
		var err error
		if s.Spec, err = ingest.ReadSpec(x.Said, quantities[q].Unit); err != nil {
			s.Bad = err.Error()
		}
		out[i].Stated = append(out[i].Stated, s)
	}
	for i := range out {
		out[i].Measured = l.measured(out[i].Quantity, out[i].Part)
		out[i].compare()
	}
	slices.SortStableFunc(out, func(a, b CarValues) int {
		return cmp.Compare(slices.IndexFunc(quantities, func(q Quantity) bool { return q.Key == a.Key }), slices.IndexFunc(quantities, func(q Quantity) bool { return q.Key == b.Key }))
	})
	return out
}

// measured finds what was measured of a quantity, oldest first.
func (l Life) measured(q Quantity, part string) (out []Measured) {
	number := map[string]string{}
	for _, c := range l.Cases {
		number[c.ID] = c.Number
	}
	for _, x := range l.Results {
		test, key, ok := strings.Cut(q.Key, "/")
		if !ok || x.Test != test || q.OnPart && x.Part != part || x.Struck() || x.Doubted() {
			continue
		}
		for _, f := range x.Figures {
			if f.Key == key && f.Value != nil {
				out = append(out, Measured{Value: *f.Value, At: x.At, Case: number[x.CaseID], Of: x.CaseID})
			}
		}
	}
	for _, t := range l.Tests {
		if q.Key == VapourVolume && t.Setup.VolumeHow == record.VolumeMetered && !t.Struck() && !t.Doubted() {
			out = append(out, Measured{Value: units.Must(q.Unit, units.Volume).FromSI(t.Setup.Volume), At: t.At, Case: number[t.CaseID], Test: t.ID})
		}
	}
	slices.SortStableFunc(out, func(a, b Measured) int { return a.At.Compare(b.At) })
	return out
}

// compare says which sources contradict each other, and which the newest measurement.
func (v *CarValues) compare() {
	newest := math.NaN()
	if n := len(v.Measured); n > 0 {
		newest = v.Measured[n-1].Value
	}
	for i := range v.Stated {
		s := &v.Stated[i]
		if s.Struck() || s.Bad != "" {
			continue
		}
		s.Off = !math.IsNaN(newest) && !s.Spec.Holds(newest)
		for _, o := range v.Stated[:i] {
			v.Clash = v.Clash || !o.Struck() && o.Bad == "" && !s.Spec.Meets(o.Spec)
		}
	}
}

// Standing are the values that are not struck out.
func (v CarValues) Standing() []Stated {
	return slices.DeleteFunc(slices.Clone(v.Stated), func(s Stated) bool { return s.Struck() })
}

// Newest is what was measured last; nil when nothing was.
func (v CarValues) Newest() *Measured {
	if n := len(v.Measured); n > 0 {
		return &v.Measured[n-1]
	}
	return nil
}

// In says a stated value in the quantity's unit.
func (v CarValues) In(s Stated) string {
	figure := func(x float64) string { return fmt.Sprintf("%.4g", x) }
	if s.Spec.Low == s.Spec.High {
		return figure(s.Spec.Low) + " " + v.Unit
	}
	return figure(s.Spec.Low) + " to " + figure(s.Spec.High) + " " + v.Unit
}

// Says a measured value in the quantity's unit.
func (v CarValues) Says(m Measured) string { return fmt.Sprintf("%.4g %s", m.Value, v.Unit) }
