package trim_test

import (
	"fmt"
	"math"
	"os"
	"slices"
	"sync"
	"testing"

	"gonum.org/v1/gonum/mat"

	"wexter/core/trim"
)

// allCauses are what the drawn engines have.
var allCauses = []trim.Key{trim.ManifoldLeak, trim.ManifoldLeak, trim.InletLeak, trim.MeterScale, trim.FuelDelivery, trim.RichIdle, trim.ChargeLeak, trim.PurgeShare, trim.EGRShare, trim.Nothing}

// drawn is one drawn log and what became of it.
type drawn struct {
	e      *truth
	seed   uint64
	result trim.Result
	err    error
	gap    float64
}

// firm is what odds count as an answer.
const firm = 0.9

func (d *drawn) first() bool { return d.result.Causes[0].Key() == string(d.e.cause) }

// among reports whether the true cause is said to look like the first.
func (d *drawn) among() bool {
	return slices.ContainsFunc(d.result.Ambiguous, func(a trim.Alike) bool { return slices.Contains(a.Keys, string(d.e.cause)) })
}

// found is the true cause as the analysis sizes it.
func (d *drawn) found() (trim.Cause, bool) {
	for _, c := range d.result.Causes {
		if c.Key() == string(d.e.cause) && c.Value == c.Value {
			return c, true
		}
	}
	return trim.Cause{}, false
}

// TestDrawnLogs holds the analysis to engines that it has never seen.
func TestDrawnLogs(t *testing.T) {
	list := make([]*drawn, 300)
	var wait sync.WaitGroup
	slots := make(chan struct{}, 4)
	for i := range list {
		wait.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			e := draw(uint64(i)+1, allCauses[i%len(allCauses)])
			d := &drawn{e: e, seed: uint64(i) + 1}
			d.result, d.err = trim.Judge(e.log(), e.engine())
			if d.err == nil {
				d.gap = e.gap(d.result.Points.Points)
			}
			list[i] = d
		})
	}
	wait.Wait()
	var clear, told, near, nearRight, sized, covered, wrong share
	for _, d := range list {
		if d.err != nil {
			t.Fatalf("seed %d, %s: %v", d.seed, d.e.cause, d.err)
		}
		first := d.result.Causes[0]
		if d.gap >= 3 {
			clear++
			if d.first() || d.among() {
				told++
			}
		}
		if first.Probability >= firm && len(d.result.Ambiguous) == 0 && !d.first() {
			wrong++
		}
		c, ok := d.found()
		want := d.e.sized(d.result.Points.Points, d.result.Metering)
		if ok {
			sized++
			if c.Low <= want && want <= c.High {
				covered++
			}
		}
		if of := d.e.ofIdle(); ok && d.e.cause == trim.ManifoldLeak && of >= 0.08 && of <= 0.25 && len(d.result.AtStop) == 0 {
			near++
			if math.Abs(c.Value/want-1) <= 0.15 {
				nearRight++
			}
		}
		if os.Getenv("EACH") != "" {
			fmt.Printf("%3d %-14s gap %6.1f first %-14s %.2f among %-5v want %7.2f got %7.2f (%.2f to %.2f) points %d map %v\n", d.seed, d.e.cause, d.gap, first.Key(), first.Probability, d.among(), want, c.Value, c.Low, c.High, len(d.result.Points.Points), d.e.byMap)
		}
	}
	t.Logf("clear %v, of which told %v; diameters %v, within 15 %% %v; sized %v, covered %v; firm and wrong %v", clear, told, near, nearRight, sized, covered, wrong)
	if clear < 150 || told/clear < 0.9 {
		t.Errorf("the true cause is told in %v of %v clear logs, at least 90 %% are wanted", told, clear)
	}
	if near < 15 || nearRight/near < 0.9 {
		t.Errorf("%v of %v diameters are within 15 %%, at least 90 %% are wanted", nearRight, near)
	}
	if x := covered / sized; x < 0.92 || x > 0.98 {
		t.Errorf("intervals of 95 %% cover %.3f", x)
	}
	if wrong/share(len(list)) > 0.02 {
		t.Errorf("%v of %d logs are judged firmly and wrongly", wrong, len(list))
	}
}

// share counts logs of which shares are taken.
type share float64

