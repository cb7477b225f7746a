package trim_test

import (
	"encoding/json"
	"math"
	"reflect"
	"testing"

	"wexter/core/trim"
)

func lean(idle, fast, load float64) trim.Doing {
	return trim.Doing{Change: [trim.Places]float64{idle, fast, load, load, -idle}, SD: [trim.Places]float64{0.02, 0.01, 0.01, 0.02, 0.03}}
}

// TestWeigh holds what a drive says about faults whose doing is known against what they do.
func TestWeigh(t *testing.T) {
	l := steady(40)
	fill(l, trim.Purge, 0)
	r, err := trim.Judge(l, trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3})
	if err != nil {
		t.Fatal(err)
	}
	w := r.Weigh() // 16 % at idle, 5 at 2500, 2 loaded
	right, none := w.Ln(lean(0.148, 0.049, 0.02)), w.Ln(trim.Doing{})
	if right < none+10 {
		t.Errorf("what was read is %.1f, nothing at all %.1f", right, none)
	}
	for name, d := range map[string]trim.Doing{"the other way": lean(-0.15, -0.05, -0.02), "even": lean(0.1, 0.1, 0.1), "growing": lean(0.02, 0.06, 0.16), "twice as much": lean(0.3, 0.1, 0.04)} {
		if x := w.Ln(d); x > right-3 {
			t.Errorf("%s: %.1f, what was read %.1f", name, x, right)
		}
	}
	// Two halves make a whole.
	half := lean(0.074, 0.0245, 0.01)
	if x := w.Ln(half.With(half)); math.Abs(x-right) > 1.5 {
		t.Errorf("two halves %.2f, the whole %.2f", x, right)
	}
}

// TestWeighAtStop looks whether a trim at its stop speaks against what does too little, and not
// against what does more.
func TestWeighAtStop(t *testing.T) {
	l := steady(40)
	fill(l, trim.Purge, 0)
	for i := range 40 {
		l.Value[trim.Short1][i], l.Value[trim.Long1][i] = 0.25, 0.25
	}
	r, err := trim.Judge(l, trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3})
	if err != nil {
		t.Fatal(err)
	}
	w := r.Weigh()
	at := func(idle float64) float64 {
		d := lean(idle, 0.049, 0.02)
		d.Change[trim.OverPressure], d.SD[trim.OverPressure] = 0, 1
		return w.Ln(d)
	}
	little, much, more := at(0.1), at(0.5), at(0.8)
	if little > much-3 || math.Abs(more-much) > 1 {
		t.Errorf("ln %.1f for too little, %.1f for what was read, %.1f for more", little, much, more)
	}
}

// TestDriveJSON writes a drive and reads it back.
func TestDriveJSON(t *testing.T) {
	e := draw(77, trim.ManifoldLeak)
	d, err := trim.NewDrive(e.log(), e.engine())
	if err != nil {
		t.Fatal(err)
	}
	data, err := json.Marshal(d)
	if err != nil {
		t.Fatal(err)
	}
	var back trim.Drive
	if err := json.Unmarshal(data, &back); err != nil {
		t.Fatal(err)
	}
	again, err := json.Marshal(back)
	if err != nil || string(again) != string(data) || !reflect.DeepEqual(back.Engine, d.Engine) {
		t.Errorf("%v:\n%s\n%s", err, data, again)
	}
	a, b := d.Judge().Causes[0], back.Judge().Causes[0]
	if a.Key() != b.Key() || a.Value != b.Value || a.Probability != b.Probability {
		t.Errorf("%s %g came back as %s %g", a.Key(), a.Value, b.Key(), b.Value)
	}
	for say, change := range map[string]func(*trim.Drive){
		"no points":   func(d *trim.Drive) { d.Points.Points = nil },
		"no trims":    func(d *trim.Drive) { d.Points.Points[0].Banks = nil },
		"no number":   func(d *trim.Drive) { d.Points.Points[0].Banks[0].Total = math.NaN() },
		"no speed":    func(d *trim.Drive) { d.Points.Points[0].Speed = math.NaN() },
		"no metering": func(d *trim.Drive) { d.Engine.Metering = trim.Unknown },
		"huge engine": func(d *trim.Drive) { d.Engine.Displacement = 7 },
	} {
		var x trim.Drive
		if err := json.Unmarshal(data, &x); err != nil {
			t.Fatal(err)
		}
		change(&x)
		if x.Check() == nil {
			t.Errorf("%s passes", say)
		}
	}
}
