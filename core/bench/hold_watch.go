package bench

import (
	"fmt"
	"math"

	"gonum.org/v1/gonum/stat"

	"wexter/core/record"
	"wexter/core/units"
)

// The pieces of a stretch in which a pressure is brought up and held.
const (
	charging = "charge"
	settling = "settle"
	holding  = "hold"
)

// Times of a hold, s.
const (
	rigSeconds   = 60.0
	zeroSeconds  = 5.0
	driftSeconds = 75.0
	settleTime   = 15.0  // after the charge, shown as settling; the fit takes it in
	holdWithout  = 180.0 // planned when no hold is known to tell
	leastHold    = 60.0  // planned at least: the gas gives off its heat meanwhile
)

// ChargeTo is the pressure a stretch of a hold starts from, Pa gauge: 13 inH2O, or four fifths
// of what the system is permitted; for a vacuum 10 inH2O below the barometer.
func (k Known) ChargeTo(stretch record.RunKind) float64 {
	if stretch == record.RunVacuum {
		return -math.Min(10*units.InH2O, 0.8*k.MaxVac)
	}
	return math.Min(13*units.InH2O, 0.8*k.MaxPa)
}

// holdStretches are those of a pressure hold: rig and gauge by themselves, then the car.
func holdStretches(k Known) []Stretch {
	in := k.Setup.Instrument
	target, draw := k.ChargeTo(record.RunHold), k.ChargeTo(record.RunVacuum)
	byHand := k.Works == nil || !k.Works(Charge)
	either := func(hand, rig string) string {
		if byHand {
			return hand
		}
		return rig
	}
	planned := holdWithout
	if k.Plan != nil {
		if p := k.Plan(); !math.IsNaN(p) {
			planned = math.Max(p, leastHold)
		}
	}
	car := []Step{{Do: RigOnCar}, {Do: OpenRig}, {Do: ShutOrifice}}
	charge := []Step{{Do: Charge, Value: target}}
	pieces := func(detail, last string) []Leg {
		return []Leg{{charging, "Charge, shut off", detail}, {settling, "Settle", "the gas cools; the fit takes it in"}, {holding, last, "until the verdict is firm"}}
	}
	rig := Stretch{Key: record.RunRig, Name: "Rig by itself", Detail: "plugged, charged, one minute", Stand: []Step{{Do: PlugRig}}, Do: charge, Leave: []Step{{Do: RigOnCar}}, For: rigSeconds,
		Before: either("Plug the rig's end, start, and charge it to "+both(target)+". A minute tells whether it holds by itself.",
			"The rig is plugged, charged to "+both(target)+" and watched for a minute: does it hold by itself?")}
	switch in.RigHeld {
	case record.RigHeld:
		rig.Detail, rig.Done = "holds by itself", true
	case record.RigLost:
		rig.Detail, rig.Before = fmt.Sprintf("loses %.0f Pa a minute", in.RigLoss), "Mend the rig: hoses, adapters, plug. Then check it again."
	}
	zero := Stretch{Key: record.RunZero, Name: "Zero", Detail: "open to air", Stand: car, For: zeroSeconds, Done: k.In[record.RunZero],
		Before: "Rig on the car, open to the air. Five seconds give the gauge's zero."}
	if zero.Done {
		zero.Detail = fmt.Sprintf("%+.1f Pa, taken off", in.Zero)
	}
	orifice := Stretch{Key: record.RunReference, Name: "Known orifice", Detail: "its diameter belongs in the set-up", Stand: []Step{{Do: RigOnCar}, {Do: OpenRig}, {Do: OpenOrifice}}, Do: charge, Leave: []Step{{Do: ShutOrifice}},
		For: planned, Firm: true, Judged: true, Maybe: true, Done: k.In[record.RunReference], Lacks: "give the diameter of the known orifice in the set-up first"}
	if ref := k.Setup.Reference; ref > 0 {
		orifice.Detail, orifice.Lacks = fmt.Sprintf("%.3f mm added; then the volume no longer matters", ref*1e3), ""
	}
	all := []Stretch{rig, zero,
		{Key: record.RunDrift, Name: "Drift", Detail: fmt.Sprintf("sealed at zero, %.0f s", driftSeconds), Stand: append(car[:len(car):len(car)], Step{Do: ShutRig}), For: driftSeconds, Done: k.In[record.RunDrift],
			Before: either("Seal the system at zero and start: what the fuel gives off is told apart from a leak.", fmt.Sprintf("Sealed at zero for %.0f s: what the fuel gives off is told apart from a leak.", driftSeconds))},
		{Key: record.RunHold, Name: "Hold", Stand: car, Do: charge, For: planned, Firm: true, Judged: true, Done: k.In[record.RunHold], Parts: pieces("to "+both(target), "Hold"),
			Before: either("Start, charge to "+both(target)+" with the regulated supply, and shut off.", "Start: the rig charges to "+both(target)+" and shuts off.")},
		{Key: record.RunVacuum, Name: "Vacuum hold", Detail: "to " + both(draw) + "; what comes in is plain air", Stand: car, Do: []Step{{Do: Draw, Value: draw}}, For: planned, Firm: true, Judged: true, Maybe: true, Done: k.In[record.RunVacuum]},
		orifice}
	for i := range all {
		all[i].Rests = all[i].Energises()
	}
	return all
}

