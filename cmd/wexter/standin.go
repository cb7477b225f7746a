package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"wexter/core/sim"
	"wexter/core/units"
	"wexter/demo"
	"wexter/ingest"
	"wexter/instrument"
	"wexter/standin"
	"wexter/web"
)

// quantityFlag reads "42L" into SI.
type quantityFlag struct {
	si   float64
	kind units.Kind
	bare string
}

func (q *quantityFlag) String() string { return fmt.Sprint(q.si) }
func (q *quantityFlag) Set(s string) (err error) {
	q.si, err = units.Parse(s, q.kind, q.bare)
	return err
}

// quantities adds flags for quantities to a set.
func quantities(fs *flag.FlagSet) func(name string, k units.Kind, bare string, si float64, about string) *float64 {
	return func(name string, k units.Kind, bare string, si float64, about string) *float64 {
		q := &quantityFlag{si, k, bare}
		fs.Var(q, name, about)
		return &q.si
	}
}

func runStandin(args []string, out, errs io.Writer) error {
	if len(args) == 0 {
		return usage("say which: --car FILE for a whole car; module, adapter, or tell ADDRESS COMMAND")
	}
	if strings.HasPrefix(args[0], "-") {
		return standinCar(args, out, errs)
	}
	switch args[0] {
	case "module":
		return standinModule(args[1:], out, errs)
	case "adapter":
		return standinAdapter(args[1:], out, errs)
	case "tell":
		return standinTell(args[1:], out, errs)
	}
	return usage("there is no stand-in %q: module, adapter, tell", args[0])
}

func standinModule(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("standin module", flag.ContinueOnError)
	q := quantities(fs)
	var v sim.Vessel
	addr := fs.String("addr", "127.0.0.1:0", "address to serve on")
	name := fs.String("name", "pressure module", "what it calls itself")
	volume := q("volume", units.Volume, "L", 0.040, "volume of the system")
	leak := q("leak", units.Length, "mm", 0, "diameter of the leak")
	orifice := q("orifice", units.Length, "mm", 0.508e-3, "known orifice of the rig")
	rigLeak := q("rig-leak", units.Length, "mm", 0, "leak of the rig itself")
	crack := q("relief", units.Pressure, "inH2O", 0, "pressure at which a relief opens; 0 for none")
	fs.Float64Var(&v.Drift, "drift", 0, "what the fuel gives off, Pa/s")
	fs.Float64Var(&v.WallRate, "wall-rate", 0, "how fast the wall warms, K/s")
	rng := q("range", units.Pressure, "inH2O", 30*units.InH2O, "range of the gauge")
	res := q("resolution", units.Pressure, "inH2O", 0.01*units.InH2O, "resolution of the gauge")
	m := standin.Model{Calibrated: time.Now().AddDate(0, -4, 0).Format(time.DateOnly)}
	fs.Float64Var(&m.Zero, "zero", 0, "what the gauge reads open to air, Pa")
	fs.Float64Var(&m.Noise, "noise", 3, "standard deviation of a reading, Pa")
	fs.Float64Var(&m.Rate, "rate", 10, "readings a second")
	fs.Float64Var(&m.Speed, "speed", 1, "how much faster than real time; 0 for a clock that stands until it is told to run")
	fs.Uint64Var(&m.Seed, "seed", 1, "seed of the noise")
	replay := fs.String("replay", "", "play a CSV log instead")
	lines := fs.String("lines", "", "also print lines of numbers: pressure in --unit, wall in °C; an address, or pty for a serial device")
	printer := &standin.Printer{}
	fs.StringVar(&printer.Unit, "unit", "inH2O", "unit of the lines' pressure")
	fs.StringVar(&printer.Separator, "separator", ",", "between the numbers of a line")
	fs.IntVar(&printer.Times, "times", 1, "how often each line is printed, a millisecond apart")
	modbus := fs.String("modbus", "", "also hold the readings in the input registers of Modbus unit 1; an address, or pty for a serial device")
	parent := untilEOF(fs)
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	v.Volume, v.Leak, v.Orifice, v.RigLeak, v.Crack = *volume, *leak, *orifice, *rigLeak, *crack
	m.Name, m.Range, m.Resolution = *name, *rng, *res
	var g standin.Gauge
	if *replay != "" {
		f, err := os.Open(*replay)
		if err != nil {
			return err
		}
		l, err := ingest.ReadCSV(f, ingest.Options{})
		f.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", *replay, err)
		}
		g = instrument.NewReplay(*name, l, m.Speed)
	} else if g, err = standin.NewModule(v, m); err != nil {
		return usage("%v", err)
	}
	if _, ok := units.Lookup(printer.Unit, units.Pressure); !ok {
		return usage("--unit: %q is not a unit of pressure", printer.Unit)
	}
	return serveStandin("module", *addr, *parent, out, func(ctx context.Context, l net.Listener) error {
		unit := &standin.Registers{UnitID: 1}
		a := alongside{ctx, out}
		if err := a.serve("line of numbers", *lines, printer.Serve, func(t *standin.Terminal) { printer.Print(ctx, t) }); err != nil {
			return err
		}
		if err := a.serve("Modbus unit 1", *modbus, unit.Serve, func(t *standin.Terminal) { unit.Talk(t) }); err != nil {
			return err
		}
		return standin.Serve(ctx, l, g, printer, unit)
	})
}

