package casework_test

import (
	"bytes"
	"math"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
)

// The least that a source states of a car bounds its bench, whether a trace is read live or
// handed in; a source that permits more does not raise what protects the tank.
func TestMostPermittedBoundsTheBench(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 702"))
	must(t, err)
	test, err := s.StartTest(ctx, "", id, "")
	must(t, err)
	most := func() float64 {
		l, err := s.LiveTest(ctx, test)
		must(t, err)
		return l.Arch.MaxPa / units.InH2O
	}
	usual := most()
	state := func(said string) {
		must(t, s.AddValue(ctx, "", id, casework.NewValue{What: evidence.MostPermitted, Said: said, Source: "Tanks, Quay Publishing, 2018"}))
	}
	state("40 inH2O")
	if got := most(); got != usual {
		t.Errorf("a source raised it from %.1f to %.1f inH2O", usual, got)
	}
	state("14 inH2O")
	state("2.5 to 3 kPa")
	if got, want := most(), 3000/units.InH2O; math.Abs(got-want) > 1e-9 {
		t.Errorf("%.2f inH2O, wanted %.2f", got, want)
	}
	l, err := s.LiveTest(ctx, test)
	must(t, err)
	if got := l.ChargeTo(record.RunHold); math.Abs(got-0.8*3000) > 1e-6 {
		t.Errorf("it would be charged to %.0f Pa", got)
	}
	f, err := s.Load(ctx, id)
	must(t, err)
	vs, err := s.Values(ctx, f.Vehicle)
	must(t, err)
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: record.ValueEntry, ID: vs[0].Stated[2].ID}, casework.Strike))
	if got := most(); math.Abs(got-14) > 1e-9 {
		t.Errorf("struck out, it still bounds: %.2f inH2O", got)
	}
}

// Two books in two units and what was measured on the car stand beside each other, over
// all its cases; nothing is averaged and nothing is dropped.
func TestValuesOfACar(t *testing.T) {
	s := shop(t)
	first, err := s.OpenCase(ctx, "", car("SQ 701"))
	must(t, err)
	_, err = s.AddResult(ctx, "", first, casework.NewResult{Test: "valve-bench", Part: "vent-valve", Readings: bench.Readings{"sealed": bench.CountOf(5, 5), "passed": bench.CountOf(5, 5), "coil": bench.Num(25.2)}})
	must(t, err)
	id, err := s.OpenCase(ctx, "", car("SQ 701"))
	must(t, err)
	coil := func(said, source string) casework.NewValue {
		return casework.NewValue{What: "valve-bench/coil", Part: "vent-valve", Said: said, Source: source}
	}
	must(t, s.AddValue(ctx, "", id, coil("20 to 26 ohm", "Fuel and emissions, workshop manual, Saltmarsh Press, 2016")))
	must(t, s.AddValue(ctx, "", id, coil("30–34 Ω", "Wiring of the Wherry, Quay Publishing, 2018")))
	must(t, s.AddValue(ctx, "k", id, casework.NewValue{What: evidence.LeakLimit, Said: "0.020 in", Source: "Monitor limits, Saltmarsh Press, 2016"}))
	must(t, s.AddValue(ctx, "k", id, casework.NewValue{What: evidence.LeakLimit, Said: "0.020 in", Source: "Monitor limits, Saltmarsh Press, 2016"})) // pressed twice
	must(t, s.AddValue(ctx, "", id, casework.NewValue{What: evidence.LeakLimit, Part: "vent-valve", Said: "0,5 mm", Source: "Inspection guide, Quay Publishing, 2018"}))
	f, err := s.Load(ctx, id)
	must(t, err)
	vs, err := s.Values(ctx, f.Vehicle)
	must(t, err)
	if len(vs) != 2 || vs[0].Key != evidence.LeakLimit || vs[1].Part != "vent-valve" {
		t.Fatalf("%+v", vs)
	}
	limit, valve := vs[0], vs[1]
	if len(limit.Stated) != 2 || limit.Clash || limit.Stated[0].Said != "0.020 in" || limit.Stated[1].Said != "0,5 mm" || limit.In(limit.Stated[0]) != "0.508 mm" || limit.Stated[1].Part != "" {
		t.Errorf("the limit: %+v", limit)
	}
	if len(valve.Stated) != 2 || !valve.Clash || valve.Stated[0].Off || !valve.Stated[1].Off || valve.In(valve.Stated[1]) != "30 to 34 ohm" {
		t.Errorf("the coil: %+v", valve)
	}
	if m := valve.Newest(); m == nil || m.Value != 25.2 || m.Case != "SQ-101" || valve.Says(*m) != "25.2 ohm" {
		t.Errorf("measured: %+v", m)
	}
	// Struck out, a source contradicts nothing any more, and stays written down.
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: record.ValueEntry, ID: valve.Stated[1].ID}, casework.Strike))
	vs, err = s.Values(ctx, f.Vehicle)
	must(t, err)
	if v := vs[1]; v.Clash || len(v.Stated) != 2 || len(v.Standing()) != 1 || !v.Stated[1].Struck() {
		t.Errorf("struck out: %+v", v)
	}
	for _, c := range []struct {
		say string
		n   casework.NewValue
	}{
		{"choose what", casework.NewValue{What: "luck", Said: "1 mm", Source: "x"}},
		{"has no unit", casework.NewValue{What: evidence.LeakLimit, Said: "0.020", Source: "x"}},
		{"where you read it", casework.NewValue{What: evidence.LeakLimit, Said: "0.020 in"}},
		{"of which part", casework.NewValue{What: "valve-bench/coil", Said: "20 ohm", Source: "x"}},
		{"not on this car's Map", casework.NewValue{What: "valve-bench/coil", Part: "wing", Said: "20 ohm", Source: "x"}},
		{"no number", coil("many ohms", "x")},
		{"60 are kept", coil(strings.Repeat("2", 61), "x")},
	} {
		if err := s.AddValue(ctx, "", id, c.n); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%+v: %v; want %q", c.n, err, c.say)
		}
	}
	// They travel with the case and are not doubled.
	data, _, err := s.Export(ctx, id)
	must(t, err)
	other := shop(t)
	for range 2 {
		got, err := other.Import(ctx, data)
		must(t, err)
		back, _, err := other.Export(ctx, got)
		must(t, err)
		if !bytes.Equal(back, data) {
			t.Error("values come back otherwise")
		}
	}
}

