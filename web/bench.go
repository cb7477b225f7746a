package web

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/gas"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
)

type benchData struct {
	Diff    []difference // what two people changed in the set-up
	Case    record.Case
	Vehicle record.Vehicle
	Arch    knowledge.Archetype
	Test    evidence.TestFolder
	Sum     record.Summary
	Has     bool
	Runs    []runView
	Trace   template.HTML
	Cut     *cutView
	Verdict verdictView
	Scale   template.HTML
	Plan    []planLine
	PlanErr string
	Before  *record.Summary
	Units   []string
	Ask     string // a question: sending again with yes keeps the numbers
	Need    string // the file has no unit
	Kept    string // what was sent, so that it need not be chosen again
	KeptAs  string
	Max     string
	SetUps  []setUpView
	Live    bool // read live just now
	Entry   string
	Reach   setReach

	Suspects  []knowledge.Fault // that a hold can see on this car
	Suspect   string            // whose predicted trace is drawn
	Severity  string            // small, usual or large
	Predicted string            // what was drawn, or why not
	Leg       string            // the leg shown
	Moves     template.HTML     // what this test did to the odds
	Stated    []evidence.CarValues
}

// moved draws how the odds went with a test; empty when it moved none worth a line.
func (s *server) moved(ctx context.Context, f evidence.Folder, id string) template.HTML {
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return ""
	}
	t, err := s.shop.Think(ctx, f)
	if err != nil {
		return ""
	}
	turns, err := s.shop.Trail(ctx, f, t)
	if err != nil {
		return ""
	}
	return slopePlot(slopes(t.State, car, turns[id]))
}

type runView struct {
	record.Run
	Leg  *record.SummaryLeg   // the first stretch of the run
	Legs []*record.SummaryLeg // all of them; a run with gaps has several
}

// cutView is what the plot's handles need.
type cutView struct {
	Run                  string
	Start, End           float64
	X, W, Min, Max, Y, H float64
	StartX, EndX         float64
	ByHand               bool
	Width, Height        float64
}

type planLine struct {
	What string
	Hold string
	Wide string
}

func (s *server) bench(c *echo.Context) error { return s.showBench(c, nil, nil) }

func (s *server) benchData(c *echo.Context, id string) (benchData, error) {
	ctx := c.Request().Context()
	t, err := s.shop.TestCase(ctx, id)
	if err != nil {
		return benchData{}, err
	}
	f, err := s.shop.Load(ctx, t)
	if err != nil {
		return benchData{}, err
	}
	d := benchData{Case: f.Case, Vehicle: f.Vehicle, Units: units.Symbols(units.Pressure)}
	d.Test, _ = f.Test(id)
	if d.Arch, err = s.shop.Permitted(ctx, f.Vehicle); err != nil {
		return benchData{}, err
	}
	d.Max = fmt.Sprintf("%.1f inH2O (%.1f kPa)", d.Arch.MaxPa/units.InH2O, d.Arch.MaxPa/1e3)
	if car, err := s.shop.Car(f.Vehicle, f.Corrections); err == nil {
		entry, set := car.Sealing(d.Test.Setup)
		p, _ := car.Graph.Part(entry)
		if t, ok := s.shop.Book.Test(bench.With(bench.FromHole).Key); ok && p.Key != "" {
			d.SetUps = setUps(t, car, bench.Site{Seal: set, Entry: entry})
		}
		d.Entry, d.Reach = p.Name, reached(car, entry, set)
		d.Suspects = s.shop.Suspects(car, bench.With(bench.FromHole).Key)
	}
	if d.Stated, err = s.statedFor(ctx, f.Vehicle, func(v evidence.CarValues) bool { return v.Test == "" }); err != nil {
		return d, err
	}
	d.Sum, d.Has = d.Test.Summary()
	if d.Has || d.Test.Outcome != "" {
		d.Moves = s.moved(ctx, f, id)
	}
	if b, ok := f.Test(d.Test.RepeatOf); ok {
		if sum, ok := b.Summary(); ok {
			d.Before = &sum
		}
	}
	for _, r := range d.Test.Runs {
		v := runView{Run: r}
		for i := range d.Sum.Legs {
			if d.Sum.Legs[i].Run == r.ID {
				v.Legs = append(v.Legs, &d.Sum.Legs[i])
			}
		}
		if len(v.Legs) > 0 {
			v.Leg = v.Legs[0]
		}
		d.Runs = append(d.Runs, v)
	}
	which := c.QueryParam("leg")
	if err := s.drawTrace(c, &d, which); err != nil {
		return d, err
	}
	if d.Has {
		hole, scale := sized(d.Sum, d.Before)
		d.Scale, d.Verdict = scale, verdictView{Sum: d.Sum, Outcome: d.Test.Outcome, Hole: hole}
	}
	l, err := s.shop.LiveTest(ctx, id)
	if err != nil {
		return d, err
	}
	d.plan(l)
	_, d.Live = s.hub.Look(id)
	return d, nil
}

