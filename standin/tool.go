package standin

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	mrand "math/rand/v2"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"wexter/core/gas"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/instrument"
)

// Tool is a hand instrument on a whole car. Words join it to a part and work it, and what
// they ask is answered as somebody who holds it would read it out; joined, it sends its
// channels like any module, as often as its Rate says.
type Tool struct {
	Name  string
	Takes []string // what it can be asked, in words
	Rate  float64  // readings a second
	plant *Plant
	do    func(t *Tool, c *sim.Car, words []string) (string, error)
	works func(t *Tool, c *sim.Car, cmd instrument.Command) error // it can be worked from afar; nil: it cannot
	can   []string                                                // commands that it takes
	lease lease
	shows []dial

	session   string
	mu        sync.Mutex
	rng       *mrand.Rand
	n         int64
	at        string // the part it is joined to
	unplugged bool
	lag       float64 // of a probe, what it shows now
	lagAt     float64 // the car's time then
	bench     *sim.OnBench
	benchAt   float64 // the clock's time up to which the bench rig has come
	benched   string  // the part that was on it last
}

// dial is a channel of a tool: what it gives, on which scale, and the true value in the
// unit of the scale; false where it is joined to nothing that has one.
type dial struct {
	quantity record.Quantity
	scale    scale
	truth    func(t *Tool, c *sim.Car) (float64, bool)
}

// scale is what a hand instrument makes of a true value.
type scale struct {
	zero  float64 // what it shows of nothing
	noise float64 // standard deviation
	step  float64 // resolution
	most  float64 // range, either way
	unit  string
}

// The scales of the instruments.
var (
	slant     = scale{0.01, 0.01, 0.02, 24, "inH2O"}
	pumpDial  = scale{0.1, 0.05, 0.5, 30, "inHg"}
	flowTube  = scale{0, 0.02, 0.05, 25, "L/min"}
	rigDial   = scale{0, 0.05, 0.1, 30, "inH2O"}
	ohms      = scale{0, 0.1, 0.1, 40e6, "ohm"}
	volts     = scale{0, 0.01, 0.01, 60, "V"}
	finely    = scale{0, 0.005, 0.01, 60, "V"} // of a sensor
	benchDial = scale{0, 0.005, 0.01, 420, "inH2O"}
	probe     = scale{0.5, 0.3, 1, 900, "°C"}
)

// sees turns a true value into what an instrument shows; over is true beyond its range.
func (t *Tool) sees(v float64, s scale) (shown float64, over bool) {
	v += s.zero + s.noise*t.rng.NormFloat64()
	v = math.Round(v/s.step) * s.step
	if math.Abs(v) > s.most {
		return math.Copysign(s.most, v), true
	}
	return math.Round(v*1e6)/1e6 + 0, false // +0: no minus before a nought
}

// reads says what an instrument shows of a true value.
func (t *Tool) reads(v float64, s scale) string {
	shown, over := t.sees(v, s)
	if over {
		return fmt.Sprintf("over range (%g %s)", s.most, s.unit)
	}
	return fmt.Sprintf("%g %s", shown, s.unit)
}

func (t *Tool) part(c *sim.Car, words []string, i int) (string, error) {
	if len(words) > i {
		t.at = words[i]
	}
	if _, ok := c.Gauge(t.at); !ok {
		return "", fmt.Errorf("say at which part of the car: %q is none that has a pressure", t.at)
	}
	return t.at, nil
}

// Tools are the hand instruments of a whole car.
func Tools(p *Plant) []*Tool {
	out := toolbox()
	session := make([]byte, 8)
	_, _ = rand.Read(session) // never fails
	for i, t := range out {
		t.plant, t.rng, t.session = p, mrand.New(mrand.NewPCG(p.file.Seed, uint64(i+3))), fmt.Sprintf("%x-%d", session, i)
	}
	return out
}

// Measures are the channels that a hand instrument of a whole car gives, by its name; none for what is
// no such instrument.
func Measures(name string) (out []string) {
	for _, t := range toolbox() {
		for _, d := range t.shows {
			if t.Name == name {
				out = append(out, string(d.quantity))
			}
		}
	}
	return out
}

