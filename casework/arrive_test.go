package casework_test

import (
	"fmt"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/record"
)

// What is tapped at the intake counts like what is tapped on the case.
func TestSeenAtIntake(t *testing.T) {
	s := shop(t)
	n := car("SQ 1")
	n.Complaint, n.Codes = "", ""
	n.Seen = []casework.NewObservation{{Kind: record.SeenSign, Key: "nozzle-clicks"}, {Kind: record.SeenContext, Key: "axle-work"},
		{Kind: record.SeenRenewed, Part: "cap"}, {Kind: record.SeenSign, Key: "nozzle-clicks"}}
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	f, err := s.Load(ctx, id)
	must(t, err)
	if len(f.Observations) != 3 || f.Case.Complaint != "Pump nozzle clicks off every few seconds" {
		t.Fatalf("%d observations, complaint %q", len(f.Observations), f.Case.Complaint)
	}
	tapped, err := s.Think(ctx, f)
	must(t, err)
	n = car("SQ 2")
	n.Complaint, n.Codes = "pump clicks off", ""
	other, err := s.OpenCase(ctx, "", n)
	must(t, err)
	g, err := s.Load(ctx, other)
	must(t, err)
	typed, err := s.Think(ctx, g)
	must(t, err)
	if p, q := tapped.State.Odds("vent-filter"), typed.State.Odds("vent-filter"); p < 2*q {
		t.Errorf("the vent filter stands at %.3f with the sign tapped and at %.3f with the words alone", p, q)
	}
	for _, c := range []struct {
		name string
		seen casework.NewObservation
		want string
	}{
		{"a sign of no Book", casework.NewObservation{Kind: record.SeenSign, Key: "moon"}, "no sign"},
		{"a part this car does not have", casework.NewObservation{Kind: record.SeenRenewed, Part: "leak-pump"}, "not on this car"},
		{"another kind", casework.NewObservation{Kind: "told"}, "a sign, a circumstance"},
	} {
		t.Run(c.name, func(t *testing.T) {
			n := car("SQ 3")
			n.Seen = []casework.NewObservation{c.seen}
			_, err := s.OpenCase(ctx, "", n)
			refused(t, c.name, err, c.want)
			if _, err := s.VehicleByPlate(ctx, "SQ 3"); err == nil {
				t.Error("the car is half saved")
			}
		})
	}
}

// A car of which only its name is known gets odds, a hold with a wide volume, and is told
// what the gaps cost; what is known from before is not forgotten.
func TestNotKnownYet(t *testing.T) {
	s := shop(t)
	n := casework.NewCase{Plate: "SQ 1", Make: "Ostrel", Model: "Wherry", Metering: "unknown", Codes: "P0456"}
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	f, err := s.Load(ctx, id)
	must(t, err)
	th, err := s.Think(ctx, f)
	must(t, err)
	c, err := s.Car(f.Vehicle, f.Corrections)
	must(t, err)
	guesses := s.Guesses(f.Vehicle, c, th)
	if len(guesses) != 5 {
		t.Errorf("%d families are assumed, want 5", len(guesses))
	}
	for _, g := range guesses {
		if g.Share < 0 || g.Share > 1 || g.Family == "vapour" && g.Share == 0 {
			t.Errorf("%s: %.2f of the odds rest on it", g.Family, g.Share)
		}
	}
	test, err := s.StartTest(ctx, "", id, "")
	must(t, err)
	if f, err = s.Load(ctx, id); err != nil || f.Tests[0].ID != test || f.Tests[0].Setup.VolumeTolerance < 0.3 || f.Tests[0].Setup.Tank == 0 {
		t.Errorf("the set-up of an unknown tank: %+v, %v", f.Tests[0].Setup, err)
	}
	n.TankL, n.Archetype = 62, "pump-current"
	_, err = s.OpenCase(ctx, "", n)
	must(t, err)
	n.TankL, n.Archetype = 0, ""
	_, err = s.OpenCase(ctx, "", n)
	must(t, err)
	if v, err := s.VehicleByPlate(ctx, "SQ 1"); err != nil || v.TankL != 62 || v.Archetype != "pump-current" {
		t.Errorf("what was known is forgotten: %+v, %v", v, err)
	}
}

func TestOpenedBeforeTheCarIsThere(t *testing.T) {
	s := shop(t)
	n := car("SQ 1")
	n.Away = true
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	one, _, err := s.Export(ctx, id)
	must(t, err)
	if !strings.Contains(string(one), `"away": true`) {
		t.Error("the bundle does not say that the car is away")
	}
	other := shop(t)
	there, err := other.Import(ctx, one)
	must(t, err)
	if f, err := other.Load(ctx, there); err != nil || !f.Case.Away {
		t.Errorf("taken in elsewhere: away %v, %v", f.Case.Away, err)
	}
	must(t, s.Arrived(ctx, "", id))
	if f, err := s.Load(ctx, id); err != nil || f.Case.Away {
		t.Errorf("away %v, %v", f.Case.Away, err)
	}
}

// vinScan is an answer to service 09, PID 02 (SAE J1979, value from memory): a vehicle id, made up but for
// its tenth sign.
func vinScan(year byte) string {
	vin := "XX0000000" + string(year) + "0000000"
	var hex strings.Builder
	for _, b := range []byte(vin) {
		fmt.Fprintf(&hex, " %02X", b)
	}
	return "> 09 02\n49 02 01" + hex.String()
}

// The vehicle id's year letter and the typed year: K is 1989 and 2019 (49 CFR 565.15, value
// from memory).
func TestYearOfTheVehicleID(t *testing.T) {
	for _, c := range []struct {
		name   string
		letter byte
		typed  int
		answer int // 0: not asked
		want   int
	}{
		{"they agree", 'K', 2019, 0, 2019},
		{"no year typed", 'K', 0, 0, 0},
		{"the id names none", '0', 2016, 0, 2016},
		{"the id is right", 'K', 2016, 2019, 2019},
		{"the typed one is right", 'K', 2016, 2016, 2016},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := shop(t)
			n := car("SQ 1")
			n.Year = c.typed
			id, err := s.OpenCase(ctx, "", n)
			must(t, err)
			_, err = s.AddScan(ctx, "", id, "pasted", vinScan(c.letter))
			must(t, err)
			f, err := s.Load(ctx, id)
			must(t, err)
			if _, asked := s.DoubtYear(f); asked != (c.answer != 0) {
				t.Fatalf("asked: %v; the scan says %q", asked, f.Scans[0].Read.VIN)
			}
			if c.answer != 0 {
				refused(t, "a year of nobody", s.SettleYear(ctx, "", id, 2003), "does not say 2003")
				must(t, s.SettleYear(ctx, "", id, c.answer))
			}
			if f, err = s.Load(ctx, id); err != nil || f.Vehicle.Year != c.want {
				t.Errorf("the car is of %d, want %d (%v)", f.Vehicle.Year, c.want, err)
			}
			if _, asked := s.DoubtYear(f); asked {
				t.Error("it is asked again")
			}
		})
	}
}