// sized draws a result as a hole against the limit ring and on the rule.
func sized(sum record.Summary, before *record.Summary) (hole, scale template.HTML) {
	size := func(d, low, high float64, style, label string) report.Size {
		if label != "" {
			label += " "
		}
		return report.Size{D: d * 1e3, Low: low * 1e3, High: high * 1e3, Style: style, Label: fmt.Sprintf("%s%.3f mm", label, d*1e3)}
	}
	now := size(sum.D, sum.Low, sum.High, "band", "")
	h := report.NewSVG(300, 236, fmt.Sprintf("the leak drawn as a hole of %.3f mm against the limit ring of %.3f mm", now.D, sum.Limit*1e3))
	report.Hole(h, 150, 118, 108, now, sum.Limit*1e3)
	sizes := []report.Size{now}
	if before != nil {
		sizes = append([]report.Size{size(before.D, before.Low, before.High, "before", "before")}, sizes...)
	}
	if sum.Differ {
		sizes = []report.Size{size(sum.Pressure.D, sum.Pressure.Low, sum.Pressure.High, "band", "pressure"), size(sum.Vacuum.D, sum.Vacuum.Low, sum.Vacuum.High, "band", "vacuum")}
	}
	sc := report.NewSVG(620, 78+26*float64(len(sizes)), "diameter on a logarithmic rule with the limit")
	report.Scale(sc, 30, 8, 560, sum.Limit*1e3, sizes...)
	return template.HTML(h.String()), template.HTML(sc.String())
}