// alongside serves a stand-in in further ways beside its own.
type alongside struct {
	ctx context.Context
	out io.Writer
}

// serve serves at an address, or at a pseudo-terminal where it is "pty"; empty does nothing.
func (a alongside) serve(what, at string, network func(context.Context, net.Listener) error, talk func(*standin.Terminal)) error {
	switch {
	case at == "":
		return nil
	case at == "pty":
		t, err := standin.OpenTerminal()
		if err != nil {
			return err
		}
		context.AfterFunc(a.ctx, func() { t.Close() })
		fmt.Fprintf(a.out, "The %s is at %s\n", what, t.Name)
		go talk(t)
		return nil
	case !web.Loopback(at):
		return usage("%s is open to others; a stand-in serves this computer only: use 127.0.0.1:PORT", at)
	}
	l, err := instrument.Listen(at)
	if err != nil {
		return fmt.Errorf("cannot serve on %s: %w", at, err)
	}
	fmt.Fprintf(a.out, "The %s is at %s\n", what, l.Addr())
	go func() { _ = network(a.ctx, l) }()
	return nil
}

// untilEOF adds the flag by which a stand-in ends with its parent: with what standard
// input gives. Without it the reader is nil.
func untilEOF(fs *flag.FlagSet) *io.Reader {
	var parent io.Reader
	fs.BoolFunc("until-eof", "end when standard input ends", func(string) error {
		parent = os.Stdin
		return nil
	})
	return &parent
}

