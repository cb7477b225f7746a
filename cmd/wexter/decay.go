package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"os"

	"wexter/core/decay"
	"wexter/core/units"
	"wexter/ingest"
)

// quantity is a flag that holds an SI value written with or without a unit.
type quantity struct {
	si   float64
	kind units.Kind
	bare string
	set  bool
}

func (q *quantity) String() string { return "" }

func (q *quantity) Set(s string) (err error) {
	q.si, err = units.Parse(s, q.kind, q.bare)
	q.set = true
	return err
}

func readLog(path string, o ingest.Options) (ingest.Log, error) {
	f, err := os.Open(path)
	if err != nil {
		return ingest.Log{}, fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	defer f.Close()
	l, err := ingest.ReadCSV(f, o)
	if err != nil {
		return l, fmt.Errorf("%s: %w", path, err)
	}
	return l, nil
}

// setupFlags are the flags that describe rig and car, shared by decay and plan-hold.
type setupFlags struct {
	volume, limit, barometer, temperature, resolution quantity
	tolerance, cd                                     *string
	wet, json                                         *bool
}

func newSetupFlags(fs *flag.FlagSet) *setupFlags {
	s := &setupFlags{
		volume: quantity{kind: units.Volume, bare: "L"}, limit: quantity{kind: units.Length, bare: "mm"},
		barometer: quantity{kind: units.Pressure, bare: "kPa"}, temperature: quantity{kind: units.Temperature, bare: "°C"},
		resolution: quantity{kind: units.Pressure, bare: "inH2O"},
	}
	fs.Var(&s.volume, "volume", "vapour space, for example 42L")
	fs.Var(&s.limit, "limit", "diameter of the limit (0.020in)")
	fs.Var(&s.barometer, "barometer", "barometer (101.325kPa)")
	fs.Var(&s.temperature, "temperature", "gas temperature (20°C)")
	fs.Var(&s.resolution, "resolution", "resolution of the gauge")
	s.tolerance = fs.String("volume-tolerance", "20%", "tolerance of the volume, k=2")
	s.cd = fs.String("cd", "0.61", "discharge coefficient that defines the diameter")
	s.wet = fs.Bool("wet", false, "fuel in the tank and no inert filling: widen a pressure leg upwards")
	s.json = fs.Bool("json", false, "print for machines")
	return s
}

func (s *setupFlags) setup() (decay.Setup, error) {
	out := decay.Setup{Volume: s.volume.si, Limit: s.limit.si, Barometer: s.barometer.si, Temperature: s.temperature.si, Resolution: s.resolution.si, Wet: *s.wet}
	var err error
	if out.VolumeTolerance, err = units.Percent(*s.tolerance); err != nil {
		return out, usage("--volume-tolerance: %v", err)
	}
	if out.VolumeTolerance == 0 {
		out.VolumeTolerance = 1e-4 // said to be exact
	}
	if out.Cd, err = units.Number(*s.cd); err != nil {
		return out, usage("--cd: %v", err)
	}
	for _, q := range []struct {
		name string
		q    quantity
	}{{"volume", s.volume}, {"limit", s.limit}, {"barometer", s.barometer}} {
		if q.q.set && q.q.si <= 0 {
			return out, usage("--%s must be above zero", q.name)
		}
	}
	if err := out.Check(); err != nil {
		return out, badUse{err}
	}
	return out, nil
}

// decayOutput is what `wexter decay --json` prints.
type decayOutput struct {
	OrificeMM     float64        `json:"orifice_mm"`
	OrificeLowMM  float64        `json:"orifice_low_mm"`
	OrificeHighMM float64        `json:"orifice_high_mm"`
	LimitMM       float64        `json:"limit_mm"`
	LimitNominal  bool           `json:"limit_nominal"`
	Verdict       decay.Verdict  `json:"verdict"`
	HoldMoreS     *float64       `json:"hold_more_s"`
	DriftPaPerS   float64        `json:"drift_pa_per_s"`
	SettlePa      float64        `json:"settle_pa"`
	VolumeL       float64        `json:"volume_l"`
	ResidualPa    float64        `json:"residual_pa"`
	NoisePa       float64        `json:"noise_pa"`
	ZeroPa        float64        `json:"zero_pa"`
	Pressure      *sizeOutput    `json:"pressure_legs,omitempty"`
	Vacuum        *sizeOutput    `json:"vacuum_legs,omitempty"`
	HoldStartS    float64        `json:"hold_start_s"`
	HoldEndS      float64        `json:"hold_end_s"`
	Budget        []decay.Source `json:"budget"`
	Sharper       string         `json:"sharper"`
	Warnings      []string       `json:"warnings"`
	Algorithm     string         `json:"algorithm"`
}

type sizeOutput struct {
	OrificeMM     float64 `json:"orifice_mm"`
	OrificeLowMM  float64 `json:"orifice_low_mm"`
	OrificeHighMM float64 `json:"orifice_high_mm"`
}

func sizeMM(s *decay.Size) *sizeOutput {
	if s == nil {
		return nil
	}
	return &sizeOutput{s.D * 1e3, s.Low * 1e3, s.High * 1e3}
}

func runDecay(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("decay", flag.ContinueOnError)
	sf := newSetupFlags(fs)
	drift := fs.String("drift", "", "CSV of the drift leg, sealed at zero gauge")
	refRun := fs.String("reference-run", "", "CSV of a hold with a known orifice added")
	reference := quantity{kind: units.Length, bare: "mm"}
	fs.Var(&reference, "reference", "diameter of that orifice")
	unit := fs.String("pressure-unit", "", "unit of a pressure column without one")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) == 0 {
		return usage("name the CSV of the hold")
	}
	if (*refRun == "") != !reference.set {
		return usage("--reference-run and --reference go together")
	}
	if !sf.volume.set && *refRun == "" {
		return usage("give --volume, or --reference-run with --reference")
	}
	if *unit != "" {
		if _, ok := units.Lookup(*unit, units.Pressure); !ok {
			return usage("--pressure-unit: %q is not a unit of pressure; use one of %v", *unit, units.Symbols(units.Pressure))
		}
	}
	setup, err := sf.setup()
	if err != nil {
		return err
	}
	o := ingest.Options{PressureUnit: *unit, Barometer: setup.Barometer}
	var legs []decay.Leg
	var notes []string
	add := func(path string, kind decay.Kind, ref float64) error {
		l, err := readLog(path, o)
		if err != nil {
			return err
		}
		notes = append(notes, l.Notes...)
		legs = append(legs, decay.Leg{Kind: kind, Time: l.Time, Gauge: l.Gauge, Wall: l.Wall, Reference: ref})
		return nil
	}
	if *drift != "" {
		// Sealed at zero gauge: an absolute drift leg says what the barometer is.
		l, err := readLog(*drift, o)
		if err != nil {
			return err
		}
		if l.Absolute {
			o.Barometer = l.Barometer
		}
	}
	for _, w := range words {
		if err := add(w, decay.Hold, 0); err != nil {
			return err
		}
	}
	if *drift != "" {
		if err := add(*drift, decay.Drift, 0); err != nil {
			return err
		}
	}
	if *refRun != "" {
		if err := add(*refRun, decay.Hold, reference.si); err != nil {
			return err
		}
	}
	r, err := decay.Judge(legs, setup)
	if err != nil {
		return err
	}
	return printDecay(out, r, notes, *sf.json)
}