// toolbox are the hand instruments before they are on a car.
func toolbox() []*Tool {
	gauge := func(t *Tool, c *sim.Car) (float64, bool) {
		g, _ := c.Gauge(t.at) // joined to nothing it stands open to the air
		return g / units.InH2O, true
	}
	rig := func(unit float64) func(*Tool, *sim.Car) (float64, bool) {
		return func(_ *Tool, c *sim.Car) (float64, bool) { return c.RigGauge() / unit, true }
	}
	out := []*Tool{
		{Name: "technician", Takes: []string{"try TEST [PART]"}, do: technician},
		{Name: "slant manometer", Takes: []string{"read PART", "off", "unplug", "replug"}, do: manometer, Rate: 5, shows: []dial{{record.GaugePressure, slant, gauge}}},
		{Name: "hand vacuum pump", Takes: []string{"draw PART INHG", "release", "read", "read PART", "off"}, do: handPump, Rate: 5, shows: []dial{{record.GaugePressure, pumpDial, func(t *Tool, c *sim.Car) (float64, bool) {
			if t.at != "" { // its dial alone, on a hose
				g, _ := c.Gauge(t.at)
				return g / units.InHg, true
			}
			return c.RigGauge() / units.InHg, true
		}}}},
		{Name: "smoke rig", Takes: []string{instrument.TakesJoin, "exits", "read", "off", instrument.TakesFar, instrument.TakesSet}, do: smokeRig, Rate: 5, works: workSmokeRig,
			can:   []string{instrument.Open, instrument.Regulate, instrument.Smoke, instrument.Plug, instrument.Car, instrument.Known, instrument.Closed, instrument.Keep},
			shows: []dial{{record.RigFlowing, flowTube, rigFlow}, {record.GaugePressure, rigDial, rig(units.InH2O)}}},
		{Name: "multimeter", Takes: []string{instrument.TakesVolts, instrument.TakesProbe, "pins PART", "ohms PART", "switch", "volts battery", "volts difference", instrument.TakesDrive, instrument.TakesSet}, do: multimeter, Rate: 10, shows: []dial{{record.Volts, volts, meterVolts}, {record.Ohms, ohms, meterOhm}}},
		{Name: "gas-temperature probe", Takes: []string{"read"}, do: gasProbe, Rate: 1, shows: []dial{{record.GasTemp, probe, probeShows}}},
	}
	return append(out, benchRig())
}

// rigFlow is what the smoke rig's tube shows, L/min of free air.
func rigFlow(_ *Tool, c *sim.Car) (float64, bool) {
	if r := c.Rig(); r != nil {
		return gas.FreeAir(r.Meter, c.At.Barometer, c.At.Ambient) * 60e3, true
	}
	return 0, true
}

// meterOhm is what the meter shows that stands on ohms; on volts it shows none.
func meterOhm(t *Tool, c *sim.Car) (float64, bool) {
	part, measure, ok := strings.Cut(t.at, " ")
	if !ok {
		return 0, false
	}
	v, unit, err := c.Probe(part, measure)
	return v, err == nil && unit == "ohm"
}

// meterVolts is what the meter's probes stand on: a part's plug, the differential sensor or,
// as it comes, the battery.
func meterVolts(t *Tool, c *sim.Car) (float64, bool) {
	if part, measure, ok := strings.Cut(t.at, " "); ok {
		v, unit, err := c.Probe(part, measure)
		if c.Engine.Mode == sim.Off && measure != "proof" {
			v = 0
		}
		return v, err == nil && unit == "V"
	}
	if v, ok := c.Signal(t.at); ok && c.Engine.Mode != sim.Off {
		return v, true
	}
	switch up, ok := c.PumpSwitch(); {
	case t.at == "leak-pump" && ok:
		return map[bool]float64{true: c.Volts(), false: 0.2}[up], true
	case t.at == "unit-switch": // the contact of a vent unit, fed by the meter's own lead
		changed, ok := c.Switch()
		return map[bool]float64{true: 0.2, false: 11.8}[changed], ok
	case t.at == "difference":
		return c.Difference()
	case t.at != "" && t.at != "battery" && c.Engine.Mode == sim.Off:
		return 0, true
	}
	return c.Volts(), true
}

// probeShows is the temperature that the probe has come to, °C.
func probeShows(t *Tool, c *sim.Car) (float64, bool) {
	k, ok := c.BehindValve()
	if !ok {
		return 0, false
	}
	// The probe follows with a time constant of three seconds.
	if t.lag == 0 {
		t.lag = k
	}
	t.lag += (k - t.lag) * -math.Expm1(-math.Max(c.Time-t.lagAt, 0)/3)
	t.lagAt = c.Time
	return t.lag - units.ZeroCelsius, true
}