// A test of the whole system is measured wherever its gauge was joined.
func TestMeasuredOnTheWholeSystem(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 703"))
	must(t, err)
	_, err = s.AddResult(ctx, "", id, casework.NewResult{Test: "make-up-flow", Part: "service-port", Readings: bench.Readings{"flow": bench.Num(0.9), "pressure": bench.Num(13)}})
	must(t, err)
	must(t, s.AddValue(ctx, "", id, casework.NewValue{What: "make-up-flow/flow", Said: "0.4 to 0.6 L/min", Source: "x, y, 2016"}))
	f, err := s.Load(ctx, id)
	must(t, err)
	vs, err := s.Values(ctx, f.Vehicle)
	must(t, err)
	if len(vs) != 1 || len(vs[0].Measured) != 1 || vs[0].Measured[0].Value != 0.9 {
		t.Errorf("%+v", vs)
	}
}

// A volume that was metered in is a measurement of the car.
func TestMeteredVolumeIsMeasured(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 702"))
	must(t, err)
	must(t, s.AddValue(ctx, "", id, casework.NewValue{What: evidence.VapourVolume, Said: "12 gal", Source: "x, y, 2016"}))
	test, err := s.StartTest(ctx, "", id, "")
	must(t, err)
	f, err := s.Load(ctx, id)
	must(t, err)
	su := f.Tests[0].Setup
	su.VolumeHow, su.MeterFlow, su.MeterTime, su.MeterRise, su.VolumeTolerance = record.VolumeMetered, 1e-3/60, 60, su.Barometer/30, 0.05
	must(t, s.SaveSetup(ctx, "", test, f.Tests[0].Version, su))
	vs, err := s.Values(ctx, f.Vehicle)
	must(t, err)
	if len(vs) != 1 || len(vs[0].Measured) != 1 || vs[0].Says(vs[0].Measured[0]) != "30 L" || !vs[0].Stated[0].Off || vs[0].Measured[0].Test != test {
		t.Errorf("%+v", vs)
	}
}