// drawTrace draws the leg asked for, or the main hold, whole, with its fit, the
// limit's trace, and where the hold starts and ends.
func (s *server) drawTrace(c *echo.Context, d *benchData, which string) error {
	var run *runView
	for i := range d.Runs {
		r := &d.Runs[i]
		if r.StruckAt != nil || r.EndedAt == nil {
			continue
		}
		if r.ID == which || which == "" && r.Counts() && (run == nil || run.Kind == record.RunDrift) {
			run = r
		}
	}
	if run == nil {
		return nil
	}
	_, log, err := s.shop.Readings(c.Request().Context(), run.ID)
	if err != nil {
		return err
	}
	y := make([]float64, len(log.Gauge))
	for i, p := range log.Gauge {
		y[i] = (p - d.Test.Setup.Instrument.Zero) / units.InH2O
	}
	style := "measured"
	if len(y) > 400 {
		style = "raw"
	}
	var series []report.Series
	for _, at := range run.Gaps.Stretches(log.Time) { // a line through a gap would say that something was read
		series = append(series, report.Series{Style: style, X: log.Time[at[0]:at[1]], Y: y[at[0]:at[1]]})
	}
	read := len(series)
	if run.Leg != nil {
		toIn := func(pa []float64) []float64 {
			out := make([]float64, len(pa))
			for i := range pa {
				out[i] = pa[i] / units.InH2O
			}
			return out
		}
		for _, l := range run.Legs {
			series = append(series, report.Series{Style: "limit", Label: "the limit", X: l.Time, Y: toIn(l.AtLimit)},
				report.Series{Style: "fit", X: l.Time, Y: toIn(l.Fitted)})
		}
	}
	d.Leg = run.ID
	if run.Kind != "drift" && run.Leg != nil {
		s.ghost(c, d, run.Leg, &series)
	}
	const w, h = 620.0, 300.0
	svg := report.NewSVG(w, h, "trace of the "+run.Kind.Words())
	f := report.NewFrame(w, h, "seconds", "inH2O gauge", series...)
	f.Axes(svg)
	for _, x := range series {
		f.Draw(svg, x)
	}
	if len(series) > read && run.Kind != "drift" {
		f.Label(svg, series[read], 0.55, -10)
	}
	d.Trace = template.HTML(svg.String())
	start, end := log.Time[0], log.Time[len(log.Time)-1]
	if run.Leg != nil {
		start, end = run.Leg.Start, run.Leg.End
	} else if run.Start != 0 || run.End != 0 {
		start = run.Start
		if run.End != 0 {
			end = run.End
		}
	}
	at := func(t float64) float64 { return f.X + (t-f.MinX)/(f.MaxX-f.MinX)*f.W }
	d.Cut = &cutView{Run: run.ID, Start: start, End: end, X: f.X, W: f.W, Min: f.MinX, Max: f.MaxX, Y: f.Y, H: f.H,
		StartX: at(start), EndX: at(end), ByHand: run.Start != 0 || run.End != 0, Width: w, Height: h}
	return nil
}

// severities are the sizes at which a suspect is drawn.
var severities = map[string]float64{"small": 0.2, "usual": 0.5, "large": 0.8}

// ghost adds what this car would show with the suspect that the page asks for.
func (s *server) ghost(c *echo.Context, d *benchData, leg *record.SummaryLeg, series *[]report.Series) {
	d.Suspect, d.Severity = c.QueryParam("suspect"), c.QueryParam("size")
	if d.Suspect == "" || len(leg.Measured) == 0 {
		return
	}
	severity, ok := severities[d.Severity]
	if !ok {
		d.Severity, severity = "usual", severities["usual"]
	}
	f, err := s.shop.Load(c.Request().Context(), d.Case.ID)
	if err != nil {
		d.Predicted = err.Error()
		return
	}
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err == nil {
		var w casework.Foretold
		supposed := casework.Supposed{Setup: d.Test.Setup, Fault: d.Suspect, Severity: severity, From: leg.Measured[0], Seconds: leg.End - leg.Start}
		if w, err = s.shop.PredictHold(f.Vehicle, car, supposed); err == nil {
			x, y := make([]float64, len(w.Time)), make([]float64, len(w.Time))
			for i := range w.Time {
				x[i], y[i] = leg.Start+w.Time[i], w.Gauge[i]/units.InH2O
			}
			*series = append(*series, report.Series{Style: "ghost", Label: "predicted", X: x, Y: y})
			fault, _ := s.shop.Book.Fault(d.Suspect)
			d.Predicted = fmt.Sprintf("Drawn: what this car would show with %s", plumbing.Lower(fault.Name))
			if w.Says != "" {
				d.Predicted += ", " + w.Says
			}
			d.Predicted += ". From the plant: its tank, its fuel, air and heat of charging."
			return
		}
	}
	d.Predicted, _ = sentence(err)
	if d.Predicted == "" {
		d.Predicted = err.Error()
	}
}

// plan says how long to hold with this set-up, and what would shorten it.
func (d *benchData) plan(l casework.LiveTest) {
	if d.Test.Setup.Volume == 0 {
		return
	}
	p, err := l.Plan()
	if err != nil {
		d.PlanErr = err.Error()
		return
	}
	add := func(what string, hold, width float64) {
		l := planLine{What: what, Hold: fmt.Sprintf("%.0f s", hold), Wide: fmt.Sprintf("±%.0f %%", width*100)}
		if math.IsNaN(hold) {
			l.Hold = "no hold tells"
		}
		d.Plan = append(d.Plan, l)
	}
	add(fmt.Sprintf("as set up, from %.0f inH2O", l.ChargeTo(record.RunHold)/units.InH2O), p.Hold, p.HalfWidth)
	for _, o := range p.Options {
		add(o.What, o.Hold, o.HalfWidth)
	}
}

