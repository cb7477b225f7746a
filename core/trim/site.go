package trim

import (
	"math"

	"wexter/core/gas"
)

// What an engine is taken for where the log does not say; each enters with its uncertainty.
const (
	breathing     = 0.88 // volumetric efficiency of a healthy engine with full cylinders (value from memory of Heywood, 1988)
	breathingSD   = 0.05 // ±10 %, k=2
	breathingBend = 0.08 // per unit of ln(pressure over barometer)
	secondSD      = 0.03 // of ln(meter over speed and density) from point to point
	usualSize     = 1.8e-3
	usualSizeSD   = 0.25 // of its logarithm
	compression   = 10.0
	exhaustTemp   = 750.0 // K, in the port of the recirculation valve at part load
	warmIntake    = 308.0 // K under a warm bonnet
	purgeIdle     = 0.3   // duty that purge is taken for where it was not logged
)

// site is a point as the fit sees it.
type site struct {
	trim, noise float64 // ln(1+total), and its standard deviation
	stop        int
	visits      float64
	second      float64 // ln(meter over speed and density); NaN without both
	bend        float64 // ln(pressure over barometer)

	air     float64 // kg/s
	share   float64 // of the largest flow of the log
	perArea float64 // kg/s that enter a hole behind the throttle, for each m² at Cd 0.61
	// kg/s that leave a hole of the charge side, for each m², by how the charge pressure is taken
	// to rise with the flow
	escapes  [len(rises)]float64
	exhaust  float64 // kg/s that come through an opening to the exhaust, for each m²
	purge    float64 // what a unit of purge does to ln(1+total): duty, fading with the flow
	curve    float64 // ln of the flow over the middle one: how a meter's error bends
	pressure float64
}

// data are the sites of a log and what is common to them.
type data struct {
	sites       []site
	points      []Point
	metering    Metering
	idle        int // the idle point with the most seconds, −1 for none
	least, most float64
	escapesMost [len(rises)]float64 // share of the air for each m² of hole, where it is largest
	purgeMost   float64             // largest of the sites' purge
	exhaustIdle float64             // share of the air for each m² of opening, at the least flow
	second      int                 // sites with a second opinion on the air
	sizeSD      float64             // of ln of the displacement, 0 when it was given
	flowSD      float64             // of ln of all flows together: a diameter's own uncertainty beside the fit's
	warnings    []string
}

// newData completes points to what the fit needs.
func newData(p Points, e Engine) *data {
	d := &data{points: p.Points, metering: e.Metering, idle: -1, least: math.Inf(1)}
	size := e.Displacement
	if size == 0 {
		size, d.sizeSD = usualSize, usualSizeSD
	}
	inferred, reckoned := 0, 0
	for i := range p.Points {
		x := &p.Points[i]
		t, sd, stop := x.Mean()
		s := site{trim: ln1(t), noise: sd / (1 + t), stop: stop, visits: float64(x.Visits), second: math.NaN()}
		baro := e.barometer(x)
		intake := firstNumber(x.Intake, warmIntake)
		s.pressure = x.Pressure
		if math.IsNaN(s.pressure) {
			s.pressure = baro * pressureShare(x)
			inferred++
		}
		ratio := math.Min(math.Max(s.pressure/baro, 0.1), 3)
		s.bend = math.Log(ratio)
		full := breathing * residual(ratio) * size * x.Speed / 120 * s.pressure / (gas.RAir * intake)
		s.air = x.Air
		switch {
		case math.IsNaN(s.air) || e.Metering == SpeedDensity:
			s.air = full
			reckoned++
		case !math.IsNaN(x.Pressure) && !(x.EGR > 0.02):
			s.second = math.Log(math.Max(s.air, 1e-6) / full)
			d.second++
		}
		s.air = math.Max(s.air, 1e-5)
		s.perArea = gas.Orifice(1, gas.NominalCd, baro, intake, math.Min(s.pressure, baro))
		s.exhaust = gas.Orifice(1, gas.NominalCd, baro*1.02, exhaustTemp, math.Min(s.pressure, baro))
		d.sites = append(d.sites, s)
	}
	if reckoned > 0 && d.sizeSD > 0 && e.Metering != SpeedDensity {
		d.warnings = append(d.warnings, "Neither air flow nor the engine's size is known: flows are calculated for 1.8 L, and a diameter is that much less certain.")
		d.flowSD = usualSizeSD
	}
	if inferred > 0 {
		d.warnings = append(d.warnings, "Manifold pressure was not logged: it was inferred from load.")
		d.flowSD = math.Hypot(d.flowSD, 0.04)
	}
	d.charge(p.Points, e)
	d.common(p.Points)
	return d
}

