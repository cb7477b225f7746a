package trim

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"gonum.org/v1/gonum/floats"

	"wexter/core/units"
)

// Answer is yes, no, or that it cannot be told yet.
type Answer int

// The answers.
const (
	CannotTell Answer = iota
	Yes
	No
)

// Part is one region before and after a repair.
type Part struct {
	Region        Region
	Before, After float64 // total trim, share; NaN where one log has no such point
}

// Change is what became of the trims after a repair, at the points that both logs have.
type Change struct {
	Worked     Answer
	Relearning bool // the short trim only takes back what the long trim had learned
	Parts      []Part
	Common     int // points after that have one before at like flow
	// Left is the share of what the cause did that is left, with the interval of 95 %; NaN when
	// nothing was off.
	Left, LeftLow, LeftHigh float64
	Name                    string // of that cause
	Now                     string // another cause that the new log points to
	// Drive is how far the long trims have to be driven to come to nought, m, from and to; 0
	// when there is nothing to learn.
	Drive [2]float64
	Idle  [2]float64 // idle speed before and after, 1/min; not numbers where a log has no idle
	Text  string
}

// Limits of a comparison; common practice, no source.
const (
	mostLeft   = 0.35 // of what the cause did, for a repair that worked
	leastLeft  = 0.65 // for one that did not
	offFrom    = 0.04 // of total trim, what the cause must have done somewhere to be worth a comparison
	nought     = 0.05 // of total trim: within it a sound engine stands everywhere
	sure       = 0.8  // probability from which another cause of the new log is named
	sameFlow   = 0.2  // of ln of the flow
	learnedOff = 0.04 // of long trim: from there on there is something to relearn
	// Long trims move in the cells that are driven, so that it takes mixed driving.
	relearnFrom, relearnTo = 30e3, 100e3 // m
)

// CompareRepair says what the trims of two drives say about the repair between them: how much
// of what the likeliest cause did before is left, by the same cause's size in the log after.
// A sound engine's own trim and what purge does are told from it in both, as in every judgement.
func CompareRepair(before, after *Result) Change {
	c := Change{Left: math.NaN(), Idle: [2]float64{before.Points.idleSpeed(), after.Points.idleSpeed()}}
	c.parts(before.Points, after.Points)
	c.Common = inCommon(before.Points.Points, after.Points.Points)
	c.Name, c.Left, c.LeftLow, c.LeftHigh = leftOf(before, after)
	bound := len(after.AtStop) > 0 && slices.ContainsFunc(after.Points.Points, func(p Point) bool { _, _, stop := p.Mean(); return stop != 0 })
	switch {
	case math.IsNaN(c.Left) && c.idlesAgain():
		c.Worked = Yes
	case math.IsNaN(c.Left) || c.Common == 0:
	case c.Left <= mostLeft && (c.LeftHigh <= leastLeft || after.Points.nearNought()) && !bound:
		c.Worked = Yes
	case c.Left >= leastLeft && c.LeftLow >= mostLeft:
		c.Worked = No
	}
	if first := after.Causes[0]; first.Keys[0] != Nothing && first.Probability >= sure && c.Worked == Yes {
		c.Worked, c.Now = CannotTell, first.Name
	}
	c.relearns(after.Points)
	c.Text = c.text(bound)
	return c
}

// leftOf is how much of the likeliest cause is left, with the interval of 95 %; not a number
// where nothing was off.
func leftOf(before, after *Result) (name string, left, low, high float64) {
	nan := math.NaN()
	for _, c := range before.Causes {
		if len(c.Keys) != 1 {
			continue
		}
		is, was := after.curves[c.Keys[0]], before.curves[c.Keys[0]]
		if c.Keys[0] == Nothing || is == nil || was == nil {
			break // likelier than any cause, or one that the new log cannot show
		}
		// Both sizes are taken at the points of the new log.
		full := after.does(was.at[was.best].best)
		if math.Max(floats.Max(full), -floats.Min(full)) < offFrom {
			break
		}
		best, lo, hi := is.interval()
		share := func(u float64) float64 {
			return floats.Dot(after.does(is.near(u).best), full) / floats.Dot(full, full)
		}
		left, low, high = share(best), share(lo), share(hi)
		return c.Name, left, math.Min(low, high), math.Max(low, high)
	}
	return "", nan, nan, nan
}

// does is what a size of a cause does to each datum of a log.
func (r *Result) does(e effect) (out []float64) {
	m := newModel(r.data, []*kind{e.kind})
	m.place([]effect{e})
	for i := range m.rows {
		row := &m.rows[i]
		if row.trim {
			out = append(out, row.site.trim-row.miss)
		} else {
			out = append(out, row.site.second-row.miss)
		}
	}
	return out
}

// nearNought reports whether all totals are those of a sound engine.
func (p *Points) nearNought() bool {
	return !slices.ContainsFunc(p.Points, func(x Point) bool {
		total, _, _ := x.Mean()
		return math.Abs(total) > nought
	})
}

