package web_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"
)

// driveCSV is the log of a drive of an engine with an air meter of 1.6 L, with that many g/s entering
// behind its throttle and that much learned at idle, %.
func driveCSV(unmetered, learned float64) []byte {
	var b strings.Builder
	b.WriteString("time_s;SHRTFT1;LONGFT1;RPM;MAP;MAF;VSS;ECT;FUELSYS1;BARO\n")
	for i := range 300 {
		part := i / 100
		rpm, kpa, air, road := []float64{750, 2500, 2400}[part], []float64{32, 34, 80}[part], []float64{2.4, 9, 31}[part], []float64{0, 0, 70}[part]
		u := unmetered * []float64{1, 1, 0.75}[part]
		long := learned / 100 * []float64{1, 0.25, 0.05}[part]
		short := 100*((1+u/(air-u))/(1+long)-1) + []float64{0.8, -0.8}[i%2]
		b.WriteString(strings.ReplaceAll(fmt.Sprintf("%.1f;%.2f;%.2f;%.0f;%.0f;%.2f;%.0f;90;CL;101\n", float64(i)/2, short, 100*long, rpm, kpa, air-u, road), ".", ","))
	}
	return []byte(b.String())
}

// onAMeter opens a case of a car with an air meter.
func onAMeter(b *browser) string {
	v := newCar(b)
	v.Set("engine", "na-maf")
	v.Set("metering", "maf")
	_, _, at := b.post("/cases", v)
	return at
}

