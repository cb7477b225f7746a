package trim

import (
	"math"

	"wexter/core/gas"
)

// Key names a cause.
type Key string

// The causes.
const (
	ManifoldLeak Key = "manifold-leak"
	InletLeak    Key = "inlet-leak"
	MeterScale   Key = "meter-scale"
	FuelDelivery Key = "fuel-delivery"
	RichIdle     Key = "rich-idle"
	ChargeLeak   Key = "charge-leak"
	PurgeShare   Key = "purge"
	EGRShare     Key = "egr"
	Nothing      Key = "none"
)

// kind is a cause as the fit knows it: its sizes, and what a size does at a site.
type kind struct {
	key   Key
	name  string
	unit  string  // of the size as it is said
	prior float64 // odds before anything is read, common practice, no source
	sizes scale
	// shapes are ways in which it may go with flow, each as likely; nil for one way.
	shapes []float64
	bends  float64 // a further unknown: how its share changes with each e-fold of the flow; its standard deviation
	// effect is what a size does at a site: ln of the air inhaled over the air reckoned with,
	// ln of the fuel delivered over the fuel reckoned with, and ln of what recirculated gas adds
	// to what speed and density count.
	effect func(d *data, s *site, size, shape float64) (air, fuel, gas float64)
	// says turns a size into what is said of it.
	says func(d *data, size, shape float64) float64
	// unseen says why a log cannot show the cause; empty when it can.
	unseen func(d *data) string
}

// scale is what sizes a cause has, with the prior over them: normal in the size, or in its
// logarithm. The nought is the scale of what has no size.
type scale struct {
	from, to    float64
	log         bool
	median, wid float64
}

func (s scale) none() bool { return s.from == s.to }

// ends are the least and the largest size, or their logarithms.
func (s scale) ends() (from, to float64) {
	if s.log {
		return math.Log(s.from), math.Log(s.to)
	}
	return s.from, s.to
}

// at is a size and the logarithm of its prior's density, up to a common term.
func (s scale) at(u float64) (size, lnPrior float64) {
	if s.none() {
		return 0, 0
	}
	x, median := u, s.median
	if s.log {
		u, median = math.Exp(u), math.Log(median)
	}
	z := (x - median) / s.wid
	return u, -z * z / 2
}

// lnWhole is the logarithm of the prior's integral over all sizes.
func (s scale) lnWhole() float64 {
	from, to := s.ends()
	median := s.median
	if s.log {
		median = math.Log(median)
	}
	z := func(x float64) float64 { return (x - median) / (s.wid * math.Sqrt2) }
	return math.Log(s.wid * math.Sqrt(math.Pi/2) * (math.Erf(z(to)) - math.Erf(z(from))))
}

func visible(*data) string { return "" }

func percent(x float64) float64 { return 100 * x }

// ln1 is ln(1+x), kept away from where nothing would be left.
func ln1(x float64) float64 {
	return math.Log1p(math.Max(x, -0.95))
}

