package gas_test

import (
	"fmt"
	"math"
	"testing"

	"wexter/core/gas"
	"wexter/core/units"
)

func near(t *testing.T, what string, got, want, tol float64) {
	t.Helper()
	if math.IsNaN(got) || math.Abs(got-want) > tol {
		t.Errorf("%s = %.6g, want %.6g ± %.2g", what, got, want, tol)
	}
}

const (
	t20   = 293.15
	baro  = gas.StandardPressure
	mm020 = 0.508e-3
	mm040 = 1.016e-3
)

// Source of the two values: NACA Report 1135, 1953 (values from memory).
func TestCriticalFlow(t *testing.T) {
	near(t, "critical ratio", gas.CriticalRatio(1.4), 0.5283, 5e-5)
	near(t, "critical flow function", gas.CriticalFlowFunction(1.4), 0.6847, 5e-5)
	near(t, "both regimes meet", gas.FlowFunction(0.5283, 1.4), gas.FlowFunction(0.52829, 1.4), 1e-6)
}

// Check values computed from the compressible orifice equation, NACA Report
// 1135, 1953 (equation from memory).
func TestOrificeCheckValues(t *testing.T) {
	p := 13 * units.InH2O
	for _, c := range []struct{ d, want, tol float64 }{{mm020, 0.54, 0.005}, {mm040, 2.17, 0.02}} {
		t.Run(fmt.Sprint(c.d), func(t *testing.T) {
			m := gas.Orifice(gas.Area(c.d), 0.61, baro+p, t20, baro)
			near(t, fmt.Sprintf("free air in L/min at %g m", c.d), gas.FreeAir(m, baro, t20)*60e3, c.want, c.tol)
		})
	}
	m := gas.Orifice(gas.Area(3e-3), 0.61, baro, t20, baro-18*units.InHg)
	near(t, "3 mm at 18 inHg, g/s", m*1e3, 1.03, 0.01)
}

// Half-times of the closed volume through the same orifice equation.
func TestHalfTime(t *testing.T) {
	p := 13 * units.InH2O
	near(t, "0.020 in in 30 L", gas.HalfTime(0.61*gas.Area(mm020), 0.030, t20, p, baro), 62, 0.5)
	near(t, "0.040 in in 30 L", gas.HalfTime(0.61*gas.Area(mm040), 0.030, t20, p, baro), 15.5, 0.2)
	// For small gauge pressures √p falls linearly, so 4p → p takes as long as p → 0 would: the
	// half-time from a tiny start is 2(1−√½)·p0/|dp/dt|.
	small := 50.0
	rate := gas.RAir * t20 / 0.030 * gas.Orifice(gas.Area(mm020), 0.61, baro+small, t20, baro)
	near(t, "closed form", gas.HalfTime(0.61*gas.Area(mm020), 0.030, t20, small, baro), 2*(1-math.Sqrt(0.5))*small/rate, 0.002)
}

func TestOrificeIsOddContinuousAndLinearNearZero(t *testing.T) {
	a := gas.Area(mm020)
	if got := gas.Orifice(a, 0.61, baro, t20, baro); got != 0 {
		t.Errorf("no difference, flow %g", got)
	}
	up, down := gas.Orifice(a, 0.61, baro+100, t20, baro), gas.Orifice(a, 0.61, baro, t20, baro+100)
	near(t, "odd", up, -down, 1e-18)
	near(t, "half of a pascal", gas.Orifice(a, 0.61, baro+0.5, t20, baro), gas.Orifice(a, 0.61, baro+1, t20, baro)/2, 1e-16)
	last := 0.0
	for p := 0.1; p < 200000; p *= 1.1 {
		m := gas.Orifice(a, 0.61, baro+p, t20, baro)
		if m <= last {
			t.Fatalf("flow does not rise with pressure at %g Pa", p)
		}
		last = m
	}
}

// Source: U.S. Standard Atmosphere 1976 (values from memory).
func TestAtHeight(t *testing.T) {
	for _, c := range []struct{ feet, inHg float64 }{{8000, 22.22}, {5000, 24.90}, {2000, 27.82}} {
		t.Run(fmt.Sprint(c.feet), func(t *testing.T) {
			near(t, fmt.Sprintf("inHg at %g ft", c.feet), gas.AtHeight(c.feet*0.3048)/units.InHg, c.inHg, 0.01)
		})
	}
}

// Source: EPA AP-42, section 7.1, table 7.1-2 (values from memory).
func TestGasolineVapour(t *testing.T) {
	check := func(rvp, f, psia float64) {
		got := gas.GasolineVapour(rvp*units.Psi, (f+459.67)/1.8) / units.Psi
		near(t, fmt.Sprintf("RVP %g at %g °F", rvp, f), got, psia, 0.03*psia)
	}
	for i, want := range []float64{3.4, 4.2, 5.2, 6.2, 7.4, 8.8, 10.5} {
		check(10, 40+10*float64(i), want)
	}
	check(13, 60, 6.9)
	check(7, 60, 3.5)
}

// Ideal-gas law: 1 K is about 1.4 inH2O at constant volume.
func TestOneKelvinIsOnePointFourInchesOfWater(t *testing.T) {
	near(t, "inH2O per K", baro/t20/units.InH2O, 1.4, 0.02)
	near(t, "K per inH2O", units.InH2O*t20/baro, 0.72, 0.005)
}

func TestVolumes(t *testing.T) {
	s := gas.Space{Tank: 0.060, Level: 0.4, Neck: 0.0015, Canister: 0.002, Lines: 0.0005}
	near(t, "vapour space", s.Vapour(), 0.040, 1e-12)
	// Ideal-gas law: 1 L/min of free air for 60 s into 40 L raises it by p·1/40.
	near(t, "metered", gas.MeteredVolume(1e-3/60, 60, baro/40, baro), 0.040, 1e-12)
	// Two to three changes of a mixed volume leave 86 to 95 %: 1 − e⁻², 1 − e⁻³.
	near(t, "three changes", gas.SmokeTime(0.040, 1e-4, 1-math.Exp(-3)), 1200, 1e-6)
}

func ExampleOrifice() {
	m := gas.Orifice(gas.Area(0.508e-3), gas.NominalCd, 101325+3238, 293.15, 101325)
	fmt.Printf("%.2f L/min of free air\n", gas.FreeAir(m, 101325, 293.15)*60e3)
	// Output: 0.54 L/min of free air
}
