package live

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/record"
	"wexter/instrument"
)

// commands say how an instrument is told what a step of a test does. What is not here is done by
// hand.
var commands = map[bench.Verb]string{
	bench.Charge: instrument.Charge, bench.Press: instrument.Charge, bench.Draw: instrument.Draw, bench.Hold: instrument.Regulate, bench.Smoke: instrument.Smoke, bench.ShutRig: instrument.Seal, bench.OpenRig: instrument.Open,
	bench.PlugRig: instrument.Plug, bench.RigOnCar: instrument.Car, bench.OpenOrifice: instrument.Known, bench.ShutOrifice: instrument.Closed,
	bench.Command: instrument.Valve, bench.Uncommand: instrument.Valve, bench.OwnCheck: instrument.LeakCheck,
}

// order is a command and the seat whose instrument takes it.
type order struct {
	seat *seat
	instrument.Command
}

// orders are the commands of some steps, for the instruments that take them. The bench is locked.
func (b *Bench) orders(steps []bench.Step) (out []order) {
	site := b.known().Site
	for _, x := range steps {
		s := b.worker(x.Do)
		if s == nil || x.Do == bench.ShutOrifice && s.about.Orifice == 0 {
			continue // by hand, or there is none
		}
		c := instrument.Command{Do: commands[x.Do], Target: x.Value}
		switch {
		case x.Do == bench.Press && x.Value < 0:
			c.Do = instrument.Draw
		case c.Do == instrument.Regulate || c.Do == instrument.Smoke:
			c.Words, _ = site.Where(bench.AtEntry)
		case c.Do == instrument.Valve:
			part, ok := site.Where(x.At)
			if !ok {
				continue // this car has no such valve
			}
			if c.Words = part; x.Do == bench.Uncommand {
				c.Target = -1
			}
		}
		out = append(out, order{s, c})
	}
	return out
}

// resting are the orders that leave everything at rest: the rig open, and every valve let go that
// the test commands at any time. The bench is locked.
func (b *Bench) resting() (out []order) {
	for _, s := range b.seats {
		if s.about.Can(instrument.Open) {
			out = append(out, order{s, instrument.Command{Do: instrument.Open}})
		}
	}
	var steps, let, clear []bench.Step
	for _, p := range b.live.Bench.Phases {
		steps = append(steps, p.Do...)
	}
	for _, s := range b.live.Bench.Stretches(b.known()) {
		steps = append(steps, s.Stand...)
		steps = append(steps, s.Do...)
		if s.Toggle.On != "" {
			steps = append(steps, s.Toggle.Step)
		}
	}
	for _, x := range steps {
		switch x.Do {
		case bench.Command:
			let = append(let, bench.Step{Do: bench.Uncommand, At: x.At})
		case bench.Put:
			clear = append(clear, bench.Step{Do: bench.Clear, At: x.At})
		}
	}
	return once(slices.Concat(out, b.orders(let), b.puts(clear)))
}

// once leaves out orders that were given already.
func once(all []order) (out []order) {
	for _, o := range all {
		if !slices.Contains(out, o) {
			out = append(out, o)
		}
	}
	return out
}

// puts are the words that put parts of a simulated car as a hand does on a real one: plugged, open, back
// to normal. What is opened at the far end of smoke has an instrument of its own. The bench is locked.
func (b *Bench) puts(steps []bench.Step) (out []order) {
	site := b.known().Site
	for _, s := range b.seats {
		if !s.about.Simulated || !slices.Contains(s.about.Takes, instrument.TakesSet) {
			continue
		}
		for _, x := range steps {
			part, ok := site.Where(x.At)
			if !ok || x.At == bench.AtFarEnd || x.Do != bench.Put && x.Do != bench.Clear {
				continue
			}
			state := string(x.State)
			if x.Do == bench.Clear {
				state = "rest"
			}
			out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: "set " + part + " " + state}})
		}
	}
	return out
}

// work gives orders, one after another.
func work(ctx context.Context, orders []order) error {
	for _, o := range orders {
		if err := o.seat.do(ctx, o.Command); err != nil {
			return err
		}
	}
	return nil
}

// deadTime is how long after a charge or a draw the next one waits: two presses of a gloved
// hand are one. Stop, and opening to the air, never wait.
const deadTime = 2 * time.Second

// moves reports whether one of the orders charges, draws or energises.
func moves(orders []order) bool {
	return slices.ContainsFunc(orders, func(o order) bool {
		switch o.Do {
		case instrument.Charge, instrument.Draw, instrument.Regulate, instrument.Smoke, instrument.LeakCheck:
			return true
		}
		return o.Do == instrument.Valve && o.Target > 0
	})
}

// mayMove refuses what charges or draws too soon after the last such command. The bench is
// locked.
func (b *Bench) mayMove(orders []order) error {
	if since := b.hub.shop.Now().Sub(b.moved); moves(orders) && since >= 0 && since < deadTime {
		return refuse("The rig was told to charge or draw a moment ago; wait two seconds and press again")
	}
	return nil
}

