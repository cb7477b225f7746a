package decay

import (
	"errors"
	"fmt"
	"math"
)

// Version names the algorithm; it is stored with every result so that a later
// one can be told apart.
const Version = "decay/2"

// Kind says how a leg was sealed.
type Kind int

// The kinds of leg. Whether a Hold is pressure or vacuum is read from its trace.
const (
	Hold  Kind = iota // charged or drawn down, shut off and watched
	Drift             // sealed at zero gauge and watched
)

// Leg is one recorded run. Time rises strictly; Gauge is the pressure above the
// barometer, Wall the wall temperature or nil. A Reference above zero is the
// diameter of a known orifice open during the leg.
type Leg struct {
	Kind      Kind
	Time      []float64 // s
	Gauge     []float64 // Pa
	Wall      []float64 // K
	Reference float64   // m
	// Start and End cut the hold by hand, in the leg's own time. Both zero: the
	// hold is recognised.
	Start, End float64
}

// Setup is what is known about the rig and the car.
type Setup struct {
	Volume          float64 // m³, effective; 0 when unknown (then a reference leg must be there)
	VolumeTolerance float64 // fraction, k = 2; 0 is taken as 20 %
	Cd              float64 // discharge coefficient that defines the diameter; 0 is 0.61
	Limit           float64 // m; 0 is 0.508 mm (0.020 in)
	Barometer       float64 // Pa; 0 is 101 325
	Temperature     float64 // K; 0 is 293.15
	Resolution      float64 // Pa, of the gauge; 0 when unknown
	Wet             bool    // fuel in the tank and no inert filling: heavy vapour leaves on a pressure leg
	// Watching is set while the hold still runs and may be stopped at any moment:
	// then a verdict is firm only after a drift leg and 60 s of hold, and with a
	// wider factor.
	Watching bool
}

// Verdict is the outcome against the limit.
type Verdict string

// The verdicts.
const (
	Within    Verdict = "within_limit"
	Over      Verdict = "over_limit"
	Undecided Verdict = "undecided"
)

// Words returns the verdict as the screens say it.
func (v Verdict) Words() string {
	switch v {
	case Within:
		return "within the limit"
	case Over:
		return "over the limit"
	}
	return "cannot tell yet"
}

// Source is one line of the uncertainty budget: the share of the variance of
// ln d (of d itself when d is zero), with the value and distribution it came from.
type Source struct {
	Source       string  `json:"source"`
	Value        string  `json:"value"`
	Distribution string  `json:"distribution"`
	Share        float64 `json:"share"`
}

// Size is a diameter with its 95 % interval, in m.
type Size struct {
	D, Low, High float64
}

// Result is the judgement of a test.
type Result struct {
	Size
	Limit     float64 // m, what the limit reads on this rig
	Nominal   bool    // the limit is nominal: no reference orifice was run
	Verdict   Verdict
	HoldMore  float64 // s that would make the verdict firm; NaN when firm or when no hold would
	DriftRate float64 // Pa/s
	Settle    float64 // Pa, of the first hold
	SettleTau float64 // s
	Volume    float64 // m³, effective, as used
	Residual  float64 // Pa, standard deviation of a reading about the fit
	Noise     float64 // Pa, standard deviation of a reading about its neighbours within seconds
	Zero      float64 // Pa, what the gauge shows when open to the air
	Budget    []Source
	Warnings  []string
	Pressure  *Size // set when pressure and vacuum legs disagree, or both were run
	Vacuum    *Size
	Differ    bool // pressure and vacuum legs have diameters of their own
	// Sharper is the one sentence that would narrow the range most.
	Sharper string
	Legs    []Trace
	// Tangent is the standard deviation of κ over κ, for tests and planning.
	Tangent float64
}

// Trace is what a leg looked like after cutting and averaging.
type Trace struct {
	Start, End float64   // s, hold in the leg's own time
	Time       []float64 // s, of the knots, in the leg's own time
	Measured   []float64 // Pa
	Fitted     []float64 // Pa
	AtLimit    []float64 // Pa, what a leak of exactly the limit would have shown
	Spikes     int       // readings left out
	CutStart   bool      // a pump-up was recognised and cut
	CutEnd     bool      // a release or an emptied system was recognised and cut
}

// ErrNoHold is returned when no leg held a pressure: the system could not be
// charged, or the file holds something else.
var ErrNoHold = errors.New("no leg holds a pressure: the system could not be charged, or the file is not a hold")

// ErrSlowReference is returned when the run with the known orifice falls no faster than
// the one without, and no volume is given that could do instead.
var ErrSlowReference = errors.New("the run with the reference orifice falls no faster than the run without it: was the orifice open, or were the two runs mixed up? Make it again, or give the volume")

// NominalLimit is the limit where none is given, m: an orifice of 0.020 in (13 CCR 1968.2(e)(4), value
// from memory).
const NominalLimit = 0.508e-3

const (
	gammaMinus1   = 0.4
	maxKnots      = 60
	minHold       = 6    // knots
	watchFactor   = 2.6  // wider factor while the hold runs
	watchSeconds  = 60.0 // s, least hold while it runs
	cdTolerance   = 0.03 // k = 2, on the coefficient of the physical hole that defines the limit
	heavyVapour   = 0.10 // outflow of a heavy mix reads up to a tenth too small in diameter
	refTolerance  = 0.08 // k = 2, on the diameter a drilled orifice reads when the volume is known too
	tightDiameter = 0.15e-3
)