// engine is what a user would say of it.
func (e *truth) engine() trim.Engine {
	if e.byMap {
		return trim.Engine{Displacement: e.size, Metering: trim.SpeedDensity}
	}
	return trim.Engine{Displacement: e.size, Metering: trim.AirMeter}
}

// ofIdle is a manifold leak as a share of the idle air.
func (e *truth) ofIdle() float64 { return e.what * through(e.baro, e.intake, 0.33*e.baro) / e.idleAir }

// says is what an engine's trims and its meter (beside speed and density) would read at the
// points, as logarithms, without noise.
func (e *truth) says(points []trim.Point) (need, second []float64) {
	for _, p := range points {
		f := e.flow(p.Speed, p.Pressure, firstOf(p.Purge, 0))
		need = append(need, f.need)
		second = append(second, math.Log(f.read/e.charge(p.Speed, p.Pressure)))
	}
	return
}

func firstOf(x, other float64) float64 {
	if x == x {
		return x
	}
	return other
}

// gap is by how much the log's own likelihood is expected to fall when the likest other cause
// is put in the place of the true one: half the squares that are left at the points, with the
// engine's own trim, its vapour and its breathing free to help within what they are drawn from.
func (e *truth) gap(points []trim.Point) float64 {
	need, second := e.says(points)
	least := math.Inf(1)
	for _, k := range slices.Compact(slices.Clone(allCauses)) {
		if k == e.cause {
			continue
		}
		for _, other := range e.others(k) {
			n, s := other.says(points)
			least = math.Min(least, e.left(points, differences(need, n), differences(second, s), k))
		}
	}
	return least
}

// others are engines like this one with another cause, of all sizes.
func (e *truth) others(k trim.Key) (out []*truth) {
	shapes := []float64{0}
	if k == trim.FuelDelivery {
		shapes = []float64{0.5, 1, 2}
	}
	for i := range 24 {
		for _, shape := range shapes {
			o := *e
			x := float64(i) / 23
			o.cause, o.shape, o.what = k, shape, 0.01*math.Pow(60, x)
			switch k {
			case trim.ManifoldLeak:
				o.what *= e.idleAir / through(e.baro, e.intake, 0.33*e.baro)
			case trim.EGRShare:
				o.what *= e.idleAir / through(1.02*e.baro, 750, 0.35*e.baro)
			case trim.MeterScale:
				o.what = 0.6*x - 0.3
			case trim.Nothing, trim.PurgeShare:
				if i > 0 {
					return out
				}
			}
			out = append(out, &o)
		}
	}
	return out
}

// left is half the squares that stay when the shared unknowns have done what they can.
func (e *truth) left(points []trim.Point, need, second []float64, k trim.Key) float64 {
	sd := []float64{0.018, 0.14, 0.045}
	if k == trim.PurgeShare {
		sd[1] = 0.7
	}
	rows := 2*len(points) + len(sd)
	a, b := mat.NewDense(rows, len(sd), nil), mat.NewVecDense(rows, nil)
	for i, p := range points {
		noise := 0.004
		for _, bank := range p.Banks {
			noise = math.Hypot(noise, bank.SD/float64(len(p.Banks)))
			if bank.Bound {
				noise = 10
			}
		}
		noise = math.Hypot(noise, e.wander)
		comes := firstOf(p.Purge, 0) * e.idleAir / e.charge(p.Speed, p.Pressure) * math.Min(1, 1.7*math.Sqrt(math.Max(1-p.Pressure/e.baro, 0)))
		a.SetRow(2*i, []float64{1 / noise, comes / noise, 0})
		b.SetVec(2*i, need[i]/noise)
		if !e.byMap {
			const secondNoise = 0.015
			a.SetRow(2*i+1, []float64{0, 0, 1 / secondNoise})
			b.SetVec(2*i+1, second[i]/secondNoise)
		}
	}
	for n, s := range sd {
		a.Set(2*len(points)+n, n, 1/s)
	}
	var x mat.VecDense
	if x.SolveVec(a, b) != nil {
		return 0
	}
	var miss mat.VecDense
	miss.MulVec(a, &x)
	miss.SubVec(b, &miss)
	return mat.Dot(&miss, &miss) / 2
}

func differences(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] - b[i]
	}
	return out
}
