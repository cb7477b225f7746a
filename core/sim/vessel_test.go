package sim

import (
	"fmt"
	"math"
	"strings"
	"testing"

	"wexter/core/gas"
)

func plant(t *testing.T, v Vessel) *Plant {
	t.Helper()
	p, err := New(v)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// Isothermal leak at small pressure: √gauge falls linearly with time (ideal gas and
// the incompressible orifice), to a few tenths of a percent at 13 inH2O.
func TestIsothermalDecay(t *testing.T) {
	const v, d = 0.04, 0.5e-3
	p := plant(t, Vessel{Volume: v, Leak: d, HeatTime: 1e-3})
	if err := p.Set(Charge, 2000); err != nil {
		t.Fatal(err)
	}
	for p.Port() != Seal {
		p.Run(0.01)
	}
	p0, at := p.Gauge(), p.Time()
	p.Run(60)
	b, r := gas.StandardPressure, gas.RAir*293.15
	rate := r / v * gas.NominalCd * gas.Area(d) * math.Sqrt(2*b/r) / 2 // d√p/dt
	want := math.Pow(math.Sqrt(p0)-rate*(p.Time()-at), 2)
	if got := p.Gauge(); math.Abs(got/want-1) > 0.01 {
		t.Errorf("after 60 s %.1f Pa, closed form %.1f Pa", got, want)
	}
}

// Charging adiabatically: dT = (γ−1)/γ·T·dp/p (ideal gas, first law), about 2.7 K at
// 13 inH2O; with heat given off at constant mass the pressure falls by the same share.
func TestHeatOfCharging(t *testing.T) {
	p := plant(t, Vessel{Volume: 0.04, HeatTime: 3000})
	_ = p.Set(Charge, 13*249.089)
	for p.Port() != Seal {
		p.Run(0.01)
	}
	want := 0.4 / 1.4 * 293.15 * p.Gauge() / gas.StandardPressure
	if rise := p.Gas() - 293.15; math.Abs(rise/want-1) > 0.03 {
		t.Errorf("the gas is %.2f K warmer, want %.2f", rise, want)
	}
	m := p.Mass()
	p.Run(600)
	if p.Mass() != m {
		t.Errorf("a sealed vessel lost %g of its mass", 1-p.Mass()/m)
	}
}

// What leaves through the orifice is what the mass loses: mass is kept to rounding
// when inflow and outflow cross in one step, and halving nothing changes the answer.
func TestVacuumComesBack(t *testing.T) {
	p := plant(t, Vessel{Volume: 0.04, Leak: 1e-3})
	_ = p.Set(Draw, -2491)
	for p.Port() != Seal {
		p.Run(0.01)
	}
	g := p.Gauge()
	p.Run(300)
	if p.Gauge() < g || math.Abs(p.Gauge()) > 1 {
		t.Errorf("from %.0f to %.0f Pa in 300 s", g, p.Gauge())
	}
}

// A relief opens at its crack pressure and shuts at its reseal pressure.
func TestReliefAndDrift(t *testing.T) {
	p := plant(t, Vessel{Volume: 0.01, Drift: 20, Crack: 200, Reseal: 100})
	_ = p.Set(Seal, 0)
	low, high := math.Inf(1), 0.0
	seen := false
	for range 4000 {
		p.Run(0.01)
		high = math.Max(high, p.Gauge())
		if seen = seen || high > 199; seen {
			low = math.Min(low, p.Gauge())
		}
	}
	if high < 199 || high > 215 || low < 60 || low > 101 {
		t.Errorf("the relief keeps it between %.0f and %.0f Pa, want 100 and 200", low, high)
	}
}

func TestRigAndKnownOrifice(t *testing.T) {
	p := plant(t, Vessel{Volume: 0.03, Leak: 2e-3, Orifice: 0.5e-3})
	p.Plug()
	_ = p.Set(Charge, 3000)
	p.Run(2)
	if p.Port() != Seal {
		t.Fatal("the plugged rig does not come up")
	}
	p.Run(20)
	a := p.Gauge()
	p.Run(60)
	if math.Abs(p.Gauge()-a) > 1 {
		t.Errorf("a tight rig goes from %.0f to %.0f Pa", a, p.Gauge())
	}
	p.Connect()
	if p.Gauge() > 1 || p.Port() != Open {
		t.Errorf("connected it stands at %.0f Pa, %s", p.Gauge(), p.Port())
	}
	fall := func(work func(*Plant)) float64 {
		q := plant(t, Vessel{Volume: 0.03, Orifice: 0.5e-3})
		work(q)
		_ = q.Set(Charge, 2000)
		q.Run(40)
		g := q.Gauge()
		q.Run(10)
		return g - q.Gauge()
	}
	if open, shut := fall((*Plant).OpenKnown), fall((*Plant).ShutKnown); open < 50 || shut > 15 {
		t.Errorf("with the orifice it falls %.0f Pa, without %.0f", open, shut)
	}
}

func TestRefusals(t *testing.T) {
	for say, v := range map[string]Vessel{"the volume": {}, "the leak": {Volume: 1e-2, Leak: -1}, "the drift": {Volume: 1e-2, Drift: math.NaN()}, "shuts at": {Volume: 1e-2, Crack: 10, Reseal: 20}} {
		t.Run(say, func(t *testing.T) {
			if _, err := New(v); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%+v: %v", v, err)
			}
		})
	}
	p := plant(t, Vessel{Volume: 0.01})
	for _, c := range []struct {
		port Port
		to   float64
	}{{Charge, -1}, {Charge, math.NaN()}, {Draw, 5}, {Draw, math.Inf(-1)}, {"sideways", 0}} {
		t.Run(fmt.Sprint(c.port), func(t *testing.T) {
			if p.Set(c.port, c.to) == nil {
				t.Errorf("%s to %g was taken", c.port, c.to)
			}
		})
	}
}

// The same vessel and commands give the same run, to the bit.
func TestSameRun(t *testing.T) {
	run := func() float64 {
		p := plant(t, Vessel{Volume: 0.03, Leak: 0.4e-3, Drift: 0.2, WallRate: 1e-3})
		_ = p.Set(Charge, 3000)
		for range 300 {
			p.Run(0.1)
		}
		return p.Gauge()
	}
	if a, b := run(), run(); a != b {
		t.Errorf("%v and %v", a, b)
	}
}

// BenchmarkPlant reports how many times faster than real time the plant runs.
func BenchmarkPlant(b *testing.B) {
	p, err := New(Vessel{Volume: 0.04, Leak: 0.5e-3, Drift: 0.1})
	if err != nil {
		b.Fatal(err)
	}
	_ = p.Set(Charge, 3000)
	for b.Loop() {
		p.Run(1)
	}
	b.ReportMetric(p.Time()/b.Elapsed().Seconds(), "realtime")
}