func technician(t *Tool, _ *sim.Car, w []string) (string, error) {
	if w[0] != "try" || len(w) < 2 || len(w) > 3 {
		return "", orUse(nil, t)
	}
	return t.plant.try(w[1], strings.Join(w[2:], ""))
}

func manometer(t *Tool, c *sim.Car, w []string) (string, error) {
	if w[0] == "off" { // open to the air
		t.at = ""
		return "done", nil
	}
	at, err := t.part(c, w, 1)
	if err != nil || w[0] != "read" {
		return "", orUse(err, t)
	}
	g, _ := c.Gauge(at)
	return t.reads(g/units.InH2O, slant), nil
}

func handPump(t *Tool, c *sim.Car, w []string) (string, error) {
	switch {
	case w[0] == "draw" && len(w) == 3:
		inHg, err := units.Parse(w[2], units.Pressure, "inHg")
		if err != nil {
			return "", err
		}
		t.at = ""
		if _, err := c.Connect(w[1], 0); err != nil {
			return "", err
		}
		t.plant.bench = false
		return "done", c.Rig().Set(sim.Draw, -math.Abs(inHg))
	case w[0] == "release":
		c.Disconnect()
		return "done", nil
	case w[0] == "off":
		t.at = ""
		return "done", nil
	case w[0] == "read" && len(w) == 2:
		at, err := t.part(c, w, 1)
		if err != nil {
			return "", orUse(err, t)
		}
		g, _ := c.Gauge(at)
		return t.reads(-g/units.InHg, pumpDial), nil
	case w[0] == "read":
		return t.reads(-c.RigGauge()/units.InHg, pumpDial), nil
	}
	return "", orUse(nil, t)
}

func smokeRig(t *Tool, c *sim.Car, w []string) (string, error) {
	switch {
	case w[0] == "join" && len(w) == 3:
		pa, err := units.Parse(w[2], units.Pressure, "inH2O")
		if err != nil {
			return "", err
		}
		if pa > 6900 {
			return "", errors.New("the regulator goes to 1 psi and no further: more harms a tank")
		}
		loose := w[1] == "air"
		if loose {
			w[1] = "vent-hose"
		}
		if _, err := c.Connect(w[1], 0); err != nil {
			return "", err
		}
		if loose {
			c.Loose()
		}
		t.plant.bench = false
		if err := c.Rig().Set(sim.Charge, pa); err != nil {
			return "", err
		}
		c.Rig().Hold, c.Rig().Smoke = true, true
		return "done", nil
	case w[0] == "exits":
		var list []string
		for _, x := range c.SmokeExits() {
			p, _ := c.Graph.Part(x.Part)
			list = append(list, p.Name+": "+x.Size)
		}
		if len(list) == 0 {
			return "no smoke leaves anywhere", nil
		}
		return strings.Join(list, "; "), nil
	case w[0] == "read":
		flow, _ := rigFlow(t, c)
		return t.reads(flow, flowTube) + " at " + t.reads(c.RigGauge()/units.InH2O, rigDial), nil
	case w[0] == "off":
		c.Disconnect()
		return "done", nil
	case w[0] == "set" && len(w) == 3:
		return "done", byHand(c, w)
	case (w[0] == "open" || w[0] == "shut") && len(w) == 2:
		state := plumbing.State("")
		if w[0] == "open" {
			state = plumbing.Open
		}
		return "done", c.Set(w[1], state)
	}
	return "", orUse(nil, t)
}