func printDecay(out io.Writer, r decay.Result, notes []string, asJSON bool) error {
	d := decayOutput{
		OrificeMM: r.D * 1e3, OrificeLowMM: r.Low * 1e3, OrificeHighMM: r.High * 1e3, LimitMM: r.Limit * 1e3, LimitNominal: r.Nominal,
		Verdict: r.Verdict, DriftPaPerS: r.DriftRate, SettlePa: r.Settle, VolumeL: r.Volume * 1e3, ResidualPa: r.Residual, NoisePa: r.Noise, ZeroPa: r.Zero,
		Budget: r.Budget, Sharper: r.Sharper, Warnings: append(notes, r.Warnings...), Algorithm: decay.Version,
		HoldStartS: r.Legs[0].Start, HoldEndS: r.Legs[0].End,
	}
	if d.Warnings == nil {
		d.Warnings = []string{}
	}
	if r.Differ {
		d.Pressure, d.Vacuum = sizeMM(r.Pressure), sizeMM(r.Vacuum)
	}
	if !math.IsNaN(r.HoldMore) {
		d.HoldMoreS = &r.HoldMore
	}
	if asJSON {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(d)
	}
	inch := func(m float64) string { return units.Digits(m/units.Inch, 3) }
	fmt.Fprintf(out, "%s\n%.3f mm (%s in), 95 %% between %.3f and %.3f mm; the limit reads %.3f mm\n",
		r.Verdict.Words(), d.OrificeMM, inch(r.D), d.OrificeLowMM, d.OrificeHighMM, d.LimitMM)
	if d.HoldMoreS != nil {
		fmt.Fprintf(out, "hold %.0f s more\n", *d.HoldMoreS)
	}
	fmt.Fprintf(out, "drift %+.2f Pa/s, gauge zero %+.1f Pa, settling %.0f Pa, volume %.3g L, scatter %.2g Pa a reading, hold %.0f to %.0f s\n",
		d.DriftPaPerS, d.ZeroPa, d.SettlePa, d.VolumeL, d.ResidualPa, d.HoldStartS, d.HoldEndS)
	for _, b := range r.Budget {
		fmt.Fprintf(out, "  %3.0f %%  %-18s %s\n", b.Share*100, b.Source, b.Value)
	}
	for _, w := range d.Warnings {
		fmt.Fprintln(out, "· "+w)
	}
	if r.Sharper != "" {
		fmt.Fprintln(out, "sharper: "+r.Sharper)
	}
	return nil
}

