package main

import (
	"encoding/csv"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/sim"
	"wexter/core/units"
	"wexter/ingest"
)

// simulated is what `wexter simulate --json` prints.
type simulated struct {
	Test       string             `json:"test"`
	Archetypes string             `json:"archetypes"`
	Faults     []string           `json:"faults"`
	Part       string             `json:"part,omitempty"`
	Outcome    string             `json:"outcome"`
	Because    string             `json:"because"`
	Readings   []simulatedReading `json:"readings"`
	Log        []map[string]any   `json:"log,omitempty"`
}

// simulatedReading is one reading. Value is the mean of its figures, 0 for what is no figure;
// Text is what is said in words, and every figure of several.
type simulatedReading struct {
	Key   string  `json:"key"`
	Name  string  `json:"name"`
	Unit  string  `json:"unit,omitempty"`
	Value float64 `json:"value"`
	Text  string  `json:"text,omitempty"`
}

// readingsOf says the readings of a trial as the Book names them; those that could not be
// made are left out.
func readingsOf(e knowledge.Test, t sim.Trial) (out []simulatedReading) {
	for _, r := range e.Reads {
		x, ok := t.Readings[r.Key]
		if !ok || len(x.Legs) > 0 {
			continue
		}
		s := simulatedReading{Key: r.Key, Name: r.Name, Unit: r.Unit}
		var text []string
		for _, v := range x.Numbers {
			if math.IsInf(v, 1) {
				text = append(text, "OL")
				continue
			}
			s.Value += v / float64(len(x.Numbers))
			if len(x.Numbers) > 1 {
				text = append(text, number(v))
			}
		}
		for _, w := range x.Words {
			text = append(text, r.Word(w))
		}
		for _, p := range x.Places {
			part, _ := t.On.Graph.Part(p.Part)
			w := part.Name
			if p.Size != "" {
				w += ": " + p.Size
			}
			if p.Expected {
				w += " (expected)"
			}
			text = append(text, w)
		}
		if len(x.Numbers)+len(text) == 0 {
			text = []string{"none"}
		}
		s.Text = strings.Join(text, "; ")
		out = append(out, s)
	}
	return out
}

// simulatedCar is what the flags that choose a car set.
type simulatedCar struct {
	archetypes, faults string
	level, ambient     string
	seed               uint64
}

func (s *simulatedCar) flags(fs *flag.FlagSet) {
	fs.StringVar(&s.archetypes, "archetype", "", "archetypes by key, joined with commas: one of each family at most; the rest is filled in")
	fs.StringVar(&s.faults, "fault", "", "faults by key with a severity 0 to 1 or a diameter, joined with commas: cap:0.5,neck:0.8mm")
	fs.StringVar(&s.level, "level", "40%", "fuel level")
	fs.StringVar(&s.ambient, "ambient", "20°C", "temperature of the air")
	fs.Uint64Var(&s.seed, "seed", 1, "of noise and chance")
}

// combination is the archetypes that were named, with the rest filled in; what is not known
// or not possible is answered with what is.
func (s *simulatedCar) combination(b knowledge.Book) (plumbing.Combination, error) {
	var c plumbing.Combination
	for _, k := range split(s.archetypes) {
		a, ok := b.Plumbing.Find(k)
		if !ok {
			var all []string
			for _, a := range b.Plumbing.Archetypes {
				all = append(all, a.Key)
			}
			return c, usage("there is no archetype %q; there are %s", k, strings.Join(all, ", "))
		}
		if had := c.Of(a.Family); had != "" {
			return c, usage("%q and %q are both of the family %s: a car has one", had, k, a.Family)
		}
		c = c.With(a.Family, k)
	}
	full, err := b.Plumbing.Complete(c)
	if err != nil {
		return c, usage("%v", err)
	}
	return full, nil
}