// serveStandin listens on loopback, says where, and serves until a signal comes or, as
// somebody's child, until the parent is gone: until what it gives is at its end.
func serveStandin(what, addr string, parent io.Reader, out io.Writer, serve func(context.Context, net.Listener) error) error {
	if !web.Loopback(addr) {
		return usage("%s is open to others; a stand-in serves this computer only: use 127.0.0.1:PORT", addr)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if parent != nil {
		go func() {
			_, _ = io.Copy(io.Discard, parent)
			stop()
		}()
	}
	l, err := instrument.Listen(addr)
	if err != nil {
		return fmt.Errorf("cannot serve on %s: %w", addr, err)
	}
	fmt.Fprintf(out, "The %s is at %s\n", what, l.Addr())
	return serve(ctx, l)
}

// standinTell sends one command to a module.
func standinTell(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("standin tell", flag.ContinueOnError)
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 1 && (strings.HasPrefix(words[1], "@") || words[1] == "?") {
		return askInstrument(words[0], strings.Join(words[1:], " "), out)
	}
	if len(words) > 2 && words[1] == "ask" {
		return askInstrument(words[0], strings.Join(words[2:], " "), out)
	}
	if len(words) > 1 && (words[1] == "code" || words[1] == "mute" || words[1] == "unmute") {
		return tellAdapter(words[0], strings.Join(words[1:], " "), out)
	}
	if len(words) < 2 || len(words) > 3 {
		return usage("tell ADDRESS COMMAND [PRESSURE]: open, seal, charge 13inH2O, draw -10inH2O, plug, car, known, closed, unplug, replug, run 30s; to an adapter: code P0443 stored, mute, unmute")
	}
	c := instrument.Command{Do: words[1]}
	if c.Do == instrument.Run && len(words) == 3 {
		if c.Seconds, err = units.Number(strings.TrimSuffix(words[2], "s")); err != nil {
			return usage("%v", err)
		}
	} else if len(words) == 3 {
		if c.Target, err = units.Parse(words[2], units.Pressure, "inH2O"); err != nil {
			return usage("%v", err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), tellWait)
	defer cancel()
	m, err := instrument.Dial(ctx, words[0])
	if err != nil {
		return err
	}
	defer m.Close()
	m.Patience = tellWait
	go func() {
		for {
			if _, err := m.Next(ctx); err != nil {
				return
			}
		}
	}()
	if err := m.Do(ctx, c); err != nil {
		return err
	}
	fmt.Fprintln(out, strings.Join(words[1:], " ")+": done")
	return nil
}

// tellWait is how long a stand-in is waited for: it may have a day to let pass.
const tellWait = 10 * time.Minute

// tellAdapter changes the car behind a scan adapter.
func tellAdapter(address, words string, out io.Writer) error {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	a, err := instrument.DialAdapter(ctx, address)
	if err != nil {
		return err
	}
	defer a.Close()
	said, err := a.Ask(ctx, "!"+words)
	if err != nil {
		return err
	}
	if answer := strings.Join(said, " "); answer != "done" {
		return fmt.Errorf("%s", answer)
	}
	fmt.Fprintln(out, words+": done")
	return nil
}

func standinAdapter(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("standin adapter", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:0", "address to serve on")
	file := fs.String("car", "demo:ibis", "the car's file, or demo:NAME")
	speed := fs.Float64("speed", 1, "how much shorter its delays are")
	at := fs.String("at", "", "also serve the car behind an adapter with AT commands; an address, or pty for a serial device")
	parent := untilEOF(fs)
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 {
		return usage("%q is one word too many", words[0])
	}
	var data []byte
	if name, ok := strings.CutPrefix(*file, "demo:"); ok {
		data, err = demo.Car(name)
	} else {
		data, err = os.ReadFile(*file)
	}
	if err != nil {
		return err
	}
	car, err := standin.ReadCar(data)
	if err != nil {
		return fmt.Errorf("%s: %w", *file, err)
	}
	a := standin.NewAdapter(car, *speed)
	return serveStandin("scan adapter", *addr, *parent, out, func(ctx context.Context, l net.Listener) error {
		same := standin.NewAT(a, standin.ATModel{Delay: 20 * time.Millisecond, Search: 2 * time.Second})
		if err := (alongside{ctx, out}).serve("adapter with AT commands", *at, same.Serve, func(t *standin.Terminal) { same.Talk(ctx, t) }); err != nil {
			return err
		}
		return a.Serve(ctx, l)
	})
}

// standinCar serves a whole simulated car: every instrument that can look at it, on
// addresses of their own, all seeing the same car at the same moment.
func standinCar(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("standin", flag.ContinueOnError)
	addr := fs.String("addr", "127.0.0.1:0", "address of the scan adapter; the others take the ports after it")
	var files []string
	fs.Func("car", "the car's file, or demo:CASE; more than one serves several", func(f string) error { files = append(files, f); return nil })
	speed := fs.Float64("speed", 1, "how much faster than real time; 0 for a clock that stands until it is told to run")
	parent := untilEOF(fs)
	b, err := bookOf(fs, args, errs)
	if err != nil {
		return err
	}
	if len(files) == 0 || len(files) > 20 {
		return usage("--car FILE is needed, at most twenty times")
	}
	var plants []*standin.Plant
	for _, file := range files {
		var data []byte
		if name, ok := strings.CutPrefix(file, "demo:"); ok {
			data, err = demo.WholeCar(name)
		} else {
			data, err = os.ReadFile(file)
		}
		if err != nil {
			return err
		}
		car, err := standin.ReadCarFile(data)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		plant, err := standin.NewPlant(car, b, *speed)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		plants = append(plants, plant)
	}
	if !web.Loopback(*addr) {
		return usage("%s is open to others; a stand-in serves this computer only: use 127.0.0.1:PORT", *addr)
	}
	host, p, err := net.SplitHostPort(*addr)
	if err != nil {
		return usage("--addr: %v", err)
	}
	port, err := strconv.Atoi(p)
	if err != nil || port < 0 || port > 65000 {
		return usage("--addr: the port is %q", p)
	}
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	defer stop()
	if *parent != nil {
		go func() {
			_, _ = io.Copy(io.Discard, *parent)
			stop()
		}()
	}
	if port > 0 && len(plants) > 1 {
		return usage("several cars take any free ports: --addr 127.0.0.1:0")
	}
	var saying sync.Mutex
	ended := make(chan error, len(plants))
	for _, p := range plants {
		go func() {
			ended <- standin.ServeCar(ctx, p, host, port, func(kind, name, address string) {
				saying.Lock()
				defer saying.Unlock()
				fmt.Fprintf(out, "The %s %s of %s is at %s\n", kind, name, p.Name(), address)
			})
		}()
	}
	err = <-ended
	stop()
	for range len(plants) - 1 {
		<-ended
	}
	return err
}

// askInstrument sends one line of words to an instrument and prints what it says.
func askInstrument(address, words string, out io.Writer) error {
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Second)
	defer cancel()
	said, err := instrument.AskTool(ctx, address, words)
	if err != nil {
		return err
	}
	fmt.Fprintln(out, said)
	return nil
}