// Tight reports whether the upper bound lies below the tight threshold (m);
// zero takes 0.15 mm.
func (r Result) Tight(threshold float64) bool {
	if threshold == 0 {
		threshold = tightDiameter
	}
	return r.High < threshold
}

func (s Setup) withDefaults() Setup {
	set := func(p *float64, v float64) {
		if *p == 0 {
			*p = v
		}
	}
	set(&s.VolumeTolerance, 0.20)
	set(&s.Cd, 0.61)
	set(&s.Limit, NominalLimit)
	set(&s.Barometer, 101325)
	set(&s.Temperature, 293.15)
	return s
}

// Check returns an error with a sentence when a value is outside what can be.
func (s Setup) Check() error {
	for _, c := range []struct {
		name     string
		v, lo, h float64
		unit     string
		scale    float64
	}{
		{"the volume", s.Volume, 0, 0.5, "L", 1e3},
		{"the volume tolerance", s.VolumeTolerance, 0, 1, "%", 100},
		{"the discharge coefficient", s.Cd, 0, 1, "", 1},
		{"the limit", s.Limit, 0, 10e-3, "mm", 1e3},
		{"the barometer", s.Barometer, 0, 120e3, "kPa", 1e-3},
		{"the temperature", s.Temperature, 0, 353, "K", 1},
		{"the gauge resolution", s.Resolution, 0, 2000, "Pa", 1},
	} {
		if math.IsNaN(c.v) || c.v < c.lo || c.v > c.h {
			return fmt.Errorf("%s is %.4g %s; it must lie between %.4g and %.4g %s", c.name, c.v*c.scale, c.unit, c.lo*c.scale, c.h*c.scale, c.unit)
		}
	}
	if s.Barometer != 0 && s.Barometer < 50e3 {
		return fmt.Errorf("the barometer is %.4g kPa; it must lie between 50 and 120 kPa", s.Barometer/1e3)
	}
	if s.Temperature != 0 && s.Temperature < 233 {
		return fmt.Errorf("the temperature is %.4g K; it must lie between 233 and 353 K", s.Temperature)
	}
	if s.Volume != 0 && s.Volume < 0.2e-3 {
		return fmt.Errorf("the volume is %.4g L; it must lie between 0.2 and 500 L", s.Volume*1e3)
	}
	if s.Cd != 0 && s.Cd < 0.3 {
		return fmt.Errorf("the discharge coefficient is %.3g; it must lie between 0.3 and 1", s.Cd)
	}
	if s.Limit != 0 && s.Limit < 0.05e-3 {
		return fmt.Errorf("the limit is %.4g mm; it must lie between 0.05 and 10 mm", s.Limit*1e3)
	}
	return nil
}

// mostLost is the share of readings that may be no numbers: more is no gap but a file of
// another kind.
const mostLost = 0.05

// whole leaves out the readings that are no numbers, as gaps, and says how many.
func (l Leg) whole(i int) (Leg, int, error) {
	number := func(x float64) bool { return !math.IsNaN(x) && !math.IsInf(x, 0) }
	fine := func(j int) bool {
		return number(l.Time[j]) && number(l.Gauge[j]) && (l.Wall == nil || number(l.Wall[j]))
	}
	n := len(l.Time)
	if len(l.Gauge) != n || l.Wall != nil && len(l.Wall) != n {
		return l, 0, fmt.Errorf("leg %d has columns of unequal length", i+1)
	}
	lost, first := 0, -1
	for j := range n {
		if !fine(j) {
			if lost == 0 {
				first = j
			}
			lost++
		}
	}
	if lost == 0 {
		return l, 0, nil
	}
	if float64(lost) > mostLost*float64(n) {
		return l, 0, fmt.Errorf("leg %d: %d of %d readings are not a number, the first of them reading %d", i+1, lost, n, first+1)
	}
	out := l
	out.Time, out.Gauge = make([]float64, 0, n), make([]float64, 0, n)
	if l.Wall != nil {
		out.Wall = make([]float64, 0, n)
	}
	for j := range n {
		if fine(j) {
			out.Time, out.Gauge = append(out.Time, l.Time[j]), append(out.Gauge, l.Gauge[j])
			if l.Wall != nil {
				out.Wall = append(out.Wall, l.Wall[j])
			}
		}
	}
	return out, lost, nil
}

func (l Leg) check(i int) error {
	n := len(l.Time)
	switch {
	case n < 2:
		return fmt.Errorf("leg %d has %d reading(s); a trace needs at least two", i+1, n)
	case l.Reference < 0 || l.Reference > 10e-3 || math.IsNaN(l.Reference):
		return fmt.Errorf("leg %d has a reference of %.4g mm; it must lie between 0 and 10 mm", i+1, l.Reference*1e3)
	case math.IsNaN(l.Start) || math.IsNaN(l.End) || l.End != 0 && l.End <= l.Start:
		return fmt.Errorf("leg %d: the hold must end after it starts", i+1)
	}
	for j := range l.Time {
		if l.Wall != nil && (l.Wall[j] < 150 || l.Wall[j] > 500) {
			return fmt.Errorf("leg %d, reading %d: a wall temperature of %.4g K cannot be", i+1, j+1, l.Wall[j])
		}
		if j > 0 && l.Time[j] <= l.Time[j-1] {
			return fmt.Errorf("leg %d, reading %d: time does not rise", i+1, j+1)
		}
	}
	return nil
}