// build makes the car; what is not known or not possible is answered with what is.
func (s *simulatedCar) build(b knowledge.Book) (*sim.Car, []string, error) {
	full, err := s.combination(b)
	if err != nil {
		return nil, nil, err
	}
	level, err := strconv.ParseFloat(strings.Replace(strings.TrimSuffix(strings.TrimSpace(s.level), "%"), ",", ".", 1), 64)
	if err != nil || !(level >= 1 && level <= 100) {
		return nil, nil, usage("--level is %q; it is a share of the tank from 1%% to 100%%", s.level)
	}
	ambient, err := units.Parse(s.ambient, units.Temperature, "°C")
	if err != nil {
		return nil, nil, usage("--ambient: %v", err)
	}
	car, err := sim.NewCar(b.Plumbing, full, nil, sim.Conditions{Level: level / 100, Ambient: ambient, Seed: s.seed})
	if err != nil {
		return nil, nil, usage("%v", err)
	}
	var faults []string
	for _, f := range split(s.faults) {
		said, err := putFault(b, car, f)
		if err != nil {
			return nil, nil, err
		}
		faults = append(faults, said)
	}
	return car, faults, nil
}

// split takes a list apart at its commas; what goes on with a digit was a decimal comma.
func split(s string) (out []string) {
	for _, x := range strings.Split(strings.ReplaceAll(s, " ", ""), ",") {
		switch {
		case x == "":
		case len(out) > 0 && x[0] >= '0' && x[0] <= '9':
			out[len(out)-1] += "." + x
		default:
			out = append(out, x)
		}
	}
	return out
}

// putFault gives a car the fault that "key:severity" names.
func putFault(b knowledge.Book, car *sim.Car, text string) (string, error) {
	key, word, has := strings.Cut(text, ":")
	severity, diameter := 0.5, 0.0
	if size, mm := strings.CutSuffix(word, "mm"); has && mm {
		v, err := strconv.ParseFloat(strings.Replace(size, ",", ".", 1), 64)
		if err != nil || !(v > 0 && v <= 60) {
			return "", usage("fault %q: its diameter is %q; it lies above 0 and at most at 60 mm", key, word)
		}
		diameter = v
	} else if has {
		v, err := strconv.ParseFloat(strings.Replace(word, ",", ".", 1), 64)
		if err != nil || !(v >= 0 && v <= 1) {
			return "", usage("fault %q: its severity is %q; it lies between 0 and 1", key, word)
		}
		severity = v
	}
	f, ok := b.Fault(key)
	part, can := f.Can(car.Graph, car.Combination)
	if !ok || !can {
		var able []string
		for _, f := range b.Faults {
			if _, ok := f.Can(car.Graph, car.Combination); ok && f.Family != "other" {
				able = append(able, f.Key)
			}
		}
		if !ok {
			return "", usage("there is no fault %q; this car can have %s", key, strings.Join(able, ", "))
		}
		return "", usage("a car with %v cannot have the fault %q; it can have %s", car.Combination, key, strings.Join(able, ", "))
	}
	sized := false
	for _, d := range f.Defects(part, severity) {
		if diameter > 0 && !sized && (d.Param == "leak" || d.Param == "passes" || d.Param == "reverse") {
			d.Value, sized = diameter, true
		}
		if err := car.Apply(d); err != nil {
			return "", err
		}
	}
	if diameter > 0 && !sized {
		return "", usage("fault %q is no hole: give a severity from 0 to 1, not %q", key, word)
	}
	if sized {
		return fmt.Sprintf("%s:%gmm", key, diameter), nil
	}
	return fmt.Sprintf("%s:%g", key, severity), nil
}

