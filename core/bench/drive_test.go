package bench_test

import (
	"math"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/core/trim"
)

// adapter are the columns of a scan adapter on a drive.
func adapter() (cols record.Channels) {
	for _, w := range bench.Trims.Wants() {
		for _, k := range w.Keys {
			cols = append(cols, record.RunChannel{Key: k})
		}
	}
	return cols
}

// driver reads a made-up drive into a watcher, a second at a time, each PID in its turn.
type driver struct {
	t     *testing.T
	w     bench.Watcher
	cols  record.Channels
	at    float64
	turn  int
	marks []string
}

func newDriver(t *testing.T) *driver {
	t.Helper()
	s, ok := bench.Trims.Stretch(bench.Known{}, record.RunDrive)
	if !ok {
		t.Fatal("there is no drive among the stretches")
	}
	k := bench.Known{}
	k.Engine = trim.Engine{Metering: trim.AirMeter, Displacement: 1.8e-3}
	return &driver{t: t, w: bench.Trims.Watch(k, s, adapter()), cols: adapter()}
}

// run drives for some seconds with live data in the units of the PIDs.
func (d *driver) run(seconds int, live map[string]float64) {
	for range seconds * 4 {
		row := slices.Repeat([]float64{math.NaN()}, len(d.cols))
		for range 5 {
			k := d.cols[d.turn%len(d.cols)].Key
			if v, ok := live[k]; ok {
				row[d.turn%len(d.cols)] = v
			}
			d.turn++
		}
		d.at += 0.25
		if h := d.w.Take(d.at, row); h.Mark != "" {
			d.marks = append(d.marks, h.Mark)
		}
	}
}

func liveAt(rpm, air, pressure, road, long, coolant float64) map[string]float64 {
	return map[string]float64{"pid-06": 0, "pid-07": long, "pid-0C": rpm, "pid-10": air, "pid-0B": pressure, "pid-0D": road, "pid-05": coolant, "pid-03": 2, "pid-04": pressure * 0.9, "pid-2E": 0, "pid-33": 101, "pid-0F": 30}
}

func TestDriveIsWatched(t *testing.T) {
	d := newDriver(t)
	if s := d.w.Told(); s.Readings != nil || s.Says == "" {
		t.Errorf("before anything was read: %+v", s)
	}
	d.run(20, liveAt(760, 2.4, 34, 0, 16, 50))
	if now := d.w.State().Now; !strings.Contains(now, "Not warm yet, 50 °C") || !strings.Contains(now, "idle (0 of 25 s)") {
		t.Errorf("cold: %s", now)
	}
	d.run(40, liveAt(760, 2.4, 34, 0, 16, 88))
	if now := d.w.State().Now; !strings.Contains(now, "In: idle. Still missing: 2500 without load") {
		t.Errorf("after idle: %s", now)
	}
	d.run(40, liveAt(2500, 9, 33, 0, 4.7, 90))
	d.run(60, liveAt(2300, 28, 75, 70, 1.6, 90))
	if now := d.w.State().Now; !strings.Contains(now, "All three points are in") {
		t.Errorf("after all three: %s", now)
	}
	if want := []string{"idle", "2500 without load", "loaded"}; !slices.Equal(d.marks, want) {
		t.Errorf("marked by itself: %v", d.marks)
	}
	told := d.w.Told().Readings
	for key, want := range map[string]float64{"idle": 16, "fast": 4.7, "loaded": 1.6, "air": 2.4, "manifold": 34} {
		if v, ok := told.Mean(key); !ok || math.Abs(v-want) > 0.6 {
			t.Errorf("%s is %.2f, %v; want %g", key, v, ok, want)
		}
	}
	v := bench.Trims.Reduce(bench.Subject{}, told)
	if v.Outcome != "idle-lean" || len(v.Figures) != 1 || v.Figures[0].Unit != "mm" || !strings.HasPrefix(v.Says, "Most likely: vacuum leak behind the throttle (>99 %), ") {
		t.Errorf("%+v", v)
	}
}

// TestDriveIsClamped marks the purge hose clamped and freed by hand.
func TestDriveIsClamped(t *testing.T) {
	d := newDriver(t)
	with := func(short float64) map[string]float64 {
		l := liveAt(760, 2.4, 34, 0, 0, 88)
		l["pid-06"], l["pid-2E"] = short, 30
		return l
	}
	d.run(50, with(-9))
	d.w.Mark(d.at, "purge-clamped")
	d.run(40, with(0))
	d.w.Mark(d.at, "purge-freed")
	d.run(50, with(-9))
	if says := d.w.Told().Says; !strings.Contains(says, "purge carried 9.0 %") {
		t.Errorf("it says: %s", says)
	}
	spans := bench.ClampSpans([]bench.Moment{{Key: "purge-freed", At: 3}, {Key: "purge-clamped", At: 10}, {Key: "purge-clamped", At: 12}, {Key: "purge-freed", At: 40}, {Key: "idle", At: 50}, {Key: "purge-clamped", At: 60}})
	if len(spans) != 2 || spans[0] != [2]float64{10, 40} || spans[1][0] != 60 || !math.IsInf(spans[1][1], 1) {
		t.Errorf("spans %v", spans)
	}
}

// TestDriveTable keeps a log as a table and reads it back.
func TestDriveTable(t *testing.T) {
	nan := math.NaN()
	l := &trim.Log{Time: []float64{0, 0, 1}}
	l.Value[trim.Short1] = []float64{0.05, nan, 0.06}
	l.Value[trim.Speed] = []float64{nan, 800, 810}
	l.Value[trim.Coolant] = []float64{363, nan, nan}
	l.Value[trim.ChargePressure] = []float64{150e3, nan, 151e3}
	cols, table := bench.DriveTable(l)
	for i := 1; i < table.Len(); i++ {
		if table.Time[i] <= table.Time[i-1] {
			t.Errorf("time does not rise: %v", table.Time)
		}
	}
	back := bench.DriveLog(cols, table)
	for c := range trim.Channels {
		if back.Has(c) != l.Has(c) {
			t.Errorf("%s: %v, it was %v", c, back.Has(c), l.Has(c))
			continue
		}
		for i, v := range l.Value[c] {
			if x := back.Value[c][i]; math.Abs(x-v) > 1e-9*math.Abs(v) || (x == x) != (v == v) {
				t.Errorf("%s at %d: %g, it was %g", c, i, x, v)
			}
		}
	}
}
