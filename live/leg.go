package live

import (
	"fmt"
	"math"
	"slices"

	"wexter/casework"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/ingest"
	"wexter/instrument"
)

// wallSeconds is how long a silent wall probe is where it was.
const wallSeconds = 10.0

// ending says whether a leg ends with a reading, and why.
type ending int

const (
	goesOn ending = iota
	atPlan        // the planned end
	full          // no more readings are kept
	turned        // the module's clock was set back
	gone          // the pressure is: nothing more can be read from it
)

// leg is a run being read.
type leg struct {
	run     record.Run
	log     ingest.Log // appended to only
	written int        // readings on disk
	blocks  int
	gaps    int // gaps on disk as they are now
	resumed bool
	ending  bool
	// Of the charge, worked out as readings come.
	phase  Phase
	peak   float64 // largest |p|
	peakAt float64
	sign   float64
	shutAt float64
	felt   float64 // s, when the wall probe answered last
	over   bool    // beyond the range now
	fault  string  // why the module measures nothing now
	spent  float64 // s, since when no pressure is left
	firm   bool    // said so
	past   bool    // the planned end has passed
}

// add takes a reading into the leg, and says how the leg ends with it.
func (l *leg) add(r instrument.Reading, b *Bench) ending {
	t := r.Time - l.run.Origin
	n := len(l.log.Time)
	if n > 0 && t <= l.log.Time[n-1] || n == 0 && t <= 0 {
		return goesOn // doubled, or from before the leg
	}
	if n > 0 && (l.over || l.fault != "" || t-l.log.Time[n-1] > math.Max(gapSeconds, 5/math.Max(b.about.Rate, 0.1))) {
		l.gap(record.Gap{From: l.log.Time[n-1], To: t, Why: l.why()})
		b.changed()
	}
	l.resumed, l.over, l.fault = false, false, ""
	l.feel(r, t)
	shown, _ := r.Of(instrument.PressureKey)
	l.log.Time, l.log.Gauge = append(l.log.Time, t), append(l.log.Gauge, shown.Value)
	before := l.phase
	l.step(t, shown.Value-b.live.Test.Setup.Instrument.Zero, b.target(l.run.Kind))
	if l.phase != before {
		b.changed()
	}
	switch l.run.Kind {
	case record.RunZero, record.RunDrift:
		if t-l.log.Time[0] >= l.run.Planned {
			return atPlan
		}
	case record.RunRig:
		if l.shutAt > 0 && t-l.shutAt >= l.run.Planned {
			return atPlan
		}
	}
	if l.isSpent(t, shown.Value-b.live.Test.Setup.Instrument.Zero) {
		return gone
	}
	if n+1 >= record.MostLive {
		return full
	}
	return goesOn
}

// why says what the gap that ends now comes from.
func (l *leg) why() string {
	switch {
	case l.resumed:
		return "Wexter was stopped"
	case l.over:
		return "over the range"
	case l.fault != "":
		return l.fault
	}
	return "the module did not answer"
}

// gap takes a gap in, to be written down with the next readings. The list that others may
// be looking at is not changed.
func (l *leg) gap(g record.Gap) {
	have := len(l.run.Gaps)
	l.run.Gaps = slices.Clone(l.run.Gaps).With(g)
	if len(l.run.Gaps) == have { // summed up with the last one
		l.gaps = min(l.gaps, have-1)
	}
}

// feel takes the wall's temperature at time t. A probe that is silent for a moment is
// where it was; one that stays silent is none, and the whole leg goes without.
func (l *leg) feel(r instrument.Reading, t float64) {
	wall, feels := r.Of(instrument.WallKey)
	switch n := len(l.log.Time); {
	case n == 0 && feels:
		l.log.Wall, l.felt = []float64{wall.Value}, t
	case l.log.Wall == nil:
	case feels:
		l.log.Wall, l.felt = append(l.log.Wall, wall.Value), t
	case t-l.felt <= wallSeconds:
		l.log.Wall = append(l.log.Wall, l.log.Wall[n-1])
	default:
		l.log.Wall = nil
		l.run.Notes = append(l.run.Notes, fmt.Sprintf("The wall probe was silent from %.0f s on: the wall counts as not measured.", l.felt))
	}
}

// What is left of a charge when it is gone, and for how long before the leg ends: below the
// larger of the two nothing can be told of a hole any more.
const (
	goneShare   = 0.02 // of the largest pressure of the leg
	gonePa      = 10.0
	goneSeconds = 5.0
)