// holdWatch watches a stretch of a hold: when the charge is shut off, when the pressure is gone,
// and what a stretch told of gauge and rig.
type holdWatch struct {
	stretch    Stretch
	target     float64
	zero       float64
	resolution float64
	byHand     bool
	pressure   int // its column
	wall       int // −1: none

	log    record.Table
	leg    string
	peak   float64 // largest |p|
	peakAt float64
	sign   float64
	shutAt float64
	spent  float64 // s, since when no pressure is left
}

func newHoldWatch(k Known, s Stretch, cols record.Channels) Watcher {
	w := &holdWatch{stretch: s, target: k.ChargeTo(s.Key), zero: k.Setup.Instrument.Zero, resolution: k.Resolution, byHand: k.byHand(s.Do),
		pressure: cols.At(string(record.GaugePressure)), wall: cols.At(string(record.RigWall)), log: record.NewTable(2)}
	if w.held() {
		w.leg = holding
	} else {
		w.leg = charging
	}
	return w
}

// held reports whether nothing is charged in this stretch.
func (w *holdWatch) held() bool { return len(w.stretch.Do) == 0 }

// Take takes a reading.
func (w *holdWatch) Take(t float64, row []float64) Heard {
	wall := math.NaN()
	if w.wall >= 0 {
		wall = row[w.wall]
	}
	p := math.NaN()
	if w.pressure >= 0 {
		p = row[w.pressure]
	}
	if math.IsNaN(p) {
		return Heard{}
	}
	w.log.Add(t, []float64{p, wall})
	w.step(t, p-w.zero)
	if w.isSpent(t, p-w.zero) {
		return Heard{Ends: "The pressure is gone: what was read is kept. Charge again for another hold."}
	}
	return Heard{}
}

// Mark has no meaning of its own in a hold.
func (w *holdWatch) Mark(float64, string) {}

// What is left of a charge when it is gone, and for how long before the stretch ends: below the
// larger of the two nothing can be told of a hole any more.
const (
	goneShare   = 0.02 // of the largest pressure
	gonePa      = 10.0
	goneSeconds = 5.0
)

// isSpent reports whether a charge that was shut off has been gone for a while.
func (w *holdWatch) isSpent(t, p float64) bool {
	if w.shutAt == 0 || math.Abs(p) > math.Max(goneShare*w.peak, gonePa) {
		w.spent = 0
		return false
	}
	if w.spent == 0 {
		w.spent = t
	}
	return t-w.spent >= goneSeconds
}

// step works the piece out: charging until the pressure has stood below its peak for a second,
// settling, holding.
func (w *holdWatch) step(t, p float64) {
	if w.held() {
		return
	}
	if math.Abs(p) > w.peak {
		w.peak, w.peakAt, w.sign = math.Abs(p), t, math.Copysign(1, p)
	}
	switch w.leg {
	case charging:
		if w.peak > 0.3*math.Abs(w.target) && t-w.peakAt >= 1 {
			w.leg, w.shutAt = settling, w.peakAt
		}
	default:
		if w.sign*p > w.peak-1e-9 && w.peakAt > w.shutAt+1.5 && w.sign*p > 1.03*math.Abs(w.target) {
			w.leg, w.shutAt = charging, 0 // topped up
			return
		}
		if t-w.shutAt >= settleTime {
			w.leg = holding
		}
	}
}

