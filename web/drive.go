package web

import (
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/trim"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
)

// driveData is the page of a drive that was read for its trims.
type driveData struct {
	Case    record.Case
	Vehicle record.Vehicle
	Test    evidence.TestFolder
	Run     record.Run
	Name    string
	Result  *trim.Result
	Change  *trim.Change
	Causes  []causeView
	Alike   []alikeView
	Cut     []cutLine
	Clamped []string // what clamping the purge hose showed
	Stops   []string // trims that stand at their stop
	Plot    template.HTML
	Strip   template.HTML
	Kept    string // the result that it was written down as
	Size    string // of the engine, as typed
	Metered string // how the engine is metered
	Moves   template.HTML

	Suspects  []knowledge.Fault
	Suspect   string
	Severity  string
	Predicted string
}

// causeView is a cause as the page lists it.
type causeView struct {
	Key, Name, Size string
	Odds            string
	First           bool
}

// alikeView is what the log cannot tell apart.
type alikeView struct {
	Names []string
	Would string
}

// cutLine is how much of a drive does not count, and why.
type cutLine struct {
	Why     string
	Seconds float64
}

func (s *server) drive(c *echo.Context) error { return s.showDrive(c, nil) }

func (s *server) showDrive(c *echo.Context, failed error) error {
	ctx, id := c.Request().Context(), c.Param("id")
	caseID, err := s.shop.TestCase(ctx, id)
	if err != nil {
		return err
	}
	f, err := s.shop.Load(ctx, caseID)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(f.Benches, func(t evidence.TestFolder) bool { return t.ID == id && t.Key == bench.Trims.Key })
	if i < 0 {
		return casework.ErrNotFound
	}
	d := driveData{Case: f.Case, Vehicle: f.Vehicle, Test: f.Benches[i]}
	if e, ok := s.shop.Book.Test(bench.Trims.Key); ok {
		d.Name = e.Name
	}
	if x := d.Test.Setup.Displacement; x > 0 {
		d.Size = units.Format(x, units.Volume, "L", 2)
	}
	if j := slices.IndexFunc(f.Results, func(x record.Result) bool { return x.Bench == id && !x.Struck() }); j >= 0 {
		d.Kept = f.Results[j].ID
		d.Moves = s.moved(ctx, f, d.Kept)
	}
	if err := s.judged(c, f, &d); err != nil {
		return err
	}
	p := s.page(c, d.Name+" · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "drive.html", p)
	}
	return s.render(c, http.StatusOK, "drive.html", p)
}

// judged fills in what the drive comes to.
func (s *server) judged(c *echo.Context, f evidence.Folder, d *driveData) error {
	ctx := c.Request().Context()
	r, ok, err := s.shop.JudgedDrive(ctx, f, d.Test)
	if err != nil {
		return err
	}
	if !ok {
		return s.drawStrip(c, d)
	}
	d.Result, d.Change = &r.Result, r.Change
	d.Metered = map[trim.Metering]string{trim.AirMeter: "air meter (MAF)", trim.SpeedDensity: "manifold pressure (MAP), no air meter"}[r.Metering]
	for i, x := range r.Causes {
		if i > 0 && x.Probability < 0.005 {
			continue
		}
		d.Causes = append(d.Causes, causeView{x.Key(), x.Name, sizeWords(x), x.Odds(), i == 0})
	}
	for _, a := range r.Ambiguous {
		v := alikeView{Would: a.WouldTell}
		for _, k := range a.Keys {
			if j := slices.IndexFunc(r.Causes, func(x trim.Cause) bool { return x.Key() == k }); j >= 0 {
				v.Names = append(v.Names, r.Causes[j].Name)
			}
		}
		d.Alike = append(d.Alike, v)
	}
	if x, ok := d.Test.Drive(); ok {
		for _, k := range x.Clamps {
			d.Clamped = append(d.Clamped, k.Words())
		}
	}
	for _, bank := range r.AtStop {
		say := fmt.Sprintf("The long trim of bank %d stands at its stop; the short one carries the rest.", bank)
		if slices.ContainsFunc(r.Points.Points, func(p trim.Point) bool { return len(p.Banks) >= bank && p.Banks[bank-1].Bound }) {
			say = fmt.Sprintf("The trims of bank %d stand at their stop: the total is a bound, more is needed than they can give.", bank)
		}
		d.Stops = append(d.Stops, say)
	}
	for _, x := range r.Points.Cuts {
		j := slices.IndexFunc(d.Cut, func(l cutLine) bool { return l.Why == x.Why.String() })
		if j < 0 {
			j, d.Cut = len(d.Cut), append(d.Cut, cutLine{Why: x.Why.String()})
		}
		d.Cut[j].Seconds += x.To - x.From
	}
	plot := report.TrimPlot{Result: d.Result, First: r.Causes[0]}
	for _, x := range r.Causes[1:] {
		if x.Probability > 0.03 && len(plot.Others) < 2 {
			plot.Others = append(plot.Others, x)
		}
	}
	s.foretellTrims(c, f, d, &plot)
	svg := report.NewSVG(720, 400, "total trim against air flow, with what the likeliest cause says")
	plot.Draw(svg, 720, 400)
	d.Plot = template.HTML(svg.String())
	return s.drawStrip(c, d)
}

// drawStrip draws the drive against time.
func (s *server) drawStrip(c *echo.Context, d *driveData) error {
	l, run, err := s.shop.DriveLog(c.Request().Context(), d.Test)
	if err != nil || l == nil {
		return err
	}
	d.Run = run
	var p trim.Points
	if d.Result != nil {
		p = d.Result.Points
	} else if p, err = trim.Find(l); err != nil { // too little to cut anything
		return nil
	}
	totals := l.Totals()
	for _, t := range totals {
		for i := range t {
			t[i] *= 100
		}
	}
	svg := report.NewSVG(720, 300, "total trim against time, with what does not count")
	report.TrimStrip{Points: &p, Time: l.Time, Total: totals}.Draw(svg, 720, 300)
	d.Strip = template.HTML(svg.String())
	return nil
}