// runSimulate prints what the instruments of a test would read on a simulated car.
func runSimulate(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("simulate", flag.ContinueOnError)
	var which simulatedCar
	which.flags(fs)
	test := fs.String("test", "", "the test, by key")
	part := fs.String("part", "", "the part in question, where a test takes one by itself")
	asJSON := fs.Bool("json", false, "print for machines")
	drive := fs.Bool("drive", false, "print the log of a drive for wexter trim: idle, 2500, pulls")
	rate := fs.Float64("rate", 4, "readings a second of a drive")
	asCSV := fs.Bool("csv", false, "print the log of the test, or its readings, as CSV")
	b, err := bookOf(fs, args, errs)
	if err != nil {
		return err
	}
	if *drive {
		if *test != "" || *asJSON {
			return usage("--drive goes with neither --test nor --json: it prints the log of a drive as CSV")
		}
		return simulateDrive(out, b, which, *rate)
	}
	if *test == "" {
		return usage("--test or --drive is needed: one of %s", strings.Join(sim.Tests(), ", "))
	}
	if *asJSON && *asCSV {
		return usage("--json or --csv, not both")
	}
	car, faults, err := which.build(b)
	if err != nil {
		return err
	}
	trial, err := sim.Try(car, b, *test, *part)
	if err != nil {
		return usage("%v", err)
	}
	t, _ := b.Test(*test)
	reads := readingsOf(t, trial)
	v, err := bench.Judge(t, trial.On, trial.Readings)
	if err != nil {
		return err
	}
	switch {
	case *asJSON:
		s := simulated{Test: trial.Test, Archetypes: car.Combination.String(), Faults: faults, Part: trial.On.Part.Key, Outcome: v.Outcome, Because: v.Says, Readings: reads}
		if faults == nil {
			s.Faults = []string{}
		}
		for _, l := range trial.Log {
			s.Log = append(s.Log, map[string]any{"leg": l.Leg, "time_s": l.Time, "pressure_Pa": l.Pressure, "wall_K": l.Wall})
		}
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(s)
	case *asCSV:
		return printTrial(out, trial, reads)
	}
	fmt.Fprintf(out, "%s on a car with %v\n", t.Name, car.Combination)
	if len(faults) > 0 {
		fmt.Fprintf(out, "faults: %s\n", strings.Join(faults, ", "))
	}
	for _, r := range reads {
		switch {
		case r.Text != "" && (r.Unit == "" || r.Value == 0):
			fmt.Fprintf(out, "  %-32s %s\n", r.Name, r.Text)
		case r.Text != "":
			fmt.Fprintf(out, "  %-32s %s %s  %s\n", r.Name, number(r.Value), r.Unit, r.Text)
		default:
			fmt.Fprintf(out, "  %-32s %s %s\n", r.Name, number(r.Value), r.Unit)
		}
	}
	o, _ := t.Outcome(v.Outcome)
	fmt.Fprintf(out, "outcome: %s\n  because: %s\n", o.Name, v.Says)
	return nil
}

func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// printTrial prints the log of a test, or its readings, as CSV.
func printTrial(out io.Writer, trial sim.Trial, reads []simulatedReading) error {
	w := csv.NewWriter(out)
	if len(trial.Log) > 0 {
		_ = w.Write([]string{"leg", "time_s", "pressure_Pa", "wall_K"})
		for _, l := range trial.Log {
			_ = w.Write([]string{l.Leg, number(l.Time), number(l.Pressure), number(l.Wall)})
		}
	} else {
		_ = w.Write([]string{"reading", "value", "unit", "text"})
		for _, r := range reads {
			_ = w.Write([]string{r.Name, number(r.Value), r.Unit, r.Text})
		}
	}
	w.Flush()
	return w.Error()
}

// simulateDrive drives the car that was asked for, read so many times a second.
func simulateDrive(out io.Writer, b knowledge.Book, which simulatedCar, rate float64) error {
	if !(rate >= 0.2 && rate <= 20) {
		return usage("--rate is %g; it lies between 0.2 and 20 readings a second", rate)
	}
	car, _, err := which.build(b)
	if err != nil {
		return err
	}
	return printDrive(out, car, 1/rate)
}

// printDrive drives a car and prints what a scan tool reads meanwhile, every so many seconds.
func printDrive(out io.Writer, car *sim.Car, every float64) error {
	if car.Diesel() {
		return fmt.Errorf("a diesel has no fuel trims")
	}
	rows, err := car.Record(sim.TrimDrive(), every)
	if err != nil {
		return err
	}
	w := csv.NewWriter(out)
	head := []string{"time_s"}
	var pids []string
	for _, c := range ingest.DriveColumns() {
		if _, ok := rows[0].Live[c[0]]; ok {
			pids, head = append(pids, c[0]), append(head, c[1])
		}
	}
	if err := w.Write(head); err != nil {
		return err
	}
	for _, r := range rows {
		rec := []string{strconv.FormatFloat(r.Time, 'f', 2, 64)}
		for _, p := range pids {
			rec = append(rec, strconv.FormatFloat(math.Round(r.Live[p]*1e3)/1e3, 'f', -1, 64))
		}
		if err := w.Write(rec); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}
