package standin_test

import (
	"context"
	"encoding/json"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"wexter/core/obd"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/standin"
)

var ctx = context.Background()

func plant(t *testing.T, file string, speed float64) *standin.Plant {
	t.Helper()
	f, err := standin.ReadCarFile([]byte(file))
	if err != nil {
		t.Fatal(err)
	}
	p, err := standin.NewPlant(f, ingest.Book(), speed)
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// dialAdapter connects to a scan adapter with all the patience that a slow machine needs.
func dialAdapter(address string) (*instrument.Adapter, error) {
	return instrument.Dialer{Patience: 20 * time.Minute}.Adapter(ctx, address)
}

// serve serves a whole car on loopback, waits for all its hand instruments, adapter and
// pressure module, and returns the addresses by name.
func serve(t *testing.T, p *standin.Plant) map[string]string {
	t.Helper()
	run, cancel := context.WithCancel(ctx)
	type place struct{ name, address string }
	told := make(chan place, 100)
	done := make(chan error, 1)
	go func() {
		done <- standin.ServeCar(run, p, "127.0.0.1", 0, func(_, name, address string) { told <- place{name, address} })
	}()
	t.Cleanup(func() { cancel(); <-done })
	wait := []string{"scan adapter", "pressure module"}
	for _, x := range standin.Tools(p) {
		wait = append(wait, x.Name)
	}
	at := map[string]string{}
	for len(wait) > 0 {
		select {
		case x := <-told:
			at[x.name] = x.address
			wait = slices.DeleteFunc(wait, func(name string) bool { return name == x.name })
		case <-time.After(20 * time.Minute):
			t.Fatalf("%q do not come up", wait)
		}
	}
	return at
}

const carFile = "name: Ruff\nvin: \"QLLRFF20X0000RUFF\"\narchetypes: [na-maf, no-boost, fixed-valve, egr-vacuum, engine-vacuum]\nfaults: {flange-seal: 0.6}\ntrips: 2\nwarm: true\n"

// All instruments see the same car: what the driver does shows in the adapter's data, at
// the manometer and at the meter.
func TestOneCarManyInstruments(t *testing.T) {
	at := serve(t, plant(t, carFile, 0))
	a, err := dialAdapter(at["scan adapter"])
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	raw, err := instrument.TakeScan(ctx, a, func(string) {})
	if err != nil {
		t.Fatal(err)
	}
	s, err := ingest.ReadScan([]byte(raw))
	if err != nil || s.VIN != "QLLRFF20X0000RUFF" || s.Lamp == nil || !*s.Lamp {
		t.Fatalf("%v %+v", err, s)
	}
	stored := ""
	for _, c := range s.Codes {
		if c.Status == obd.Stored {
			stored = c.Code
		}
	}
	if stored != "P0442" || len(s.Freeze) != 1 || len(s.Tests) == 0 || s.Readiness["evap"] != obd.Complete || s.Readiness["egr"] != obd.Complete {
		t.Errorf("stored %q, freeze %v, tests %v, readiness %v", stored, s.Freeze, s.Tests, s.Readiness)
	}
	ask := func(tool, words string) string {
		said, err := instrument.AskTool(ctx, at[tool], words)
		if err != nil {
			return "error: " + err.Error()
		}
		return said
	}
	if said := ask("scan adapter", "08 01"); !strings.Contains(said, "48 01") {
		t.Errorf("sealing by service 08: %s", said)
	}
	if err := a.Work(ctx, "command purge-valve release"); err != nil {
		t.Error(err)
	}
	if err := a.Work(ctx, "drive idle"); err != nil {
		t.Fatal(err)
	}
	if err := a.Work(ctx, "run 6"); err != nil {
		t.Fatal(err)
	}
	st, err := instrument.State(ctx, a)
	if err != nil || !st.Running || st.Pressures["manifold"] > -50e3 || st.Live["0C"] < 500 || st.Open["throttle"] <= 0 {
		t.Errorf("%v %+v", err, st)
	}
	if said := ask("slant manometer", "read manifold"); !strings.Contains(said, "over range") {
		t.Errorf("a slant manometer on the manifold: %s", said)
	}
	if said := ask("slant manometer", "read crankcase"); !strings.HasSuffix(said, "inH2O") {
		t.Errorf("on the crankcase: %s", said)
	}
	if said := ask("multimeter", "volts battery"); !strings.HasPrefix(said, "14.") {
		t.Errorf("volts with the engine running: %s", said)
	}
	if said := ask("multimeter", "ohms purge-valve"); !strings.HasPrefix(said, "2") {
		t.Errorf("coil: %s", said)
	}
	if said := ask("multimeter", "probe purge-valve coil"); !strings.HasPrefix(said, "2") || !strings.HasSuffix(said, "ohm") {
		t.Errorf("coil by its circuit: %s", said)
	}
	if said := ask("multimeter", "probe purge-valve supply"); !strings.HasPrefix(said, "12.") {
		t.Errorf("supply by its circuit: %s", said)
	}
	if said := ask("multimeter", "pins purge-valve"); said != "bright and tight" {
		t.Errorf("pins: %s", said)
	}
	for _, bad := range []string{"probe cap supply", "probe purge-valve pins", "probe purge-valve wings", "pins cap"} {
		if said := ask("multimeter", bad); said == "done" || strings.HasSuffix(said, " V") {
			t.Errorf("%s: %s", bad, said)
		}
	}
	if said := ask("multimeter", "volts difference"); !strings.HasPrefix(said, "0.4") {
		t.Errorf("differential sensor at idle: %s", said)
	}
	if said := ask("gas-temperature probe", "read"); !strings.HasSuffix(said, "°C") {
		t.Errorf("probe: %s", said)
	}
	// Cleared only with the engine off.
	if err := instrument.Clear(ctx, a); err == nil {
		t.Error("cleared with the engine running")
	}
	if err := a.Work(ctx, "drive key"); err != nil {
		t.Error(err)
	}
	if err := instrument.Clear(ctx, a); err != nil {
		t.Error(err)
	}
	if said := ask("scan adapter", "03"); strings.Contains(said, "04 42") {
		t.Errorf("after clearing: %s", said)
	}
	if said := ask("scan adapter", "0A"); !strings.Contains(said, "04 42") {
		t.Errorf("the permanent code: %s", said)
	}
	// Smoke: joined, pressed in, and an exit where the hole is.
	for _, w := range []string{"@set vent-valve powered"} {
		if said := ask("scan adapter", w); said != "done" {
			t.Errorf("%s: %s", w, said)
		}
	}
	if said := ask("smoke rig", "join service-port 12inH2O"); said != "done" {
		t.Fatalf("smoke: %s", said)
	}
	if said := ask("smoke rig", "join service-port 3psi"); !strings.Contains(said, "1 psi") {
		t.Errorf("three psi of smoke: %s", said)
	}
	_ = ask("smoke rig", "join service-port 12inH2O")
	if said := ask("smoke rig", "read"); !strings.Contains(said, "L/min") {
		t.Errorf("smoke rig: %s", said)
	}
	// Nonsense is answered with what is taken.
	for tool, words := range map[string]string{"slant manometer": "read wing", "hand vacuum pump": "pump", "smoke rig": "puff", "multimeter": "amps", "gas-temperature probe": "lick", "scan adapter": "@fly away"} {
		t.Run(tool, func(t *testing.T) {
			if said := ask(tool, words); !strings.HasPrefix(said, "error: ") || len(said) < 20 {
				t.Errorf("%s to %q: %s", tool, words, said)
			}
		})
	}
	if said := ask("multimeter", "unplug"); said != "done" {
		t.Error(said)
	}
	if said := ask("multimeter", "volts battery"); !strings.Contains(said, "unplugged") {
		t.Errorf("unplugged: %s", said)
	}
}

// The module on a whole car seals it, presses it up and sees the leak.
func TestCarModule(t *testing.T) {
	at := serve(t, plant(t, strings.Replace(carFile, "trips: 2", "trips: 0", 1), 0))
	m, err := instrument.Dialer{Patience: 20 * time.Minute}.Module(ctx, at["pressure module"])
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	go func() {
		for _, c := range []instrument.Command{{Do: instrument.Charge, Target: 3000}, {Do: instrument.Run, Seconds: 240}} {
			if err := m.Do(ctx, c); err != nil {
				t.Error(err)
			}
		}
	}()
	high, last := 0.0, 0.0
	for range 2500 {
		r, err := m.Next(ctx)
		if err != nil {
			t.Fatal(err)
		}
		shown, _ := r.Of(instrument.PressureKey)
		last = shown.Value
		if high = max(high, last); high > 2900 && last < 0.5*high {
			return
		}
	}
	t.Errorf("it came up to %.0f Pa and stands at %.0f", high, last)
}

func TestCarFileRefusals(t *testing.T) {
	for file, say := range map[string]string{
		"name: x\ntyres: 4":                                  "tyres",
		"archetypes: [na-maf]":                               "no name",
		"name: x\ntrips: 99":                                 "trips",
		"name: x\nbus: rope":                                 "bus",
		"name: x\nmode: fly":                                 "mode",
		"name: x\narchetypes: [wing]":                        "no archetype",
		"name: x\narchetypes: [na-maf, charged]":             "does not go",
		"name: x\nfaults: {rust: 1}":                         "no fault",
		"name: x\nfaults: {cap: 2}":                          "severity",
		"name: x\narchetypes: [na-maf]\nfaults: {bypass: 1}": "cannot have",
		"name: x\nlevel: -3":                                 "level",
	} {
		t.Run(say, func(t *testing.T) {
			f, err := standin.ReadCarFile([]byte(file))
			if err == nil {
				_, err = standin.NewPlant(f, ingest.Book(), 1)
			}
			if err == nil || say != "does not go" && !strings.Contains(err.Error(), say) {
				t.Errorf("%q: %v, want a sentence with %q", file, err, say)
			}
		})
	}
	f, _ := standin.ReadCarFile([]byte("name: x"))
	if _, err := standin.NewPlant(f, ingest.Book(), -1); err == nil {
		t.Error("a speed below nought is taken")
	}
}

// The demo's cars can all be built.
func TestDemoCars(t *testing.T) {
	for _, n := range demo.WholeCars() {
		data, err := demo.WholeCar(n)
		if err != nil {
			t.Fatal(err)
		}
		p := plant(t, string(data), 1)
		if p.Name() != n {
			t.Errorf("%s calls itself %s: a car is named by its case", n, p.Name())
		}
	}
	if _, err := demo.WholeCar("SQ-999"); err == nil {
		t.Error("a car that is not there")
	}
}

// An adapter's first line says which valves it can command, and that it is simulated.
func TestAdapterSaysWhatItCan(t *testing.T) {
	at := serve(t, plant(t, "name: x", 1))
	conn, err := net.Dial("tcp", at["scan adapter"])
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	var about instrument.AdapterAbout
	if err := json.NewDecoder(conn).Decode(&about); err != nil || !about.Simulated || len(about.Commands) == 0 || len(about.Modes) != 6 {
		t.Errorf("%+v %v", about, err)
	}
}

// The technician does a test of the Book on a car with the same faults and reads it out;
// the car that others look at stays as it is.
func TestTechnician(t *testing.T) {
	p := plant(t, carFile, 1)
	at := serve(t, p)
	ask := func(words string) (standin.Tried, error) {
		said, err := instrument.AskTool(ctx, at["technician"], words)
		var x standin.Tried
		if err == nil {
			err = json.Unmarshal([]byte(said), &x)
		}
		return x, err
	}
	left := func(x standin.Tried) float64 { // inH2O at the end of the hold
		return x.Log[len(x.Log)-1][2] / 249.089
	}
	smoke, err := ask("try smoke")
	if err != nil || len(smoke.Readings) != 3 || len(smoke.Readings[1].Places) != 1 || smoke.Readings[1].Places[0].Part != "flange" {
		t.Errorf("%+v, %v", smoke, err)
	}
	hold, err := ask("try decay")
	if err != nil || left(hold) > 9 || len(hold.Log) < 300 {
		t.Errorf("%.1f inH2O left, with %d readings, %v", left(hold), len(hold.Log), err)
	}
	front, err := ask("try decay vapour-line")
	if err != nil || left(front) < 11.5 {
		t.Errorf("with the tank plugged off: %.1f inH2O left, %v", left(front), err)
	}
	if again, err := ask("try decay"); err != nil || again.Log[200][2] != hold.Log[200][2] {
		t.Errorf("the same test reads otherwise: %v", err)
	}
	for _, bad := range []string{"try", "try divining", "try eonv-manometer", "try valve-bench flux", "juggle"} {
		if x, err := ask(bad); err == nil {
			t.Errorf("%q: %+v", bad, x)
		}
	}
}

// What a hand instrument measures is known by its name before anybody is connected to it.
func TestMeasuresByName(t *testing.T) {
	p := plant(t, "name: SQ-1\narchetypes: [na-maf, engine-vacuum]\n", 1)
	for _, x := range standin.Tools(p) {
		var has []string
		for _, c := range x.About().Channels {
			has = append(has, c.Key)
		}
		if got := standin.Measures(x.Name); !slices.Equal(got, has) {
			t.Errorf("%s: %v, but it gives %v", x.Name, got, has)
		}
	}
	if got := standin.Measures("raft"); got != nil {
		t.Errorf("a raft gives %v", got)
	}
}