// inCommon counts the points after that have one before at like flow in the same region.
func inCommon(before, after []Point) (n int) {
	for i := range after {
		a := &after[i]
		if slices.ContainsFunc(before, func(b Point) bool {
			return b.Region == a.Region && (a.Region == Idle || math.Abs(math.Log(a.flow()/b.flow())) < sameFlow)
		}) {
			n++
		}
	}
	return
}

// flow is anything that goes with the air flow, in the same measure for points of like logs.
// The air that a meter says misses what a leak lets in, so that speed and pressure go first.
func (p *Point) flow() float64 {
	return firstNumber(p.Speed*p.Pressure, p.Speed*p.Load*1e5, p.Air*1e9, p.Speed)
}

// idlesAgain reports whether the idle was too fast before and is not after: all that an engine
// without an air meter shows of air behind its throttle.
func (c *Change) idlesAgain() bool {
	fast := idleUsual + 1.5*idleSpread
	return c.Idle[0] > fast && c.Idle[1] < fast && c.Idle[0]-c.Idle[1] > idleSpread
}

// idleSpeed is the engine speed of the idle points.
func (p *Points) idleSpeed() float64 {
	sum, w := 0.0, 0.0
	for i := range p.Points {
		if x := &p.Points[i]; x.Region == Idle {
			sum, w = sum+x.Speed*x.Seconds, w+x.Seconds
		}
	}
	return sum / w
}

// parts are the regions' totals, by the seconds spent there.
func (c *Change) parts(before, after Points) {
	for _, r := range []Region{Idle, Fast, Loaded, Other} {
		b, a := before.total(r), after.total(r)
		if b == b || a == a {
			c.Parts = append(c.Parts, Part{r, b, a})
		}
	}
}

// total is the mean of a region; not a number where the log has none of it.
func (p *Points) total(r Region) float64 {
	sum, w := 0.0, 0.0
	for i := range p.Points {
		if x := &p.Points[i]; x.Region == r {
			t, _, _ := x.Mean()
			sum += t * x.Seconds
			w += x.Seconds
		}
	}
	return sum / w
}

// relearns says whether short and long trim only cancel each other, and how long that takes.
func (c *Change) relearns(after Points) {
	long, took, w := 0.0, 0.0, 0.0
	most := 0.0
	for _, p := range after.Points {
		for _, k := range p.Banks {
			most = math.Max(most, math.Abs(k.Long))
			if math.Abs(k.Long) < learnedOff {
				continue
			}
			long += p.Seconds * math.Abs(k.Long)
			took -= p.Seconds * k.Short * math.Copysign(1, k.Long)
			w += p.Seconds
		}
	}
	if w == 0 {
		return
	}
	c.Relearning = took > 0.5*long && c.Worked != No
	if c.Relearning {
		// What has less to go is there sooner.
		share := math.Min(most/0.25, 1)
		c.Drive = [2]float64{relearnFrom * share, relearnTo * share}
	}
}

// text says it in sentences.
func (c *Change) text(bound bool) string {
	var out []string
	for _, p := range c.Parts {
		if p.Before == p.Before && p.After == p.After {
			out = append(out, fmt.Sprintf("%s %s to %s", p.Region, signed(p.Before), signed(p.After)))
		}
	}
	head := ""
	if len(out) > 0 {
		head = "Total trim: " + strings.Join(out, ", ") + "."
	}
	left := fmt.Sprintf("%.0f %% (%.0f to %.0f) of what was off is left", 100*c.Left, 100*c.LeftLow, 100*c.LeftHigh)
	say := ""
	switch {
	case c.Common == 0:
		say = "The two logs have no point in common: drive the same again, with idle, 2500 without load and a steady pull."
	case math.IsNaN(c.Left) && c.Worked == Yes:
		say = fmt.Sprintf("The idle fell from %.0f to %.0f rpm and stands where it belongs; the trims were silent before as well.", c.Idle[0], c.Idle[1])
	case math.IsNaN(c.Left):
		say = "Nothing was far off before: the trims cannot tell whether the repair worked."
	case c.Now != "":
		say = "What was off (" + c.Name + ") is gone, but the new log points to something else: " + c.Now + "."
	case c.Worked == Yes:
		say = "The repair worked: what was off (" + c.Name + ") is gone."
	case c.Worked == No:
		say = left + ": the cause (" + c.Name + ") is still there."
	case bound:
		say = "A trim stands at its stop, so that the total is a bound: let it learn and read again."
	case c.Left < -mostLeft:
		say = "The trims are now off the other way: look for something that the repair changed."
	case c.LeftHigh-c.LeftLow > leastLeft:
		say = left + ": too wide to tell. Drive the same again, half a minute at each point."
	default:
		say = left + ": part of it is mended, or there was more than one cause."
	}
	if c.Relearning {
		say += fmt.Sprintf(" The short trim only takes back what the long trim had learned: this is the repair working, not a rich or lean fault. The long trims come to nought over some %.0f to %.0f km (%.0f to %.0f miles) of mixed driving.",
			c.Drive[0]/1e3, c.Drive[1]/1e3, c.Drive[0]/units.Mile, c.Drive[1]/units.Mile)
	}
	return strings.TrimSpace(head + " " + say)
}

// signed is a share as trims are written.
func signed(x float64) string { return fmt.Sprintf("%+.1f %%", 100*x) }
