package casework_test

import (
	"context"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/record"
)

// What a suspect would show follows its size, the level of the tank and the start.
func TestPredictHold(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(context.Background(), "", casework.NewCase{Plate: "SQ 7 P", Make: "Quillane", Model: "Teal", Year: 2018, OdometerKM: 1000, TankL: 60, Metering: "maf", Archetype: "engine-vacuum", Complaint: "lamp"})
	if err != nil {
		t.Fatal(err)
	}
	f, err := s.Load(context.Background(), id)
	if err != nil {
		t.Fatal(err)
	}
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		t.Fatal(err)
	}
	can := s.Suspects(car, "decay")
	if len(can) < 8 {
		t.Errorf("%d suspects that a hold can see", len(can))
	}
	for _, x := range can {
		if x.Family == "boost" || x.Key == "eonv-unit" {
			t.Errorf("%s is no suspect on this car's hold", x.Key)
		}
	}
	end := func(severity, level, from float64) float64 {
		t.Helper()
		x, err := s.PredictHold(f.Vehicle, car, casework.Supposed{Setup: record.Setup{Level: level, Tank: 0.06}, Fault: "flange-seal", Severity: severity, From: from, Seconds: 60})
		if err != nil || len(x.Gauge) < 50 || !strings.HasSuffix(x.Says, "mm") {
			t.Fatalf("%v, %d points, %q", err, len(x.Gauge), x.Says)
		}
		return x.Gauge[len(x.Gauge)-1]
	}
	if small, large := end(0.1, 0.4, 3000), end(0.5, 0.4, 3000); small < 1.5*large {
		t.Errorf("after a minute %.0f Pa with a small hole, %.0f with a large one", small, large)
	}
	if empty, full := end(0.4, 0.2, 3000), end(0.4, 0.85, 3000); full > 0.9*empty {
		t.Errorf("after a minute %.0f Pa with little fuel, %.0f with little space", empty, full)
	}
	if v := end(0.1, 0.4, -3000); v > 0 || v < -3000 {
		t.Errorf("a vacuum hold ends at %.0f Pa", v)
	}
	for _, x := range []struct {
		fault string
		from  float64
		say   string
	}{{"bypass", 3000, "cannot have"}, {"rust", 3000, "cannot have"}, {"flange-seal", 5, "begins between"}, {"flange-seal", 1e6, "begins between"}} {
		t.Run(x.say, func(t *testing.T) {
			if _, err := s.PredictHold(f.Vehicle, car, casework.Supposed{Fault: x.fault, Severity: 0.5, From: x.from, Seconds: 60}); err == nil || !strings.Contains(err.Error(), x.say) {
				t.Errorf("%s from %g Pa: %v", x.fault, x.from, err)
			}
		})
	}
}