// isSpent reports whether a charge that was shut off has been gone for a while.
func (l *leg) isSpent(t, p float64) bool {
	if l.shutAt == 0 || math.Abs(p) > math.Max(goneShare*l.peak, gonePa) {
		l.spent = 0
		return false
	}
	if l.spent == 0 {
		l.spent = t
	}
	return t-l.spent >= goneSeconds
}

// step works out the phase: charging until the pressure has stood below its peak for
// a second, settling, holding.
func (l *leg) step(t, p, target float64) {
	if l.run.Kind == record.RunZero || l.run.Kind == record.RunDrift {
		l.phase = Holding
		return
	}
	if l.phase == "" {
		l.phase = Charging
	}
	if math.Abs(p) > l.peak {
		l.peak, l.peakAt, l.sign = math.Abs(p), t, math.Copysign(1, p)
	}
	switch l.phase {
	case Charging:
		if l.peak > 0.3*math.Abs(target) && t-l.peakAt >= 1 {
			l.phase, l.shutAt = Settling, l.peakAt
		}
	default:
		if l.sign*p > l.peak-1e-9 && l.peakAt > l.shutAt+1.5 && l.sign*p > 1.03*math.Abs(target) {
			l.phase, l.shutAt = Charging, 0 // topped up
			return
		}
		if t-l.shutAt >= settleTime {
			l.phase = Holding
		}
	}
}

// replay works the phase out of readings taken from disk.
func (l *leg) replay(live casework.LiveTest) {
	for i, t := range l.log.Time {
		l.step(t, l.log.Gauge[i]-live.Test.Setup.Instrument.Zero, live.ChargeTo(l.run.Kind))
	}
}

// learn says what a leg that ended told about the gauge or the rig.
func (l *leg) learn(b *Bench) (string, func(*record.Setup)) {
	n := len(l.log.Time)
	if n < 2 {
		return "Nothing was read in this leg.", nil
	}
	switch l.run.Kind {
	case record.RunZero:
		mean, sd := stats(l.log.Gauge)
		if sd > math.Max(25, 5*b.about.Resolution) {
			return fmt.Sprintf("The gauge did not stand still at zero (it scatters by %.0f Pa): is the rig open to the air?", sd), nil
		}
		if math.Abs(mean) > 500 {
			return fmt.Sprintf("The gauge reads %.2f inH2O open to the air: too far from zero to be taken off. Is the rig open?", mean/units.InH2O), nil
		}
		return fmt.Sprintf("Zero is %+.1f Pa; it is taken off.", mean), func(su *record.Setup) { su.Instrument.Zero = mean }
	case record.RunRig:
		i := 0
		for i < n && l.log.Time[i] < l.shutAt+10 {
			i++
		}
		if l.shutAt == 0 || n-i < 20 {
			return "The rig was not charged, or too short: nothing is known of it.", nil
		}
		k := max(1, (n-i)/10)
		first, _ := stats(l.log.Gauge[i : i+k])
		last, _ := stats(l.log.Gauge[n-k:])
		span := l.log.Time[n-1-k/2] - l.log.Time[i+k/2]
		loss := l.sign * (first - last) * 60 / span
		// Held: what it loses in a minute is below the gauge's step or a hundredth of the pressure.
		if loss <= math.Max(2*b.about.Resolution, 0.01*l.peak) {
			return fmt.Sprintf("The rig holds by itself: %.0f Pa lost in a minute.", math.Max(loss, 0)),
				func(su *record.Setup) { su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigHeld, 0 }
		}
		return fmt.Sprintf("The rig loses %.0f Pa in a minute by itself: mend it before the car is judged.", loss),
			func(su *record.Setup) { su.Instrument.RigHeld, su.Instrument.RigLoss = record.RigLost, loss }
	case record.RunDrift:
		first, _ := stats(l.log.Gauge[:max(1, n/10)])
		last, _ := stats(l.log.Gauge[n-max(1, n/10):])
		return fmt.Sprintf("Drift %+.2f Pa/s over %.0f s.", (last-first)/(l.log.Time[n-1]*0.9), l.log.Time[n-1]), nil
	}
	return "", nil
}

func stats(x []float64) (mean, sd float64) {
	for _, v := range x {
		mean += v / float64(len(x))
	}
	for _, v := range x {
		sd += (v - mean) * (v - mean) / float64(len(x))
	}
	return mean, math.Sqrt(sd)
}
