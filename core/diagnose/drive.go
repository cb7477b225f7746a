package diagnose

import (
	"math"

	"wexter/core/bench"
	"wexter/core/trim"
)

// driven is a drive that was read for its fuel trims: it speaks as a whole, with everything that
// was steady in it, its noise and what it leaves open. What a fault does to the trims is the
// plant's; what two do adds.
type driven struct {
	feels []bool
	of    trim.Weight
	doing [][shades]trim.Doing // by suspect
	best  float64              // ln of the largest likelihood of all
}

// How much what the plant says of a fault may be off on another engine, beside the width of its
// step (chosen here).
const (
	otherEngine = 0.25  // of what it does
	anyEngine   = 0.008 // of ln(1+total)
)

// leastDriven is what a drive says at the least of any fault: a log of another car, a purge valve
// that stuck for that drive (chosen here).
const leastDriven = 1e-3

func (l *driven) felt(s int) bool { return l.feels[s] }
func (l *driven) odds(d trim.Doing) float64 {
	return (1-stray)*math.Exp(math.Min(l.of.Ln(d)-l.best, 0)) + stray*leastDriven
}
func (l *driven) sound(int) float64       { return l.odds(trim.Doing{}) }
func (l *driven) one(s, k, j int) float64 { return l.odds(l.doing[s][k*kinds+j]) }
func (l *driven) two(a, ka, b, kb, j int) float64 {
	return l.odds(l.doing[a][ka*kinds+j].With(l.doing[b][kb*kinds+j]))
}

// driven is the likelihood of a drive; nil when the plant was not asked about trims on this car.
func (m *Model) driven(d trim.Drive) *driven {
	test := bench.Trims.Key
	if !Simulated(m.Book, test, m.Of) || d.Check() != nil {
		return nil
	}
	r := d.Judge()
	l := &driven{feels: make([]bool, len(m.Suspects)), of: r.Weigh(), doing: make([][shades]trim.Doing, len(m.Suspects))}
	l.best = l.of.Ln(trim.Doing{})
	for i, rows := range m.rows(test) {
		if rows == nil {
			continue
		}
		own := m.table.well(test, rows[0].Car, "")
		if own == nil {
			continue
		}
		for x := range shades {
			k, j := x/kinds, x%kinds
			up, down := rows[min(k+1, steps-1)*kinds+j], rows[max(k-1, 0)*kinds+j]
			doing, moves := doingOf(own[j], rows[x], up, down)
			l.doing[i][x] = doing
			l.feels[i] = l.feels[i] || moves
		}
		if l.feels[i] {
			for x := range shades {
				l.best = math.Max(l.best, l.of.Ln(l.doing[i][x]))
			}
		}
	}
	return l
}

// doingOf is what a row of the plant does beside its sound car, and whether that is worth a look.
// Up and down are the rows a step of severity away.
func doingOf(well, row, up, down *Row) (d trim.Doing, moves bool) {
	base, is := placesOf(well), placesOf(row)
	above, below := placesOf(up), placesOf(down)
	for p := range trim.Places {
		change := is[p] - base[p]
		switch {
		case math.IsNaN(base[p]):
			d.SD[p] = 1
			continue
		case math.IsNaN(change): // it could not be read with this fault: far from sound
			d.SD[p] = 0.4
			moves = true
			continue
		}
		wide := 0.0
		if x := above[p] - below[p]; x == x {
			wide = math.Abs(x) / math.Sqrt(12) / 2
		}
		d.Change[p] = change
		d.SD[p] = math.Sqrt(change*change*otherEngine*otherEngine + wide*wide + anyEngine*anyEngine)
		moves = moves || math.Abs(change) > 0.01
	}
	return d, moves
}

// placesOf is what a row reads at each place, as logarithms; not a number where it reads nothing.
func placesOf(r *Row) (out [trim.Places]float64) {
	for p := range out {
		out[p] = math.NaN()
	}
	if r == nil {
		return out
	}
	total := func(key string) float64 {
		v, ok := r.Readings.Mean(key)
		if !ok {
			return math.NaN()
		}
		return math.Log1p(math.Max(v/100, -0.95))
	}
	out[trim.AtIdle], out[trim.AtFast], out[trim.AtLoad], out[trim.AtBoost] = total("idle"), total("fast"), total("loaded"), total("boosted")
	if math.IsNaN(out[trim.AtBoost]) {
		out[trim.AtBoost] = out[trim.AtLoad]
	}
	air, metered := r.Readings.Mean("air")
	manifold, read := r.Readings.Mean("manifold")
	if metered && read && air > 0 && manifold > 0 {
		out[trim.OverPressure] = math.Log(air / manifold)
	}
	return out
}

// Doing is what a fault of some severity, 0 to 1, does to the trims of a sound car of this kind.
func (m *Model) Doing(fault string, severity float64) (trim.Doing, error) {
	i, err := m.suspect(fault)
	if err != nil {
		return trim.Doing{}, err
	}
	rows := m.rows(bench.Trims.Key)[i]
	if rows == nil {
		return trim.Doing{}, ErrSilent
	}
	own := m.table.well(bench.Trims.Key, rows[0].Car, "")
	k := min(max(int(severity*steps), 0), steps-1)
	if own == nil || rows[k*kinds] == nil {
		return trim.Doing{}, ErrSilent
	}
	d, _ := doingOf(own[0], rows[k*kinds], nil, nil)
	return d, nil
}