func runPlan(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("plan-hold", flag.ContinueOnError)
	sf := newSetupFlags(fs)
	start := quantity{kind: units.Pressure, bare: "inH2O", si: 13 * units.InH2O}
	noise := quantity{kind: units.Pressure, bare: "inH2O", si: 0.02 * units.InH2O}
	drift := quantity{kind: units.Time, bare: "s", si: 60}
	tank := quantity{kind: units.Volume, bare: "L"}
	fs.Var(&start, "start", "start pressure (13inH2O)")
	fs.Var(&noise, "noise", "scatter of one reading (0.02inH2O)")
	fs.Var(&drift, "drift-leg", "length of the drift leg (60s)")
	fs.Var(&tank, "tank", "size of the tank, to compare fuel levels")
	level := fs.String("level", "40%", "fuel level")
	rate := fs.Float64("rate", 5, "readings a second")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) > 0 || !sf.volume.set {
		return usage("give --volume")
	}
	setup, err := sf.setup()
	if err != nil {
		return err
	}
	in := decay.PlanInput{Setup: setup, Start: start.si, Noise: noise.si, Rate: *rate, DriftLeg: drift.si, Tank: tank.si}
	if in.Level, err = units.Percent(*level); err != nil {
		return usage("--level: %v", err)
	}
	p, err := decay.PlanHold(in)
	if err != nil {
		return badUse{err}
	}
	if *sf.json {
		type option struct {
			What      string   `json:"what"`
			HoldS     *float64 `json:"hold_s"`
			HalfWidth float64  `json:"half_width"`
		}
		number := func(x float64) *float64 {
			if math.IsNaN(x) {
				return nil
			}
			return &x
		}
		o := struct {
			HoldS     *float64 `json:"hold_s"`
			HalfWidth float64  `json:"half_width"`
			Options   []option `json:"options"`
		}{number(p.Hold), p.HalfWidth, []option{}}
		for _, x := range p.Options {
			o.Options = append(o.Options, option{x.What, number(x.Hold), x.HalfWidth})
		}
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		return e.Encode(o)
	}
	say := func(h, w float64) string {
		if math.IsNaN(h) {
			return fmt.Sprintf("no hold would tell (±%.0f %% at best)", w*100)
		}
		return fmt.Sprintf("hold %.0f s (±%.0f %% of the diameter)", h, w*100)
	}
	fmt.Fprintln(out, say(p.Hold, p.HalfWidth))
	for _, x := range p.Options {
		fmt.Fprintf(out, "  with %s: %s\n", x.What, say(x.Hold, x.HalfWidth))
	}
	return nil
}
