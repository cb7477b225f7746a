package trim

import (
	"fmt"
	"math"

	"wexter/core/obd"
)

// Typed are the trims of a point as they were read off a screen. What was not read is NaN.
type Typed struct {
	Region      Region
	Short, Long float64 // share
	Air         float64 // kg/s
	Pressure    float64 // of the manifold, Pa absolute
}

// Of typed figures: how far they may be off what a log would have, since the short trim swings and
// nobody takes a mean by eye; and the usual engine speeds (common practice, no source).
const typedSD = 0.015

var typedSpeed = map[Region]float64{Idle: 750, Fast: 2500, Loaded: 2300}

// TypedDrive makes a drive of typed points.
func TypedDrive(list []Typed, e Engine) (Drive, error) {
	d := Drive{Engine: e, Notes: []string{"The trims were typed: each is taken to within ±3 %, and purge as unknown. A log tells more."}}
	d.Points.Stop = obd.TrimStop / 100
	nan := math.NaN()
	for _, t := range list {
		total := totalOf(t.Short, t.Long)
		if math.IsNaN(total) {
			continue
		}
		if !(math.Abs(t.Short) <= 1) && t.Short == t.Short || !(math.Abs(t.Long) <= 1) && t.Long == t.Long {
			return Drive{}, fmt.Errorf("a trim lies within ±100 %%; %s has one beyond", t.Region)
		}
		b := Bank{Total: total, SD: typedSD, Short: orNought(t.Short), Long: orNought(t.Long)}
		s := t.Short
		if s != s {
			s = t.Long
		}
		if math.Abs(s) >= d.Points.Stop {
			b.Stop, b.Bound = int(math.Copysign(1, s)), true
		} else if math.Abs(b.Long) >= d.Points.Stop {
			b.Stop = int(math.Copysign(1, b.Long))
		}
		d.Points.Points = append(d.Points.Points, Point{Region: t.Region, Seconds: 30, Visits: 1, Banks: []Bank{b}, Speed: typedSpeed[t.Region], Air: t.Air, Pressure: t.Pressure,
			Charge: nan, Load: nan, Intake: nan, Barometer: nan, Purge: nan, EGR: nan})
		d.Points.Seconds += 30
	}
	if len(d.Points.Points) == 0 {
		return Drive{}, fmt.Errorf("type the short and the long trim of one point at least, better of all three")
	}
	return d, d.Check()
}

func orNought(x float64) float64 {
	if x != x {
		return 0
	}
	return x
}