func multimeter(t *Tool, c *sim.Car, w []string) (string, error) {
	if len(w) == 1 && w[0] == "switch" {
		changed, ok := c.Switch()
		if !ok {
			return "", errors.New("this car has no pressure switch")
		}
		if changed {
			return t.reads(0.4, ohms), nil
		}
		return "open (over range)", nil
	}
	if w[0] == "drive" && len(w) == 2 || w[0] == "set" && len(w) == 3 { // who holds it sits at the wheel
		return "done", byHand(c, w)
	}
	if len(w) == 3 && w[0] == "probe" {
		v, unit, err := c.Probe(w[1], w[2])
		if err != nil {
			return "", err
		}
		t.at = w[1] + " " + w[2]
		if unit == "ohm" {
			return t.reads(v, ohms), nil
		}
		return t.reads(v, volts), nil
	}
	if len(w) != 2 {
		return "", orUse(nil, t)
	}
	switch {
	case w[0] == "pins":
		return c.Pins(w[1])
	case w[0] == "volts":
		at := t.at
		t.at = w[1]
		v, ok := meterVolts(t, c)
		if !ok {
			t.at = at
			return "", errors.New("this car has no differential sensor")
		}
		if w[1] == "difference" {
			return t.reads(v, finely), nil
		}
		return t.reads(v, volts), nil
	case w[0] == "ohms":
		r, ok := c.Coil(w[1])
		if !ok {
			return "", fmt.Errorf("%q has no coil", w[1])
		}
		return t.reads(r, ohms), nil
	}
	return "", orUse(nil, t)
}

func gasProbe(t *Tool, c *sim.Car, w []string) (string, error) {
	v, ok := probeShows(t, c)
	if !ok || w[0] != "read" {
		return "", orUse(nil, t)
	}
	return t.reads(v, probe), nil
}

func orUse(err error, t *Tool) error {
	if err != nil {
		return err
	}
	return fmt.Errorf("the %s takes: %s", t.Name, strings.Join(t.Takes, ", "))
}

// About says what the tool is; it has no clock but the car's.
func (t *Tool) About() instrument.About {
	a := instrument.About{Protocol: 1, Name: t.Name + ", " + t.plant.file.Name, Serial: fmt.Sprintf("T%04d", t.plant.file.Seed%10000), Session: t.session, Rate: t.Rate,
		CalibratedOn: "2026-06-15", Takes: t.Takes, Simulated: true, Commands: append([]string{instrument.Ask}, t.can...)}
	if slices.Contains(t.can, instrument.Known) {
		a.Orifice = rigOrifice
	}
	for _, d := range t.shows {
		a.Channels = append(a.Channels, d.channel())
		if d.quantity == record.GaugePressure {
			a.Range, a.Resolution = d.si(d.scale.most), d.si(d.scale.step)
		}
	}
	return a
}

func (d dial) channel() instrument.Channel {
	kind, _ := d.quantity.Kind()
	c := instrument.Channel{Key: string(d.quantity), Name: d.quantity.Words(), Unit: units.Base(kind), Low: d.si(-d.scale.most), High: d.si(d.scale.most), Resolution: d.si(d.scale.step) - d.si(0)}
	if kind == units.Temperature {
		c.Low = d.si(-40)
	}
	return c
}

// si turns what the scale shows into SI.
func (d dial) si(v float64) float64 {
	kind, _ := d.quantity.Kind()
	return units.Must(d.scale.unit, kind).ToSI(v)
}

// Read reads the tool's channels at this moment of the car.
func (t *Tool) Read() instrument.Reading {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.n++
	r := instrument.Reading{N: t.n}
	expired := t.lease.over() && !t.plant.clock.Stepped()
	if expired { // nobody asks for it any more
		t.lease.take(0)
	}
	err := t.plant.at(func(c *sim.Car) error {
		if expired && t.works != nil {
			if err := t.works(t, c, instrument.Command{Do: instrument.Open}); err != nil {
				return err
			}
		}
		r.Time = math.Round(t.plant.clock.Now()*1e6) / 1e6
		for _, d := range t.shows {
			if v, ok := d.truth(t, c); ok {
				shown, over := t.sees(v, d.scale)
				r.Values = append(r.Values, instrument.Value{Channel: string(d.quantity), Value: d.si(shown), Over: over})
			}
		}
		return nil
	})
	switch {
	case err != nil:
		r.Values, r.Fault = nil, err.Error()
	case t.unplugged:
		r.Values, r.Fault = nil, "the "+t.Name+" is unplugged"
	case len(r.Values) == 0:
		r.Fault = "the " + t.Name + " is joined to nothing that it could read"
	}
	return r
}

// Answer is what the tool says to a line of words.
func (t *Tool) Answer(line string) (string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	w := strings.Fields(line)
	if len(w) == 0 || len(line) > 200 {
		return "", orUse(nil, t)
	}
	switch w[0] {
	case "unplug", "replug":
		t.unplugged = w[0] == "unplug"
		return "done", nil
	}
	if t.unplugged {
		return "", errors.New("the " + t.Name + " is unplugged")
	}
	var said string
	err := t.plant.at(func(c *sim.Car) (err error) {
		said, err = t.do(t, c, w)
		return err
	})
	return said, err
}