func (s *server) showBench(c *echo.Context, failed error, with func(*benchData)) error {
	id := c.Param("id")
	if t := c.FormValue("test"); t != "" {
		id = t
	}
	d, err := s.benchData(c, id)
	if err != nil {
		return err
	}
	if with != nil {
		with(&d)
	}
	if _, code := sentence(failed); failed != nil && code == http.StatusConflict {
		d.Diff = differing(c, d.fields())
	}
	p := s.page(c, "Leak-down test · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "bench.html", p)
	}
	return s.render(c, http.StatusOK, "bench.html", p)
}

func (s *server) setup(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	values, _ := c.FormValues()
	su := record.Setup{
		Sealed: values["sealed"], VolumeHow: record.VolumeHow(f.text("volume_how")), VolumeTolerance: f.percent("tolerance", "Volume tolerance"),
		Tank: f.si("tank", "Tank", units.Volume, "L"), Level: f.percent("level", "Fuel level"), Extra: f.si("extra", "Neck, canister, lines", units.Volume, "L"),
		MeterFlow: f.si("meter_flow", "Metered flow", units.Flow, "L/min"), MeterTime: f.si("meter_time", "Metered time", units.Time, "s"),
		MeterRise: f.si("meter_rise", "Pressure rise", units.Pressure, "inH2O"),
		Limit:     f.needed("limit", "Limit").si("limit", "Limit", units.Length, "mm"), Reference: f.si("reference", "Known orifice", units.Length, "mm"),
		Barometer: f.needed("barometer", "Barometer").si("barometer", "Barometer", units.Pressure, "hPa"), Temperature: f.needed("temperature", "Temperature").si("temperature", "Temperature", units.Temperature, "°C"),
		Wet: f.text("wet") != "",
		Instrument: record.Instrument{Name: f.text("gauge"), Range: f.si("range", "Range", units.Pressure, "inH2O"),
			Resolution: f.si("resolution", "Resolution", units.Pressure, "inH2O"), Zero: f.si("zero", "Zero", units.Pressure, "inH2O"),
			CalibratedOn: f.text("calibrated"), RigHeld: record.RigCheck(f.text("rig")), RigLoss: f.si("rig_loss", "Rig loss", units.Pressure, "inH2O")},
	}
	v := f.version()
	err := f.err
	if err == nil {
		err = s.shop.SaveSetup(c.Request().Context(), f.key(), c.Param("id"), v, su)
	}
	if err == nil {
		err = s.refreshBench(c.Param("id"))
	}
	if err != nil {
		return s.showBench(c, err, nil)
	}
	to := "/tests/" + c.Param("id")
	if f.text("then") == "live" { // what was ticked is kept on the way
		to += "/live"
	}
	return s.saved(c, f.key(), to)
}

// sentLeg is a leg as it was sent: its log, or the text that could not be read as one yet.
type sentLeg struct {
	log        ingest.Log
	kept, name string
}

// sentLeg reads the leg that a form brings: a file, the text of one that was sent before,
// or typed pairs.
func (s *server) sentLeg(c *echo.Context, f *form) (l sentLeg, err error) {
	ctx, o := c.Request().Context(), ingest.Options{PressureUnit: f.text("unit")}
	data, name := f.file("csv", ingest.MaxBytes)
	l.kept, l.name = f.text("kept"), name
	switch {
	case data != nil:
		l.kept = string(data)
	case l.kept != "":
		l.name = f.text("kept_as")
	case f.text("pairs") != "":
		l.name = "typed"
		o.PressureUnit = cmp.Or(o.PressureUnit, "inH2O")
		l.log, err = ingest.ParsePairs(f.text("pairs"), o)
		return l, err
	default:
		return l, errors.New("choose a CSV file, or type pairs of time and pressure")
	}
	read := func() (err error) {
		l.log, err = ingest.ParseCSV([]byte(l.kept), o)
		return err
	}
	err = s.shop.InTurn(ctx, read)
	if open := new(ingest.NoBarometerError); errors.As(err, &open) {
		// Only a barometer that somebody read may be taken off; the standard one is a guess.
		if t, e := s.shop.LiveTest(ctx, c.Param("id")); e == nil && t.Test.Setup.Barometer != gas.StandardPressure {
			o.Barometer = t.Test.Setup.Barometer
			err = s.shop.InTurn(ctx, read)
		}
	}
	return l, err
}

