package diagnose

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

// Odds of codes, chosen here: a check that should have found something has run and stored
// it, and a code comes without what is known.
const (
	codeSet   = 0.9
	codeStray = 0.012
	// A code that failed on one trip only comes four times as often without a cause: a start
	// with the cap off, an engine that ran while it was refuelled. One that was cleared and is
	// still permanent tells of a trouble that may be gone.
	pendingStray = 4
	pastStray    = 3
)

// worse is how much likelier a fault is to be caught at each step of severity than in the mean
// over the faults that practice speaks of, which are those that were found (chosen here).
var worse = [steps]float64{0.45, 0.75, 1, 1.2, 1.3}

// share is how much of the shades about one (its own step, the steps beside it, the other
// kind of car) a condition holds for: a step is wide, and what begins within it is met in
// part of it.
func share(rows *[shades]*Row, k, j int, is func(*Row) bool) float64 {
	v := func(k, j int) float64 {
		k = min(max(k, 0), steps-1)
		if r := rows[k*kinds+j]; r != nil && is(r) {
			return 1
		}
		return 0
	}
	return 0.7*v(k, j) + 0.1*v(k-1, j) + 0.1*v(k+1, j) + 0.1*v(k, 1-j)
}

// ran reports whether a monitor has completed, so that a missing code of it means something.
func (e Evidence) ran(monitor string) bool {
	return slices.Contains(e.Ran, "") || slices.Contains(e.Ran, monitor)
}

// doubt is by how much likelier than usual the codes of a list that are present are without a
// cause: those that are stored count first. Zero without any of them.
func (e Evidence) doubt(in func(code string) bool) float64 {
	least := 0.0
	for _, c := range e.Codes {
		if !in(c) {
			continue
		}
		d := 1.0
		switch {
		case slices.Contains(e.Past, c):
			d = pastStray
		case slices.Contains(e.Pending, c):
			d = pendingStray
		}
		if least == 0 || d < least {
			least = d
		}
	}
	return least
}

// codes weighs what is stored and what is not. Codes that say the same thing count once;
// absence counts only where the monitor has run.
func (m *Model) codes(e Evidence) (piece, error) {
	p := piece{before: e.Before}
	says := func(of, is string, l likelihood) {
		if l != nil {
			p.parts = append(p.parts, part{l, answer{"code " + of, is, unitRepeats}})
		}
	}
	for _, g := range m.Book.Groups {
		if l := m.group(g, e); l != nil {
			says(g.Key, fmt.Sprint(!l.absent), l)
		}
	}
	z := m.sizing(e)
	says("size", fmt.Sprint(z.met), m.leakCodes(z, e))
	says("ready", fmt.Sprint(e.ran("evap")), m.readiness(e))
	says("banks", "", m.bothBanks(e))
	if len(p.parts) == 0 {
		return p, ErrSilent
	}
	return p, nil
}

// group weighs the codes of a group. Some control units do as the plant's, others as practice
// knows of units; where the plant's never sets such a code on this car, all go by practice.
func (m *Model) group(g knowledge.CodeGroup, e Evidence) *sign {
	doubt := e.doubt(func(c string) bool {
		of, ok := m.Book.Group(c)
		return ok && of.Key == g.Key
	})
	if doubt == 0 && (!e.ran(g.Monitor) || !g.Sets(m.Of)) {
		return nil
	}
	base := cmp.Or(g.Base, codeStray)
	stray := 1 - math.Pow(1-base, math.Max(doubt, 1))
	plant := make([]float64, len(m.Suspects)*shades)
	knows := false
	for i, rows := range m.rows(Codes) {
		if rows == nil {
			continue
		}
		for x := range shades {
			v := share(rows, x/kinds, x%kinds, func(r *Row) bool {
				return slices.ContainsFunc(g.Codes, func(c string) bool { return hasWord(r.Outcome, c) })
			})
			plant[i*shades+x] = stray + (codeSet-stray)*v
			knows = knows || v > 0
		}
	}
	practice := 1.0
	if knows {
		practice = cmp.Or(g.Practice, m.Book.Practice)
	}
	l := m.newSign(stray)
	l.absent = doubt == 0
	any := false
	for i, s := range m.Suspects {
		says := cmp.Or(s.Sets[g.Key], g.Shows[s.Key])
		for x := range shades {
			p := says
			if says == 0 && m.sealed[i][x/kinds] > 0 {
				p = g.Leaks
			}
			p = math.Max(math.Min(p*worse[x/kinds], 0.95), stray)
			l.p[i*shades+x] = practice*p + (1-practice)*math.Max(plant[i*shades+x], stray)
			l.feels[i] = l.feels[i] || l.p[i*shades+x] > 1.0001*stray
		}
		any = any || l.feels[i]
	}
	if !any {
		return nil
	}
	return l
}