// State says how far it has come and what to do meanwhile.
func (w *holdWatch) State() State {
	s := State{Leg: w.leg, From: w.shutAt, Held: w.held() || w.shutAt > 0, Word: "held"}
	if w.leg == charging {
		s.Word = "charging"
	}
	planned := int(w.stretch.For)
	switch {
	case w.stretch.Key == record.RunZero:
		s.Now = "Leave it open to the air."
	case w.held():
		s.Now = "Hands off, doors shut. It ends by itself and rings."
	case w.leg == charging && w.log.Last() > 90:
		s.Now = "The pressure does not come up: a part is off, open or split wide, or the supply is too small. Stop, and say on the set-up page that it will not build pressure."
	case w.leg == charging && w.byHand:
		s.Now = "Charge to " + both(w.target) + " and shut off."
	case w.leg == charging:
		s.Now = "Charging to " + both(w.target) + "."
	case w.stretch.Key == record.RunRig:
		s.Now = "Hands off. It ends by itself and rings."
	case w.leg == settling:
		s.Now = "Hands off: the gas gives off the heat of charging."
	default:
		s.Now = fmt.Sprintf("Holding; planned to %d:%02d. It ends by itself when the verdict is firm by then, and rings.", planned/60, planned%60)
	}
	return s
}

// Told says what a stretch told about the gauge or the rig.
func (w *holdWatch) Told() Told {
	out := w.told()
	if w.wall >= 0 {
		if _, silent := Wall(w.log.Time, w.log.Cols[1]); silent > 0 {
			out.Notes = append(out.Notes, fmt.Sprintf("The wall probe was silent from %.0f s on: the wall counts as not measured.", silent))
		}
	}
	return out
}

func (w *holdWatch) told() Told {
	gauge, t := w.log.Cols[0], w.log.Time
	n := len(t)
	if n < 2 {
		return Told{Says: "Nothing was read in this leg."}
	}
	switch w.stretch.Key {
	case record.RunZero:
		mean, sd := stat.PopMeanStdDev(gauge, nil)
		if sd > math.Max(25, 5*w.resolution) {
			return Told{Says: fmt.Sprintf("The gauge did not stand still at zero (it scatters by %.0f Pa): is the rig open to the air?", sd)}
		}
		if math.Abs(mean) > 500 {
			return Told{Says: fmt.Sprintf("The gauge reads %.2f inH2O open to the air: too far from zero to be taken off. Is the rig open?", mean/units.InH2O)}
		}
		return Told{Says: fmt.Sprintf("Zero is %+.1f Pa; it is taken off.", mean), Learned: []Learned{{GaugeZero, mean}}}
	case record.RunRig:
		return w.rig()
	case record.RunDrift:
		first := stat.Mean(gauge[:max(1, n/10)], nil)
		last := stat.Mean(gauge[n-max(1, n/10):], nil)
		return Told{Says: fmt.Sprintf("Drift %+.2f Pa/s over %.0f s.", (last-first)/(t[n-1]*0.9), t[n-1])}
	}
	return Told{}
}

// rig says whether the rig holds by itself.
func (w *holdWatch) rig() Told {
	gauge, t := w.log.Cols[0], w.log.Time
	n, i := len(t), 0
	for i < n && t[i] < w.shutAt+10 {
		i++
	}
	if w.shutAt == 0 || n-i < 20 {
		return Told{Says: "The rig was not charged, or too short: nothing is known of it."}
	}
	k := max(1, (n-i)/10)
	first := stat.Mean(gauge[i:i+k], nil)
	last := stat.Mean(gauge[n-k:], nil)
	loss := w.sign * (first - last) * 60 / (t[n-1-k/2] - t[i+k/2])
	// Held: what it loses in a minute is below the gauge's step or a hundredth of the pressure.
	if loss <= math.Max(2*w.resolution, 0.01*w.peak) {
		return Told{Says: fmt.Sprintf("The rig holds by itself: %.0f Pa lost in a minute.", math.Max(loss, 0)), Learned: []Learned{{What: RigHolds}}}
	}
	return Told{Says: fmt.Sprintf("The rig loses %.0f Pa in a minute by itself: mend it before the car is judged.", loss), Learned: []Learned{{RigLoses, loss}}}
}

// wallSeconds is how long a silent wall probe is where it was.
const wallSeconds = 10.0

// Wall is the wall's temperature at each time. A probe that is silent for a moment is where it
// was; one that stays silent is none, and the whole stretch goes without: silent is then since
// when, s.
func Wall(t, seen []float64) (wall []float64, silent float64) {
	last, felt := math.NaN(), 0.0
	for i, v := range seen {
		switch {
		case !math.IsNaN(v):
			last, felt = v, t[i]
		case math.IsNaN(last) && t[i]-t[0] > wallSeconds:
			return nil, 0 // it never was there
		case !math.IsNaN(last) && t[i]-felt > wallSeconds:
			return nil, felt
		}
		wall = append(wall, last)
	}
	if math.IsNaN(last) {
		return nil, 0
	}
	for i := range wall { // before its first reading it was where it then is
		if !math.IsNaN(wall[i]) {
			for j := range i {
				wall[j] = wall[i]
			}
			break
		}
	}
	return wall, 0
}
