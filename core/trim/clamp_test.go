package trim_test

import (
	"math"
	"strings"
	"testing"

	"wexter/core/trim"
)

// clamping makes a log at idle in which the purge hose is clamped from 60 to 120 s: purge carries
// fuel of so much of the total, share, until then and after.
func clamping(carries float64) *trim.Log {
	l := steady(60)
	for i := range l.Time {
		for _, c := range []struct {
			c trim.Channel
			v float64
		}{{trim.Speed, 750}, {trim.MeteredAir, 2.5e-3}, {trim.ManifoldPressure, 34e3}, {trim.RoadSpeed, 0}, {trim.Load, 0.28}, {trim.Long1, 0.04}} {
			l.Value[c.c][i] = c.v
		}
		total := 0.02
		if i < 60 || i >= 120 {
			total -= carries
		}
		l.Value[trim.Short1][i] = (1+total)/1.04 - 1 + []float64{0.006, -0.006}[i%2]
	}
	fill(l, trim.Purge, 0.35)
	return l
}

func TestClamp(t *testing.T) {
	maf := trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3}
	for _, c := range []struct {
		name    string
		carries float64
		span    [2]float64
		short   bool
		says    string
	}{
		{"vapour", 0.12, [2]float64{60, 120}, false, "purge carried 12.0 %"},
		{"clean carbon", -0.06, [2]float64{60, 120}, false, "purge let in 6.0 %"},
		{"nothing", 0, [2]float64{60, 120}, false, "changed nothing"},
		{"never freed", 0.12, [2]float64{60, math.Inf(1)}, false, "purge carried"},
		{"too short", 0.12, [2]float64{60, 65}, true, "too short"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d, err := trim.NewDrive(clamping(c.carries), maf, c.span)
			if err != nil {
				t.Fatal(err)
			}
			if len(d.Clamps) != 1 {
				t.Fatalf("%d clamps", len(d.Clamps))
			}
			x := d.Clamps[0]
			if x.Short != c.short || !strings.Contains(x.Words(), c.says) {
				t.Errorf("%+v: %s", x, x.Words())
			}
			if !c.short && c.name != "never freed" && math.Abs(x.Share()+c.carries) > 0.005 {
				t.Errorf("the share is %.3f, it is %.3f", x.Share(), -c.carries)
			}
		})
	}
	// With the hose clamped in it the log tells purge from the rest.
	d, err := trim.NewDrive(clamping(0.28), maf, [2]float64{60, 120})
	if err != nil {
		t.Fatal(err)
	}
	if first := d.Judge().Causes[0]; first.Keys[0] != trim.PurgeShare {
		t.Errorf("put down to %s, %.2f", first.Key(), first.Probability)
	}
}