// bothBanks weighs that both banks are lean, or both rich: what they have in common is off. A
// code of bank 1 alone says nothing, since most engines have no other.
func (m *Model) bothBanks(e Evidence) likelihood {
	for _, pair := range [][2]string{{"P0171", "P0174"}, {"P0172", "P0175"}, {"P2187", "P2189"}, {"P2188", "P2190"}, {"P2195", "P2197"}, {"P2196", "P2198"}} {
		s, ok := m.Book.Sign(OneBank)
		if ok && slices.Contains(e.Codes, pair[0]) && slices.Contains(e.Codes, pair[1]) {
			l := m.shown(s.Base, s.Shows)
			l.absent = true
			return l
		}
	}
	return nil
}

// OneBank is the key of the sign that only one bank of an engine is off.
const OneBank = "one-bank"

// readiness weighs that the EVAP monitor has run, or has not, where a scan lists what has.
func (m *Model) readiness(e Evidence) likelihood {
	own, _ := m.Book.Plumbing.Find(m.Of.Vapour)
	if r := m.Book.Readiness; own.Monitor != "" && len(e.Ran) > 0 && len(r.Shows) > 0 {
		l := m.shown(r.Base, r.Shows)
		l.absent = e.ran("evap")
		return l
	}
	return nil
}

func hasWord(list, word string) bool {
	for len(list) > 0 {
		w, rest, _ := strings.Cut(list, " ")
		if w == word {
			return true
		}
		list = rest
	}
	return false
}

// frozen weighs what stood in the freeze frame of a code.
func (m *Model) frozen(e Evidence) (piece, error) {
	p := piece{before: true}
	for _, c := range e.Codes {
		g, ok := m.Book.Group(c)
		for _, f := range m.Book.Frames {
			if ok && string(f.At) == e.Key && slices.Contains(f.Groups, g.Key) {
				p.parts = append(p.parts, part{likelihood: m.shown(f.Base, f.Shows)})
			}
		}
	}
	if !slices.Contains([]knowledge.FrameAt{knowledge.AtIdle, knowledge.UnderLoad, knowledge.Cold, knowledge.FullTank}, knowledge.FrameAt(e.Key)) {
		return p, fmt.Errorf("a freeze frame is of idle, load, cold or full, not of %q", e.Key)
	}
	if len(p.parts) == 0 {
		return p, ErrSilent
	}
	return p, nil
}

// own are the holes of each suspect in the sealed system, as the car's own check sees it: the
// diameter in the middle of each step, m; zero for what is no hole there.
func (m *Model) own() [][steps]float64 {
	out := make([][steps]float64, len(m.Suspects))
	a, _ := m.Book.Archetype(m.Of.Vapour)
	own, _ := m.Book.Plumbing.Find(m.Of.Vapour)
	if a.Entry == "" || own.Monitor == "" {
		return out
	}
	low, high, err := m.spans(a.Entry, nil, plumbing.Pressure)
	if err != nil {
		if low, high, err = m.spans(a.Entry, a.Settings(), plumbing.Pressure); err != nil {
			return out
		}
	}
	for i := range out {
		for k := range steps {
			out[i][k] = math.Sqrt(math.Sqrt(low[i][k] * high[i][k]))
		}
	}
	return out
}

// What a class of leak is besides, chosen here: how far makers' limits lie apart (logarithm),
// that a check finds what it should, that it calls a hole by the size beside, and several
// sizes at once on a leak that does not vary, and on one that does.
const (
	sizeSpread  = 0.35
	sizeFound   = 0.92
	sizeBeside  = 0.12
	sizeSeveral = 0.05
	sizeVaries  = 0.3
)

// sizing are the odds of the classes of leak codes: none, the sizes of the Book, several.
type sizing struct {
	sizes   []knowledge.LeakSize
	met     int
	several int
}

// sizing is the class of the codes of a scan.
func (m *Model) sizing(e Evidence) sizing {
	z := sizing{sizes: m.Book.Sizes, several: len(m.Book.Sizes) + 1}
	z.met = z.class(func(c string) bool { return slices.Contains(e.Codes, c) })
	return z
}

// class is the class of a list of codes.
func (z sizing) class(has func(string) bool) int {
	c := 0
	for i, s := range z.sizes {
		if slices.ContainsFunc(s.Codes, has) {
			if c > 0 {
				return z.several
			}
			c = i + 1
		}
	}
	return c
}

// plant is the odds of a class where the plant says one: most often that one, sometimes the next.
func (z sizing) plant(says, class int, varies bool) float64 {
	if says == 0 {
		return [...]float64{1 - 3.5*codeStray, codeStray, codeStray, codeStray, codeStray / 2}[min(class, 4)]
	}
	v := sizeSeveral
	if varies {
		v = sizeVaries
	}
	switch {
	case class == z.several:
		return v
	case class == 0:
		return 1 - sizeFound
	case says == z.several:
		return (sizeFound - v) / float64(len(z.sizes))
	case class == says:
		return sizeFound - v - 0.14
	case class == says+1 || class == says-1:
		return 0.06
	}
	return 0.02
}