func (s *server) addLeg(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	l, err := s.sentLeg(c, &f)
	log, kept, name := l.log, l.kept, l.name
	if f.err != nil {
		err = f.err
	}
	if err != nil {
		var unit *ingest.NoUnitError
		need := errors.As(err, &unit)
		say := casework.Upper(err.Error())
		if need {
			say = fmt.Sprintf("The pressure column %q has no unit. Choose the unit it was written in and keep the leg.", unit.Column)
		} else if name != "" && name != "typed" {
			say = name + ": " + err.Error()
		}
		return s.showBench(c, &casework.Problem{Sentence: say}, func(d *benchData) {
			if need && len(kept) <= 4<<20 {
				d.Need, d.Kept, d.KeptAs = unit.Column, kept, name
			}
		})
	}
	if name == "" {
		name = "log"
	}
	_, err = s.shop.AddRun(c.Request().Context(), f.key(), c.Param("id"),
		casework.NewRun{Kind: record.RunKind(f.text("kind")), Name: name, Log: log, Sure: f.text("sure") != ""})
	if err != nil {
		var q *casework.Question
		return s.showBench(c, err, func(d *benchData) {
			if errors.As(err, &q) {
				d.Ask, d.KeptAs = q.Sentence, name
				if name != "typed" && len(kept) <= 4<<20 {
					d.Kept = kept
				}
			}
		})
	}
	return s.saved(c, f.key(), "/tests/"+c.Param("id"))
}

func (s *server) cannot(c *echo.Context) error {
	return s.benchAct(c, func(f *form) error {
		o := record.CannotPressurise
		if f.text("undo") != "" {
			o = record.NoOutcome
		}
		return s.shop.SetOutcome(c.Request().Context(), f.key(), c.Param("id"), o)
	})
}

func (s *server) cut(c *echo.Context) error {
	return s.benchAct(c, func(f *form) error {
		start, end := f.needed("start", "Start of the hold").number("start", "Start of the hold"), f.needed("end", "End of the hold").number("end", "End of the hold")
		if f.text("again") != "" {
			start, end = 0, 0
		}
		if f.err != nil {
			return f.err
		}
		return s.shop.CutRun(c.Request().Context(), f.key(), c.Param("id"), start, end)
	})
}

func (s *server) strikeRun(c *echo.Context) error {
	return s.benchAct(c, func(f *form) error {
		return s.shop.StampRun(c.Request().Context(), f.key(), c.Param("id"), f.stamp(casework.Strike, casework.Restore))
	})
}

// benchAct runs a small form of the bench and goes back to it.
func (s *server) benchAct(c *echo.Context, act func(*form) error) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	test := f.text("test")
	if err := act(f); err != nil {
		return s.showBench(c, err, nil)
	}
	if err := s.refreshBench(test); err != nil {
		return err
	}
	to := "/tests/" + test
	if leg := f.text("leg"); leg != "" {
		to += "?leg=" + leg
	}
	return s.saved(c, f.key(), to)
}