func TestADriveIsRead(t *testing.T) {
	b := start(t, false)
	c := onAMeter(b)
	do := c + "/do/trims"
	if _, body := b.get(do); !strings.Contains(body, "Drop the log of a drive here") {
		t.Fatal("the page takes no log")
	}
	code, body, at := b.upload(c+"/drives", b.fill(do, "displacement", "1,6"), "drive", "before.csv", driveCSV(0.36, 14))
	if code != 200 || !strings.HasSuffix(at, "/drive") || !strings.HasPrefix(at, "/tests/") {
		t.Fatalf("%d at %s", code, at)
	}
	for _, s := range []string{"Vacuum leak behind the throttle", " mm, ", "air meter (MAF)", "Write it down", "total trim against air flow", "total trim against time", "before.csv", `value="1.6 L"`} {
		if !strings.Contains(body, s) {
			t.Errorf("%q is missing", s)
		}
	}
	if _, body := b.get(at + "?suspect=booster-hose&size=large"); !strings.Contains(body, "Dashed: what a car of this kind shows") || !strings.Contains(body, "p-ghost") {
		t.Error("no suspect is drawn")
	}
	if _, body := b.get(at + "?suspect=<b>&size=huge"); strings.Contains(body, "<b>&size") || strings.Contains(body, "p-ghost") {
		t.Error("a suspect that there is not is drawn")
	}
	keep := strings.TrimSuffix(at, "/drive") + "/keep"
	if code, body, to := b.post(keep, b.fill(at)); code != 200 || to != at || !strings.Contains(body, "Back to the case") || !strings.Contains(body, "What it did to the odds") {
		t.Errorf("written down: %d at %s", code, to)
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || len(f.Results) != 1 || f.Results[0].Outcome != "idle-lean" {
		t.Fatalf("%v, %+v", err, f.Results)
	}
	if _, body := b.get(c); !strings.Contains(body, "lean at idle, fades with flow") {
		t.Error("the case does not show it")
	}
	// After the repair the same is driven again.
	again := do + "?repeat=" + f.Results[0].ID
	code, body, at = b.upload(c+"/drives", b.fill(again, "displacement", "1.6 L", "repeat_of", f.Results[0].ID), "drive", "after.csv", driveCSV(0, 14))
	if code != 200 || !strings.Contains(body, "The repair works") || !strings.Contains(body, "this is the repair working") {
		t.Errorf("before and after: %d at %s", code, at)
	}
	size := strings.TrimSuffix(at, "/drive") + "/displacement"
	if code, body, _ := b.post(size, b.fill(at, "displacement", "2 cups")); code != 422 || !strings.Contains(body, "is not a unit of volume") {
		t.Errorf("an engine of two cups: %d", code)
	}
	if code, body, _ := b.post(size, b.fill(at, "displacement", "2.0")); code != 200 || !strings.Contains(body, `value="2.0 L"`) {
		t.Errorf("an engine of 2 L: %d", code)
	}
}

// TestTypedTrims reads six figures from the form in the place of a log.
func TestTypedTrims(t *testing.T) {
	b := start(t, false)
	c := onAMeter(b)
	do := c + "/do/trims"
	six := func(kv ...string) (int, string, string) { return b.post(c+"/drives", b.fill(do, kv...)) }
	code, body, at := six("short-idle", "3", "long-idle", "14,8", "short-2500", "1", "long-2500", "3.9", "short-load", "0", "long-load", "0.8", "displacement", "1.6")
	if code != 200 || !strings.HasSuffix(at, "/drive") || !strings.Contains(body, "Vacuum leak behind the throttle") || !strings.Contains(body, "The trims were typed") {
		t.Fatalf("%d at %s", code, at)
	}
	if code, body, _ := six("short-idle", "many"); code != 422 || !strings.Contains(body, "Short trim, idle") {
		t.Errorf("a word: %d", code)
	}
	if code, body, _ := six("short-idle", "300"); code != 422 || !strings.Contains(body, "within ±100 %") {
		t.Errorf("three hundred: %d", code)
	}
	if code, _, at := b.post(strings.TrimSuffix(at, "/drive")+"/keep", b.fill(at)); code != 200 || !strings.HasSuffix(at, "/drive") {
		t.Errorf("written down: %d", code)
	}
}

func TestBadDrives(t *testing.T) {
	b := start(t, false)
	c := onAMeter(b)
	do := c + "/do/trims"
	cold := strings.ReplaceAll(string(driveCSV(0, 0)), ";90;", ";20;")
	for name, x := range map[string]struct {
		data []byte
		say  string
	}{
		"no file":    {nil, "the file is empty"},
		"no header":  {[]byte("0,1,2,800,3\n1,1,2,800,3\n"), "the header was expected"},
		"a picture":  {[]byte("\x89PNG\r\n\x1a\n0000"), "a picture"},
		"cold":       {[]byte(cold), "never warm in this log (20 °C at most)"},
		"open loop":  {[]byte(strings.ReplaceAll(string(driveCSV(0, 0)), ";CL;", ";OL-Drive;")), "open loop throughout"},
		"clock":      {append(driveCSV(0, 0), []byte("1,0;0;0;800;30;3;0;90;CL;101\n")...), "time runs backwards"},
		"half a row": {append(driveCSV(0, 0), []byte("200,0;0;0")...), "the header has 10"},
	} {
		t.Run(name, func(t *testing.T) {
			code, body, _ := b.upload(c+"/drives", b.fill(do, "displacement", "1.6"), "drive", "log.csv", x.data)
			if code != 422 || !strings.Contains(body, x.say) {
				t.Errorf("%d: %s", code, body[:min(len(body), 200)])
			}
			if !strings.Contains(body, `value="1.6"`) {
				t.Error("what was typed is lost")
			}
		})
	}
	f, err := b.shop.Load(context.Background(), strings.TrimPrefix(c, "/cases/"))
	if err != nil || len(f.Benches) != 0 {
		t.Errorf("%d drives are kept, %v", len(f.Benches), err)
	}
	if code, _ := b.get("/tests/nothing/drive"); code != 404 {
		t.Errorf("a drive that there is not: %d", code)
	}
	if code, body, _ := b.upload(c+"/drives", b.fill(do, "displacement", fmt.Sprint(math.Inf(1))), "drive", "log.csv", driveCSV(0, 0)); code != 422 || !strings.Contains(body, "Engine size") {
		t.Errorf("an endless engine: %d", code)
	}
}