// hole is the odds of a class for a hole of diameter d (m) among the units of all makers.
func (z sizing) hole(d float64, class int, varies bool) float64 {
	at := func(i int) float64 { // that a unit calls it at least that size
		if i >= len(z.sizes) {
			return 0
		}
		return phi(math.Log(d*1e3/z.sizes[i].From) / sizeSpread)
	}
	exact := func(i int) float64 { return at(i-1) - at(i) }
	v := sizeSeveral
	if varies {
		v = sizeVaries
	}
	found := sizeFound * at(0)
	switch {
	case class == z.several:
		return math.Max(found*v, codeStray/2)
	case class == 0:
		return 1 - found
	}
	p := exact(class) * (1 - sizeBeside)
	for _, n := range []int{class - 1, class + 1} {
		if n >= 1 && n <= len(z.sizes) {
			p += exact(n) * sizeBeside / 2
		}
	}
	return math.Max(sizeFound*(1-v)*p, codeStray)
}

// other is the odds of a class for a fault that is no hole, as practice knows it.
func (z sizing) other(fault string, class int) float64 {
	all := 0.0
	for i, s := range z.sizes {
		p := math.Max(s.Shows[fault], codeStray)
		if class == i+1 {
			return p
		}
		all += p
	}
	if class == z.several {
		return math.Max(0.15*all, codeStray/2)
	}
	return math.Max(1-1.15*all, 0.05)
}

// leakCodes weighs the codes of leak sizes. Several at once is no contradiction: a leak
// near a threshold, one that varies, or a check that cannot do its work.
func (m *Model) leakCodes(z sizing, e Evidence) likelihood {
	if own, _ := m.Book.Plumbing.Find(m.Of.Vapour); z.met == 0 && !e.ran("evap") || own.Monitor == "" && z.met == 0 {
		return nil
	}
	l := &words{feels: make([]bool, len(m.Suspects)), seen: make([]float64, len(m.Suspects)*shades), well: make([]float64, len(m.Suspects)*shades), ok: z.met == 0}
	stray := math.Max(e.doubt(func(c string) bool {
		return slices.ContainsFunc(z.sizes, func(s knowledge.LeakSize) bool { return slices.Contains(s.Codes, c) })
	}), 1)
	sound := z.plant(0, z.met, false)
	if z.met > 0 {
		sound *= stray
	}
	for j := range kinds {
		l.none[j] = sound
	}
	for i := range m.Suspects {
		l.feels[i] = m.sized(z, i, l)
		for x := i * shades; x < (i+1)*shades && z.met > 0; x++ {
			l.seen[x] = math.Max(l.seen[x], sound)
		}
	}
	return l
}

// sized puts the odds of the class that was met, and of none, under suspect i; it reports
// whether the suspect could make any difference.
func (m *Model) sized(z sizing, i int, l *words) bool {
	s := m.Suspects[i]
	varies := s.Varies || slices.ContainsFunc(s.Changes, func(c knowledge.Change) bool { return c.Param == "sticks" })
	rows := m.rows(Codes)[i]
	var classes [shades]int
	feels := false
	if rows != nil {
		for x, r := range rows {
			if r != nil && r.Outcome != "" {
				classes[x] = z.class(func(c string) bool { return hasWord(r.Outcome, c) })
				feels = feels || classes[x] > 0
			}
		}
	}
	says := func(k, j int) int { return classes[min(max(k, 0), steps-1)*kinds+j] }
	for k := range steps {
		for j := range kinds {
			x := i*shades + k*kinds + j
			c := says(k, j)
			near := varies || says(k+1, j) != c || says(k-1, j) != c || says(k, 1-j) != c
			var plant, practice [2]float64
			for _, n := range []struct {
				k, j int
				w    float64
			}{{k, j, 0.7}, {k - 1, j, 0.1}, {k + 1, j, 0.1}, {k, 1 - j, 0.1}} {
				plant[0] += n.w * z.plant(says(n.k, n.j), z.met, near)
				plant[1] += n.w * z.plant(says(n.k, n.j), 0, near)
			}
			if d := m.sealed[i][k]; d > 0 && !z.names(s.Key) {
				practice = [2]float64{z.hole(d, z.met, varies), z.hole(d, 0, varies)}
				feels = true
			} else {
				practice = [2]float64{z.other(s.Key, z.met), z.other(s.Key, 0)}
				feels = feels || z.names(s.Key)
			}
			by := m.Book.Practice
			l.seen[x], l.well[x] = by*practice[0]+(1-by)*plant[0], by*practice[1]+(1-by)*plant[1]
		}
	}
	return feels
}

// names reports whether practice says something of a fault by itself.
func (z sizing) names(fault string) bool {
	return slices.ContainsFunc(z.sizes, func(s knowledge.LeakSize) bool { return s.Shows[fault] > 0 })
}