// readings sends a run back as CSV, as it was read.
func (s *server) readings(c *echo.Context) error {
	x, err := s.shop.Recorded(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	h := c.Response().Header()
	h.Set("Content-Type", "text/csv; charset=utf-8")
	h.Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", safeName(string(x.Run.Kind)+"-"+x.Run.ID[:8])+".csv"))
	w := csv.NewWriter(c.Response())
	head, cols := columnNames(x)
	_ = w.Write(head)
	for i, t := range x.Table.Time {
		row := []string{strconv.FormatFloat(t, 'g', -1, 64)}
		for _, k := range cols {
			v := ""
			if y := x.Table.Cols[k][i]; !math.IsNaN(y) {
				v = strconv.FormatFloat(y, 'g', -1, 64)
			}
			row = append(row, v)
		}
		_ = w.Write(row)
	}
	w.Flush()
	return w.Error()
}

// columnNames are the columns of a run that read something, as the head of a file names them: a
// hold's can be read back.
func columnNames(x casework.Recorded) (head []string, cols []int) {
	head = []string{"time_s"}
	for i, c := range x.Run.Channels {
		if !slices.ContainsFunc(x.Table.Cols[i], func(v float64) bool { return !math.IsNaN(v) }) {
			continue
		}
		name := c.Key
		if c.Key == string(record.RigWall) {
			name = "temp"
		}
		head, cols = append(head, name+"_"+c.Unit), append(cols, i)
	}
	return head, cols
}

func safeName(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' {
			return r
		}
		return '-'
	}, s)
}

// Fields of the set-up as the form shows them.

// fields are those of the set-up, as they are saved.
func (d benchData) fields() []fieldNow {
	su := d.Test.Setup
	out := []fieldNow{{"sealed", "Sealed", strings.Join(su.Sealed, "; ")}, {"gauge", "Gauge", su.Instrument.Name}, {"calibrated", "Calibrated", su.Instrument.CalibratedOn},
		{"volume_how", "Volume from", string(su.VolumeHow)}, {"rig", "The rig, plugged by itself", string(su.Instrument.RigHeld)}}
	for _, x := range [][2]string{{"tank", "Tank"}, {"level", "Fuel level"}, {"extra", "Neck, lines"}, {"tolerance", "Known to"}, {"meter_flow", "Flow"}, {"meter_time", "For"}, {"meter_rise", "Rise"},
		{"reference", "Orifice"}, {"limit", "Limit"}, {"barometer", "Barometer"}, {"temperature", "Gas"}, {"range", "Range"}, {"resolution", "Resolution"}, {"zero", "Reads open"}, {"rig_loss", "It lost, in a minute"}} {
		out = append(out, fieldNow{x[0], x[1], d.Value(x[0])})
	}
	return out
}

// Value formats a set-up quantity for its field.
func (d benchData) Value(name string) string {
	su := d.Test.Setup
	in := su.Instrument
	switch name {
	case "tank":
		return inUnit(su.Tank, units.Volume, "L", 4)
	case "extra":
		return inUnit(su.Extra, units.Volume, "L", 3)
	case "level":
		return fmt.Sprintf("%.0f", su.Level*100)
	case "tolerance":
		return fmt.Sprintf("%.3g", su.VolumeTolerance*100)
	case "meter_flow":
		return inUnit(su.MeterFlow, units.Flow, "L/min", 4)
	case "meter_time":
		return inUnit(su.MeterTime, units.Time, "s", 4)
	case "meter_rise":
		return inUnit(su.MeterRise, units.Pressure, "inH2O", 4)
	case "limit":
		return inUnit(su.Limit, units.Length, "mm", 3)
	case "reference":
		return inUnit(su.Reference, units.Length, "mm", 3)
	case "barometer":
		return inUnit(su.Barometer, units.Pressure, "hPa", 5)
	case "temperature":
		return inUnit(su.Temperature, units.Temperature, "°C", 3)
	case "range":
		return inUnit(in.Range, units.Pressure, "inH2O", 4)
	case "resolution":
		return inUnit(in.Resolution, units.Pressure, "inH2O", 3)
	case "zero":
		return inUnit(in.Zero, units.Pressure, "inH2O", 3)
	case "rig_loss":
		return inUnit(in.RigLoss, units.Pressure, "inH2O", 3)
	}
	return ""
}