// foretellTrims adds what this car would show with the suspect that the page asks for.
func (s *server) foretellTrims(c *echo.Context, f evidence.Folder, d *driveData, plot *report.TrimPlot) {
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return
	}
	d.Suspects = s.shop.Suspects(car, bench.Trims.Key)
	d.Suspect, d.Severity = c.QueryParam("suspect"), cmp.Or(c.QueryParam("size"), "usual")
	if d.Suspect == "" {
		return
	}
	severity, ok := severities[d.Severity]
	if !ok {
		d.Severity, severity = "usual", severities["usual"]
	}
	doing, err := s.shop.ForetellTrims(f, car, d.Suspect, severity)
	if err != nil {
		d.Predicted = casework.Sentence(casework.Upper(err.Error()))
		return
	}
	fault, _ := s.shop.Book.Fault(d.Suspect)
	plot.Foretold = d.Result.Foretell(doing, 40)
	d.Predicted = fmt.Sprintf("Dashed: what a car of this kind shows with %s, over its own trim. From the plant.", plumbing.Lower(fault.Name))
}

// sizeWords is a cause's size with its interval.
func sizeWords(x trim.Cause) string {
	if x.Value != x.Value {
		return ""
	}
	return fmt.Sprintf("%s %s, %s to %s", units.Digits(x.Value, 2), x.Unit, units.Digits(x.Low, 2), units.Digits(x.High, 2))
}

// addDrive takes the log of a drive.
func (s *server) addDrive(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	data, name := f.file("drive", ingest.MaxBytes)
	typed := f.typedTrims()
	size := f.si("displacement", "Engine size", units.Volume, "L")
	if f.err == nil && data == nil && len(typed) == 0 {
		f.err = &casework.Problem{Field: "drive", Sentence: "Choose the log of a drive, a CSV file, or type short and long trims."}
	}
	if f.err == nil {
		if err := (trim.Engine{Displacement: size}).Check(); err != nil {
			f.err = &casework.Problem{Field: "displacement", Sentence: casework.Sentence(casework.Upper(err.Error()))}
		}
	}
	if f.err != nil {
		return s.showTrims(c, f.err)
	}
	ctx := c.Request().Context()
	n := casework.NewDrive{Name: name, Displacement: size, RepeatOf: f.text("repeat_of")}
	if data != nil {
		err := s.shop.InTurn(ctx, func() (err error) {
			n.Log, err = ingest.ParseDrive(data)
			return err
		})
		if err != nil {
			return s.showTrims(c, &casework.Problem{Field: "drive", Sentence: ofLog(name, err.Error())})
		}
	} else {
		n.Typed = typed
	}
	id, err := s.shop.AddDrive(ctx, f.key(), c.Param("id"), n)
	if err != nil {
		var p *casework.Problem
		if errors.As(err, &p) && p.Field == "log" {
			err = &casework.Problem{Field: "drive", Sentence: ofLog(name, p.Sentence)}
		}
		return s.showTrims(c, err)
	}
	return s.saved(c, f.key(), "/tests/"+id+"/drive")
}

// ofLog says what is wrong with a log.
func ofLog(name, say string) string {
	return casework.Sentence(fmt.Sprintf("The log %s: %s", name, plumbing.Lower(say)))
}

// typedTrims reads the short and long trims that were typed, point by point; of an empty form none.
func (f *form) typedTrims() (out []trim.Typed) {
	read := func(name, label string, factor float64) float64 {
		if f.text(name) == "" {
			return math.NaN()
		}
		return factor * f.number(name, label)
	}
	for _, r := range []trim.Region{trim.Idle, trim.Fast, trim.Loaded} {
		k := r.Key()
		t := trim.Typed{Region: r, Short: read("short-"+k, "Short trim, "+r.String(), 0.01), Long: read("long-"+k, "Long trim, "+r.String(), 0.01),
			Air: read("air-"+k, "Air flow, "+r.String(), 1e-3), Pressure: read("map-"+k, "Manifold pressure, "+r.String(), 1e3)}
		if t.Short == t.Short || t.Long == t.Long {
			out = append(out, t)
		}
	}
	return out
}

// showTrims shows the page on which a drive is handed in, with what was wrong.
func (s *server) showTrims(c *echo.Context, failed error) error {
	return s.showTest(c, bench.Trims.Key, failed, "")
}

// keepDrive writes a drive down as evidence.
func (s *server) keepDrive(c *echo.Context) error {
	return s.driveAct(c, func(f *form) error {
		_, err := s.shop.KeepDrive(c.Request().Context(), f.key(), c.Param("id"))
		return err
	})
}

// sizeDrive takes the size of the engine.
func (s *server) sizeDrive(c *echo.Context) error {
	return s.driveAct(c, func(f *form) error {
		v := f.needed("displacement", "Engine size").si("displacement", "Engine size", units.Volume, "L")
		if f.err != nil {
			return f.err
		}
		return s.shop.SetDisplacement(c.Request().Context(), f.key(), c.Param("id"), v)
	})
}

// driveAct runs a small form of the page and goes back to it.
func (s *server) driveAct(c *echo.Context, act func(*form) error) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	if err := act(f); err != nil {
		return s.showDrive(c, err)
	}
	return s.saved(c, f.key(), "/tests/"+c.Param("id")+"/drive")
}