// kinds are the causes that a log is weighed against. The spread of sizes is common practice,
// no source: most holes that trims show are of one to five millimetres, most shares of some
// per cent to a third.
var kinds = []kind{
	{key: Nothing, name: "nothing wrong that trims can show", prior: 0.25, unseen: visible,
		effect: func(*data, *site, float64, float64) (a, f, g float64) { return }},
	{key: ManifoldLeak, name: "vacuum leak behind the throttle", unit: "mm", prior: 0.17, sizes: scale{0.3e-3, 20e-3, true, 2e-3, 0.7},
		effect: func(d *data, s *site, size, _ float64) (a, _, _ float64) {
			if d.metering == SpeedDensity {
				return 0, 0, 0 // it comes in with the pressure, and the unit reckons with it
			}
			return ln1(gas.Area(size) * s.perArea / s.air), 0, 0
		},
		says: func(_ *data, size, _ float64) float64 { return size * 1e3 },
		unseen: func(d *data) string {
			if d.metering == SpeedDensity && d.idle < 0 {
				return "This engine calculates its fuel from manifold pressure (MAP), so a vacuum leak behind the throttle hardly moves the trims; only the idle speed tells, and the log has no warm idle."
			}
			return ""
		}},
	{key: InletLeak, name: "leak between air meter and throttle", unit: "%", prior: 0.13, sizes: scale{0.01, 0.6, true, 0.1, 0.8}, bends: 0.012,
		effect: func(_ *data, _ *site, size, _ float64) (a, f, g float64) { return ln1(size), 0, 0 },
		says:   func(_ *data, size, _ float64) float64 { return percent(size / (1 + size)) },
		unseen: func(d *data) string {
			if d.metering == SpeedDensity {
				return "Without an air meter (MAF), a leak before the throttle does not change the fuel."
			}
			return ""
		}},
	{key: MeterScale, name: "air meter reads wrong", unit: "%", prior: 0.13, sizes: scale{-0.4, 0.4, false, 0, 0.15}, bends: 0.04, unseen: visible,
		effect: func(_ *data, _ *site, size, _ float64) (a, f, g float64) { return size, 0, 0 },
		says:   func(_ *data, size, _ float64) float64 { return percent(math.Expm1(-size)) }},
	{key: FuelDelivery, name: "weak fuel delivery", unit: "%", prior: 0.1, sizes: scale{0.01, 0.6, true, 0.12, 0.7}, shapes: []float64{0.35, 0.6, 1, 1.4, 2}, unseen: visible,
		effect: func(_ *data, s *site, size, shape float64) (a, f, g float64) {
			return 0, ln1(-size * math.Pow(s.share, shape)), 0
		},
		says: func(_ *data, size, _ float64) float64 { return percent(size) }},
	{key: RichIdle, name: "fuel vapour, or a leaking injector", unit: "%", prior: 0.08, sizes: scale{0.01, 0.7, true, 0.1, 0.7}, unseen: visible,
		effect: func(d *data, s *site, size, _ float64) (a, f, g float64) {
			return 0, -ln1(-size * d.least / s.air), 0
		},
		says: func(_ *data, size, _ float64) float64 { return percent(size) }},
	{key: ChargeLeak, name: "charge air leaks out", unit: "%", prior: 0.06, sizes: scale{0.5e-3, 40e-3, true, 5e-3, 0.8}, shapes: []float64{0, 1, 2}, // of rises
		effect: func(_ *data, s *site, size, shape float64) (a, f, g float64) {
			return ln1(-gas.Area(size) * s.escapes[int(shape)] / s.air), 0, 0
		},
		says: func(d *data, size, shape float64) float64 {
			return percent(math.Min(gas.Area(size)*d.escapesMost[int(shape)], 0.95))
		},
		unseen: func(d *data) string {
			switch {
			case d.metering == SpeedDensity:
				return "Without an air meter (MAF), a charge-air leak does not change the fuel."
			case d.escapesMost[0] == 0:
				return "The log has no steady point under boost in closed loop, so a charge-air leak cannot show."
			}
			return ""
		}},
	{key: PurgeShare, name: "purge changes the mixture", unit: "%", prior: 0.04, sizes: scale{-1.2, 1.2, false, 0, 0.45},
		// A trim says what it carries as fuel; the air that comes with it is an unknown of its own.
		effect: func(d *data, s *site, size, _ float64) (a, f, g float64) { return 0, -ln1(size * s.purge), 0 },
		says:   func(d *data, size, _ float64) float64 { return percent(size * d.purgeMost) },
		unseen: func(d *data) string {
			if d.purgeMost == 0 {
				return "Purge never opened at a steady point of this log."
			}
			return ""
		}},
	{key: EGRShare, name: "EGR flows without a command", unit: "%", prior: 0.04, sizes: scale{0.5e-3, 30e-3, true, 5e-3, 0.7},
		effect: func(d *data, s *site, size, _ float64) (a, f, g float64) {
			x := gas.Area(size) * s.exhaust / s.air
			if d.metering == SpeedDensity {
				return -ln1(x), 0, 0 // reckoned as air that is none
			}
			return 0, 0, ln1(x)
		},
		says: func(d *data, size, _ float64) float64 {
			x := gas.Area(size) * d.exhaustIdle
			return percent(x / (1 + x))
		},
		unseen: func(d *data) string {
			if d.metering != SpeedDensity && d.second == 0 {
				return "EGR flow shows only where both air flow (MAF) and manifold pressure (MAP) were logged; one is missing."
			}
			return ""
		}},
}

// kindOf finds a cause by its key.
func kindOf(k Key) *kind {
	for i := range kinds {
		if kinds[i].key == k {
			return &kinds[i]
		}
	}
	return nil
}