// noteMove notes the moment of a command that charges or draws. The bench is locked.
func (b *Bench) noteMove(orders []order) {
	if moves(orders) {
		b.moved = b.hub.shop.Now()
	}
	for _, o := range orders {
		b.driven = b.driven || o.Do == instrument.Valve && o.Target > 0 || o.Do == instrument.LeakCheck
	}
}

// Rig works a rig that can be worked from here.
func (b *Bench) Rig(ctx context.Context, command string) error {
	stretch, verb := record.RunHold, bench.Charge
	switch command {
	case instrument.Draw:
		stretch, verb = record.RunVacuum, bench.Draw
	case instrument.Open:
		verb = bench.OpenRig
	case instrument.Seal:
		verb = bench.ShutRig
	case instrument.Charge:
	default:
		return refuse("this bench does not know %q", strings.TrimSpace(command))
	}
	b.mu.Lock()
	if verb != bench.OpenRig && !b.permits {
		b.mu.Unlock()
		return refuse("This test charges nothing; the rig can only be opened from here")
	}
	orders := b.orders([]bench.Step{{Do: verb, Value: b.known().ChargeTo(stretch)}})
	silent := b.seats[0].gauge == nil
	err := b.mayMove(orders)
	if err == nil {
		b.noteMove(orders)
	}
	b.mu.Unlock()
	switch {
	case silent:
		return refuse("The instrument does not answer")
	case len(orders) == 0:
		return refuse("This rig is worked by hand")
	case err != nil:
		return err
	}
	return work(ctx, orders)
}

// drives say how a simulated car is driven for a step that a person does on a real one.
var drives = map[bench.Verb]string{bench.KeyOn: "key", bench.Warm: "warm", bench.ColdStart: "cold", bench.Park: "park", bench.Idle: "idle", bench.Fast: "2500", bench.EngineOff: "off"}

// held puts simulated hand instruments where the test holds them, and drives a simulated car, as a
// person does with real ones. The bench is locked.
func (b *Bench) held(st bench.Stretch) (out []order) {
	site := b.known().Site
	out = b.puts(slices.Concat(st.Stand, st.Do))
	for _, s := range b.seats {
		if s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesDrive) {
			for _, x := range st.Do {
				if mode, ok := drives[x.Do]; ok {
					out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: "drive " + mode}})
				}
			}
		}
		if s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesFar) {
			for _, x := range st.Do {
				if far, ok := site.Where(bench.AtFarEnd); ok && x.At == bench.AtFarEnd {
					out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: map[bool]string{true: "open ", false: "shut "}[x.Do == bench.Put] + far}})
				}
			}
		}
		if s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesJoin) {
			for _, x := range st.Stand {
				part, ok := site.Where(x.At)
				if x.At == "" {
					part, ok = "air", true
				}
				if ok && x.Do == bench.Regulate {
					out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: fmt.Sprintf("join %s %.0fPa", part, x.Value)}})
				}
			}
		}
		if s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesPart) {
			out = append(out, handsOn(s, st, site)...)
		}
		if part, ok := site.Where(bench.AtPart); ok && b.live.Bench.Walk != nil && s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesProbe) {
			if len(st.Read) == 1 && st.Large != "" {
				out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: "probe " + part + " " + st.Read[0]}})
			}
		} else if s.about.Simulated && slices.Contains(s.about.Takes, instrument.TakesVolts) {
			for _, c := range b.live.Bench.Channels {
				if part, ok := site.Held(c.Sense); ok && c.Unit == "V" && slices.Contains(s.keys, string(record.Volts)) {
					out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: "volts " + part}})
					break
				}
			}
		}
		if !s.about.Simulated || !slices.Contains(s.about.Takes, "read PART") {
			continue
		}
		if !slices.Contains(s.keys, instrument.PressureKey) {
			continue
		}
		words := "off"
		for _, key := range st.Read {
			c, _ := b.live.Bench.Channel(key)
			if part, ok := site.Held(c.Sense); ok {
				words = "read " + part
				break
			}
		}
		out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: words}})
	}
	return out
}

// handsOn are the words that let a simulated bench rig do what hands do at a real one: the part, a new
// one or nothing on it, pumped up or ramped.
func handsOn(s *seat, st bench.Stretch, site bench.Site) (out []order) {
	on, _ := site.Where(bench.AtPart)
	if st.Key == bench.NewPart {
		on = "new"
	}
	for _, x := range slices.Concat(st.Stand, st.Do) {
		words := ""
		switch x.Do {
		case bench.PlugRig:
			on = "plug"
		case bench.Pump, bench.Press:
			words = "pump"
		case bench.Ramp:
			words = "ramp"
		case bench.UpAndDown:
			words = "steps"
		}
		if words != "" {
			out = append(out, order{s, instrument.Command{Do: instrument.Ask, Words: fmt.Sprintf("put %s %s %.0f", on, words, x.Value)}})
		}
	}
	return out
}