// rises are exponents of the flow with which the pressure before the throttle rises where it was
// not logged: the turbine is driven by the flow. Nought takes what was read alone.
var rises = [...]float64{0, 1.3, 2}

// barometer is that of a point: as it was logged, as it is known otherwise, or the standard.
func (e Engine) barometer(x *Point) float64 {
	return firstNumber(x.Barometer, e.Barometer, gas.StandardPressure)
}

// charge works out what a hole of the charge side loses.
func (d *data) charge(points []Point, e Engine) {
	const ducts = 1.5e3 // Pa that a compressor has to give before anything is above the barometer
	top, at := 0.0, 0.0
	baro := e.barometer
	for i := range points {
		over := firstNumber(points[i].Charge, d.sites[i].pressure) - baro(&points[i])
		if over > math.Max(top, 2e3) {
			top, at = over, d.sites[i].air
		}
	}
	for i := range points {
		s, x := &d.sites[i], &points[i]
		for k, q := range rises {
			p := firstNumber(x.Charge, s.pressure)
			if q > 0 && top > 0 && math.IsNaN(x.Charge) {
				p = math.Max(p, baro(x)+top*math.Pow(s.air/at, q)-ducts)
			}
			if p > baro(x)+500 {
				s.escapes[k] = gas.Orifice(1, gas.NominalCd, p, firstNumber(x.Intake, warmIntake)+20, baro(x))
			}
		}
	}
}

// pressureShare is manifold pressure over the barometer where it was not logged: calculated
// load is close to it (SAE J1979, PID 04, from memory), with some more for residual gas at
// light load; without load, what engines usually have there.
func pressureShare(p *Point) float64 {
	if p.Load == p.Load {
		return math.Min(0.1+0.9*p.Load, 1)
	}
	return map[Region]float64{Idle: 0.34, Fast: 0.32, Loaded: 0.85, Other: 0.55}[p.Region]
}

// residual is what exhaust left in the cylinder takes from breathing at a low manifold
// pressure, over the barometer. Source: Heywood, Internal Combustion Engine Fundamentals,
// 1988, ideal cycle with exhaust at the barometer (formula from memory).
func residual(ratio float64) float64 {
	const gamma = 1.35
	return (compression - (1/ratio+gamma-1)/gamma) / (compression - 1)
}

// common works out what concerns all sites together.
func (d *data) common(points []Point) {
	sum, clean := 0.0, math.Inf(1)
	at := 0
	for i := range d.sites {
		s := &d.sites[i]
		if s.air < d.least {
			d.least, at = s.air, i
		}
		d.most = math.Max(d.most, s.air)
		sum += math.Log(s.air)
		// The idle that other flows are measured by is the one with the least purge, since what
		// comes in with purge was not metered.
		if p := &points[i]; p.Region == Idle && (d.idle < 0 || p.purgeStep() < clean || p.purgeStep() == clean && p.Seconds > points[d.idle].Seconds) {
			d.idle, clean = i, p.purgeStep()
		}
	}
	if d.idle >= 0 {
		at = d.idle
		d.least = d.sites[at].air
	}
	for i := range d.sites {
		s, p := &d.sites[i], &points[i]
		s.share = s.air / d.most
		s.curve = math.Log(s.air) - sum/float64(len(d.sites))
		duty := p.Purge
		if math.IsNaN(duty) {
			duty = purgeIdle
		}
		if duty > 0.02 {
			low := math.Max(s.perArea, 0) / math.Max(d.sites[at].perArea, 1e-9)
			s.purge = duty * d.least / s.air * low
		}
		d.purgeMost = math.Max(d.purgeMost, s.purge)
		for k := range rises {
			d.escapesMost[k] = math.Max(d.escapesMost[k], s.escapes[k]/s.air)
		}
	}
	d.exhaustIdle = d.sites[at].exhaust / d.sites[at].air
}

// purgeStep is the duty in steps that matter.
func (p *Point) purgeStep() float64 {
	return math.Floor(firstNumber(p.Purge, 0.01) / 0.05)
}