// work does a command of a tool that can be worked from afar. What it charges stands for as long as
// it is asked for.
func (t *Tool) work(cmd instrument.Command) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch cmd.Do {
	case instrument.Keep:
		t.lease.keep(cmd.Keep)
		return nil
	case instrument.Open:
		t.lease.take(0)
	case instrument.Regulate, instrument.Smoke, instrument.Valve:
		t.lease.take(cmd.Keep)
	}
	return t.plant.at(func(c *sim.Car) error { return t.works(t, c, cmd) })
}

// workSmokeRig works the rig that smokes and regulates: on the car it is sealed as its archetype
// asks, as a person does by hand.
func workSmokeRig(t *Tool, c *sim.Car, cmd instrument.Command) error {
	if cmd.Do == instrument.Regulate || cmd.Do == instrument.Smoke {
		if cmd.Target > 6900 {
			return errors.New("the regulator goes to 1 psi and no further: more harms a tank")
		}
	}
	if r := c.Rig(); cmd.Do == instrument.Open && !t.plant.bench { // joined by hand, or not at all: nothing is sealed for that
		if r == nil {
			return nil
		}
		r.Hold, r.Smoke = false, false
		return r.Set(sim.Open, 0)
	}
	if err := t.plant.seal(c); err != nil {
		return err
	}
	r := c.Rig()
	switch cmd.Do {
	case instrument.Open:
		return r.Set(sim.Open, 0)
	case instrument.Plug, instrument.Car:
		r.Plugged, r.Port = cmd.Do == instrument.Plug, sim.Open
	case instrument.Known, instrument.Closed:
		r.Known = cmd.Do == instrument.Known
	case instrument.Regulate, instrument.Smoke:
		if cmd.Words != "" && cmd.Words != r.Entry {
			plugged, known := r.Plugged, r.Known
			var err error
			if r, err = c.Connect(cmd.Words, rigOrifice); err != nil {
				return err
			}
			r.Plugged, r.Known = plugged, known
		}
		if err := r.Set(sim.Charge, cmd.Target); err != nil {
			return err
		}
		r.Hold, r.Smoke = true, cmd.Do == instrument.Smoke
	}
	return nil
}

// Serve answers everyone who connects until ctx ends, and sends readings to him as long as
// he is there: nobody looks at a car through a tool that lies in its drawer.
func (t *Tool) Serve(ctx context.Context, l net.Listener) error {
	return accept(ctx, l, func(ctx context.Context, conn net.Conn) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		var mu sync.Mutex // of writing
		send := func(v any) error {
			data, err := json.Marshal(v)
			if err != nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			_ = conn.SetWriteDeadline(time.Now().Add(writeWait))
			_, err = conn.Write(append(data, '\n'))
			return err
		}
		if send(t.About()) != nil {
			return
		}
		if t.Rate > 0 {
			go func() {
				t.stream(ctx, send)
				conn.Close()
			}()
		}
		in := bufio.NewScanner(conn)
		in.Buffer(make([]byte, 4096), 4096)
		for in.Scan() {
			var cmd instrument.Command
			said, err := "", json.Unmarshal(in.Bytes(), &cmd)
			switch {
			case err != nil:
				err = errors.New("this line is no command")
			case t.works != nil && slices.Contains(t.can, cmd.Do):
				err = t.work(cmd)
			case cmd.Do != instrument.Ask:
				err = orUse(nil, t)
			default:
				said, err = t.Answer(cmd.Words) // a technician takes his time
			}
			if send(instrument.Answer(cmd, said, err)) != nil {
				return
			}
		}
	})
}

// stream sends readings by the car's clock until somebody hangs up. While a clock that is
// stepped stands, the last reading is sent again.
func (t *Tool) stream(ctx context.Context, send func(any) error) {
	pacer := t.plant.clock.Pace()
	defer pacer.Leave()
	last := t.Read()
	for due := t.plant.clock.Now(); ; {
		moved, err := pacer.Wait(ctx, due+1/t.Rate)
		if err != nil {
			return
		}
		if moved {
			due += 1 / t.Rate
			last = t.Read()
		}
		if send(last.Line()) != nil {
			return
		}
	}
}
