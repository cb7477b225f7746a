package web

import (
	"cmp"
	"context"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/report"
)

const (
	kindVolume   = units.Volume
	kindPressure = units.Pressure
)

// entry is one piece of the strip.
type entry struct {
	At      time.Time
	Kind    string
	ID      string
	What    string
	Figure  string
	Class   string
	Note    string
	Link    string
	Struck  bool
	Doubted bool
	Photo   string
	Small   bool // a leg or a mark, beside its test
	Plot    template.HTML
}

type caseData struct {
	casework.Folder
	Arch   knowledge.Archetype
	Proof  casework.Proof
	Strip  []entry
	Stages []stageMark
	Plot   template.HTML
	Live   []casework.TestFolder
	Waits  bool
	Faults []faultFamily // that this car can have
	Part   string        // fault chosen on the Map
	Diff   []difference
	Paper  report.Paper
	Map    mapView
	Reason reasoned
	Rests  []string   // what singles out the part that is to be written down as found
	Causes []causeAsk // of what was found, before it is repaired
	Ways   []string   // how this shop goes about what the page is for
}

// causeAsk is a part that was found, and what it may be the victim of.
type causeAsk struct {
	Finding record.Finding
	Name    string
	Causes  []knowledge.Fault // of the Book, on this car
	Others  []knowledge.Fault // what else this car can have
	Must    bool
}

func (s *server) causes(f casework.Folder, car casework.Car) (out []causeAsk) {
	for _, x := range f.Findings {
		if x.StruckAt != nil || x.Cause != "" {
			continue
		}
		fault, _ := s.shop.Book.Fault(x.Part)
		a := causeAsk{Finding: x, Name: fault.Name}
		for _, y := range s.shop.Book.Faults {
			if y.Key == x.Part || y.Family == "other" || s.shop.Where(car, y.Key) == "" {
				continue
			}
			if slices.Contains(fault.Causes, y.Key) {
				a.Causes, a.Must = append(a.Causes, y), true
			} else if y.Family == fault.Family {
				a.Others = append(a.Others, y)
			}
		}
		out = append(out, a)
	}
	return out
}

type stageMark struct{ Name, Class string }

// difference is a field that two people changed.
type difference struct{ Field, Theirs, Yours string }

func (s *server) caseData(ctx context.Context, id string) (caseData, error) {
	f, err := s.shop.Load(ctx, id)
	if err != nil {
		return caseData{}, err
	}
	d := caseData{Folder: f, Proof: f.Proof(), Waits: f.Case.WaitUntil != nil && f.Case.WaitUntil.After(s.shop.Now())}
	d.Arch, _ = s.shop.Book.Archetype(f.Vehicle.Archetype)
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	for _, t := range f.Tests {
		if t.StruckAt == nil {
			d.Live = append(d.Live, t)
		}
	}
	slices.Reverse(d.Live)
	d.Strip = s.strip(f)
	d.Plot = template.HTML(comparison(d.Proof, 560, 330))
	return d, nil
}

// strip gathers the evidence in order of time, newest on top.
func (s *server) strip(f casework.Folder) []entry {
	var out []entry
	byTime := map[string][]string{}
	var order []record.Code
	for _, c := range f.Codes {
		k := c.At.Format(time.RFC3339Nano) + c.Status + fmt.Sprint(c.StruckAt != nil)
		if byTime[k] == nil {
			order = append(order, c)
		}
		byTime[k] = append(byTime[k], c.Code)
	}
	for _, c := range order {
		codes := byTime[c.At.Format(time.RFC3339Nano)+c.Status+fmt.Sprint(c.StruckAt != nil)]
		var says []string
		for _, code := range codes {
			e := s.shop.Book.Explain(code)
			line := code + " " + e.Says
			if e.Size != "" {
				line += ", " + e.Size
			}
			says = append(says, line)
		}
		e := entry{At: c.At, Kind: "code", ID: c.ID, What: "Codes, " + c.Status, Figure: strings.Join(codes, " "), Note: strings.Join(says, " · "), Struck: c.StruckAt != nil}
		if len(codes) > 1 {
			e.Kind = ""
		}
		e.Doubted = c.Doubted()
		out = append(out, e)
	}
	for _, x := range f.Scans {
		out = append(out, s.scanEntry(x))
	}
	car, carErr := s.shop.Car(f.Vehicle, f.Corrections)
	for _, x := range f.Results {
		if carErr != nil {
			break
		}
		t, _ := s.shop.Book.Test(x.Test)
		e := entry{At: x.At, Kind: "result", ID: x.ID, What: s.shop.ResultName(x, car), Figure: s.shop.OutcomeName(x.Test, x.Outcome), Struck: x.StruckAt != nil, Doubted: x.Doubted(), Class: resultClass(t, x.Outcome)}
		var notes []string
		for _, ex := range x.Exits {
			p, _ := car.Graph.Part(ex.Part)
			notes = append(notes, ex.Size+" at the "+knowledge.Lower(p.Name))
		}
		for _, g := range x.Figures {
			if g.Value != nil {
				notes = append(notes, strings.TrimSpace(fmt.Sprintf("%s %s %s", g.Name, strconv.FormatFloat(*g.Value, 'f', -1, 64), g.Unit)))
			}
		}
		e.Note = both(strings.Join(notes, " · "))
		if x.Note != "" {
			e.Note = strings.Trim(e.Note+" · "+x.Note, " ·")
		}
		out = append(out, e)
	}
	for _, x := range f.Observations {
		if carErr == nil {
			out = append(out, entry{At: x.At, Kind: "observation", ID: x.ID, What: s.shop.ObservationWords(x, car), Struck: x.StruckAt != nil, Doubted: x.Doubted(), Small: true})
		}
	}
	for _, x := range f.PostMortems {
		out = append(out, entry{At: x.At, Kind: "post-mortem", ID: x.ID, What: "Part opened", Figure: map[string]string{"yes": "confirms it", "no": "does not confirm it", "unclear": "unclear"}[x.Confirmed], Note: x.Text, Photo: x.Photo, Struck: x.StruckAt != nil, Doubted: x.Doubted()})
	}
	for _, x := range f.Notes {
		e := entry{At: x.At, Kind: "note", ID: x.ID, What: record.NoteWords[x.Kind], Note: x.Text, Figure: x.Subject, Struck: x.StruckAt != nil, Doubted: x.Doubted(), Photo: x.Photo}
		out = append(out, e)
	}
	for _, t := range f.Tests {
		e := entry{At: t.At, Kind: "test", ID: t.ID, What: testName(t), Link: "/tests/" + t.ID, Struck: t.StruckAt != nil, Doubted: t.Doubted(), Class: verdictClass(t.Outcome)}
		if sum, ok := t.Summary(); ok {
			e.Figure = fmt.Sprintf("%.3f mm", sum.D*1e3)
			e.Note = fmt.Sprintf("%.3f to %.3f mm, %s", sum.Low*1e3, sum.High*1e3, record.OutcomeWords(t.Outcome))
			if sum.Tight {
				e.Note += ", tight on " + t.At.Local().Format("2 Jan")
			}
			e.Plot = template.HTML(sparkline(sum))
		} else {
			e.Figure = record.OutcomeWords(t.Outcome)
			e.Note = t.Problem
		}
		for _, r := range slices.Backward(t.Runs) { // made within one moment, the later stands above
			out = append(out, runEntries(t, r)...)
		}
		out = append(out, e)
	}
	parts := s.partNames(f)
	for _, x := range f.Marks {
		e := entry{At: x.At, Kind: "mark", ID: x.ID, What: record.MarkWords[x.Kind] + ": " + knowledge.Lower(parts[x.Part]), Note: x.Text, Struck: x.StruckAt != nil, Doubted: x.Doubted(), Link: "/cases/" + f.Case.ID + "?part=" + x.Part + "#part", Small: true}
		switch {
		case x.Kind == record.MarkSuspect:
			e.Figure = fmt.Sprintf("%.0f %%", 100*x.Odds)
		case x.Kind == record.MarkExit:
			e.Figure = x.Size
			if x.Expected {
				e.Figure += ", expected"
			} else {
				e.Class = "over"
			}
		}
		out = append(out, e)
	}
	for _, x := range f.Findings {
		p, _ := s.shop.Book.Fault(x.Part)
		out = append(out, entry{At: x.At, Kind: "finding", ID: x.ID, What: "Found", Figure: p.Name, Class: "over", Note: foundWords(s, x), Struck: x.StruckAt != nil, Doubted: x.Doubted(), Photo: x.Photo})
	}
	for _, x := range f.Repairs {
		e := entry{At: x.At, Kind: "repair", ID: x.ID, What: "Repair, " + map[bool]string{true: "lasting", false: "temporary"}[x.Lasting], Figure: x.Action, Struck: x.StruckAt != nil, Doubted: x.Doubted()}
		if x.DoneAt == nil {
			e.What = "Repair, waits for its part"
		}
		e.Note = strings.Trim(x.Parts+" · "+x.Seals, " ·")
		out = append(out, e)
	}
	for _, x := range f.Trials {
		e := entry{At: x.At, Kind: "trial", ID: x.ID, What: "Complaint tried again", Figure: "gone", Note: fmt.Sprintf("%s · %d min", x.How, (x.Seconds+30)/60), Struck: x.StruckAt != nil, Doubted: x.Doubted(), Link: "/cases/" + f.Case.ID + "/proof"}
		if !x.Gone {
			e.Figure, e.Class = "came back", "over"
		}
		out = append(out, e)
	}
	out = append(out, entry{At: f.Case.OpenedAt, What: "Complaint", Note: strings.Trim(f.Case.Complaint+" · "+f.Case.Circumstances, " ·")})
	if f.Case.RecentWork != "" {
		out = append(out, entry{At: f.Case.OpenedAt, What: "Worked on lately", Note: f.Case.RecentWork})
	}
	slices.SortStableFunc(out, func(a, b entry) int { return b.At.Compare(a.At) })
	return out
}

// foundWords says where, how and on what a finding rests.
func foundWords(s *server, x record.Finding) string {
	w := []string{x.Place}
	if x.How != x.RestsOn {
		w = append(w, x.How)
	}
	if x.By == record.ByTest {
		w = append(w, "rests on: "+x.RestsOn)
	} else {
		w = append(w, "on the technician's word")
	}
	switch x.Cause {
	case "":
	case record.NoCause:
		w = append(w, "failed of itself")
	case record.CauseUnknown:
		w = append(w, "why is not known")
	default:
		p, _ := s.shop.Book.Fault(x.Cause)
		w = append(w, "victim of: "+knowledge.Lower(p.Name))
	}
	w = append(w, x.Why)
	return strings.Join(slices.DeleteFunc(w, func(x string) bool { return x == "" }), " · ")
}

// resultClass is the colour of a result: what a sound part shows has none.
func resultClass(t knowledge.Test, outcome string) string {
	if len(t.Outcomes) > 0 && slices.Contains([]string{"holds", "none", "good", "true", "clean", "normal", "pass", "slows", "free", "follows", "rises", "stumbles", "below", "expected", "stays", "changes"}, outcome) {
		return "within"
	}
	if outcome == "not-filled" || outcome == "unsteady" || outcome == "not-run" || outcome == "silent" || outcome == "sticky" {
		return "cannot"
	}
	return "over"
}

// partNames are the names of the parts of a case's car.
func (s *server) partNames(f casework.Folder) map[string]string {
	out := map[string]string{}
	car, err := s.shop.Car(f.Vehicle, nil) // also those that a correction took off
	if err != nil {
		return out
	}
	for _, p := range car.Graph.Parts {
		out[p.Key] = p.Name
	}
	return out
}

// scanEntry is a scan in one line: its codes, and what the counters tell.
func (s *server) scanEntry(x casework.ScanFolder) entry {
	e := entry{At: x.At, Kind: "scan", ID: x.ID, What: "Scan", Link: "/scans/" + x.ID, Struck: x.StruckAt != nil, Doubted: x.Doubted()}
	var codes []string
	for _, c := range x.Read.Codes {
		if !slices.Contains(codes, c.Code) {
			codes = append(codes, c.Code)
		}
	}
	e.Figure = strings.Join(codes, " ")
	if len(codes) == 0 {
		e.Figure = "no codes"
		if !x.Read.Asked[obd.Stored] {
			e.Figure = "codes not asked for"
		}
	}
	var notes []string
	if st := x.Read.Readiness["evap"]; st != "" && st != obd.Unsupported {
		notes = append(notes, "vapour monitor "+map[string]string{obd.Complete: "complete", obd.Incomplete: "not complete"}[st])
	}
	for _, k := range []string{"06", "07"} {
		if v, ok := x.Read.Live[k]; ok {
			notes = append(notes, fmt.Sprintf("%s trim %+.1f %%", map[string]string{"06": "short", "07": "long"}[k], v.Value))
		}
	}
	if c := x.Read.Since(x.At.Local()); c.Known && c.Warmups >= 0 {
		notes = append(notes, fmt.Sprintf("%.0f warm-ups since clearing", c.Warmups))
	}
	e.Note = strings.Join(append(notes, x.Source), " · ")
	return e
}

// runEntries is a leg in one line, and each of its marks in one.
func runEntries(t casework.TestFolder, r record.Run) []entry {
	link := "/tests/" + t.ID + "?leg=" + r.ID
	e := entry{At: r.At, Kind: "run", ID: r.ID, What: casework.Upper(record.RunWords[r.Kind]), Link: link, Struck: r.StruckAt != nil, Doubted: r.Doubted(), Small: true}
	switch {
	case r.EndedAt == nil:
		e.Kind, e.Note, e.Link = "", "being read now", "/tests/"+t.ID+"/live"
	case r.Source.Name != "":
		e.Note = fmt.Sprintf("read live, %d readings, %s", r.Readings, r.Source.Name)
	default:
		e.Note = fmt.Sprintf("%d readings, %s", r.Readings, r.Name)
	}
	for _, g := range r.Gaps {
		e.Note += fmt.Sprintf(" · nothing read from %.0f to %.0f s", g.From, g.To)
	}
	out := []entry{e}
	for _, m := range r.Marks {
		out = append(out, entry{At: r.At.Add(time.Duration(m.Time * float64(time.Second))), What: "Mark", Note: m.Text, Link: link, Struck: r.StruckAt != nil, Small: true})
	}
	return out
}

func testName(t casework.TestFolder) string {
	name := "Hold"
	if sum, ok := t.Summary(); ok {
		switch {
		case sum.Pressure != nil && sum.Vacuum != nil:
			name = "Pressure and vacuum hold"
		case len(sum.Legs) > 0 && holdIsVacuum(sum):
			name = "Vacuum hold"
		default:
			name = "Pressure hold"
		}
	}
	if t.RepeatOf != "" {
		name += ", repeated"
	}
	return name
}

func holdIsVacuum(sum record.Summary) bool {
	low := 0.0
	high := 0.0
	for _, l := range sum.Legs {
		for _, p := range l.Measured {
			low, high = min(low, p), max(high, p)
		}
	}
	return -low > high
}

func (s *server) caseView(c *echo.Context) error { return s.showCase(c, nil) }

func (s *server) showCase(c *echo.Context, failed error) error {
	d, err := s.caseData(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	ctx := c.Request().Context()
	var th *casework.Thought
	if car, err := s.shop.Car(d.Vehicle, d.Corrections); err == nil && d.Case.Stage != record.Closed {
		d.Reason, th = s.reason(ctx, c, d.Folder, car)
		if th != nil {
			_ = s.shop.KeepNext(ctx, d.Folder, th)
		}
	}
	if d.Map, err = s.caseMap(c, d.Folder, "/cases/"+d.Case.ID, d.Reason.light); err != nil {
		d.Map.Problems = append(d.Map.Problems, err.Error())
	}
	p := s.page(c, d.Case.Number+" "+d.Vehicle.Name(), "slate", d)
	if failed != nil {
		return s.again(c, failed, "case.html", p)
	}
	return s.render(c, http.StatusOK, "case.html", p)
}

// act runs one action of a case's small forms and goes back to where.
func (s *server) act(c *echo.Context, where string, f func(ctx context.Context, fm *form, id string) error) error {
	if err := parsed(c); err != nil {
		return err
	}
	fm := &form{c: c}
	err := f(c.Request().Context(), fm, c.Param("id"))
	if fm.err != nil {
		err = fm.err
	}
	if err != nil {
		if where == "/proof" {
			return s.showProof(c, err)
		}
		return s.showCase(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id")+where)
}

func (s *server) addCodes(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.AddCodes(ctx, f.key(), id, f.text("codes"), f.text("status"))
	})
}

func (s *server) strike(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.Strike(ctx, f.key(), id, f.text("kind"), f.text("entry"), f.text("back") != "")
	})
}

func (s *server) wait(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		until := f.when("until", "Until")
		if f.err != nil {
			return f.err
		}
		return s.shop.Wait(ctx, f.key(), id, f.text("kind"), f.text("note"), until)
	})
}

func (s *server) trial(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		m := f.number("minutes", "Duration", true)
		if f.text("result") == "" {
			f.wrong("Result", "say whether the complaint is gone or came back")
		}
		if f.err != nil {
			return f.err
		}
		return s.shop.TryComplaint(ctx, f.key(), id, f.text("how"), m, f.text("result") == "gone")
	})
}

func (s *server) monitors(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		return s.shop.Monitors(ctx, f.key(), id, f.text("monitors"))
	})
}

func (s *server) close(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		return s.shop.Close(ctx, f.key(), id, f.text("reason"))
	})
}

func (s *server) repairDone(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		return s.shop.FinishRepair(ctx, f.key(), id, c.Param("rid"))
	})
}

func (s *server) startTest(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	id, err := s.shop.StartTest(c.Request().Context(), f.key(), c.Param("id"), f.text("repeat_of"))
	if err == nil {
		err = s.plugged(c.Request().Context(), &f, id)
	}
	if err != nil {
		return s.showCase(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/tests/"+id)
}

func (s *server) editView(c *echo.Context) error { return s.showEdit(c, nil) }

func (s *server) showEdit(c *echo.Context, failed error) error {
	d, err := s.caseData(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	title := "Edit " + d.Case.Number
	if failed == nil {
		return s.render(c, http.StatusOK, "edit.html", s.page(c, title, "slate", d))
	}
	if _, code := sentence(failed); code == http.StatusConflict {
		// The second one to save is shown what differs; saving again is then on the new version.
		for _, f := range []struct{ field, name, theirs string }{{"complaint", "Complaint", d.Case.Complaint}, {"circumstances", "When it happens", d.Case.Circumstances},
			{"recent_work", "Worked on lately", d.Case.RecentWork}, {"deadline", "Inspection", d.Case.Deadline}} {
			if yours := strings.TrimSpace(c.FormValue(f.field)); yours != f.theirs {
				d.Diff = append(d.Diff, difference{f.name, f.theirs, yours})
			}
		}
		c.Request().PostForm.Del("version")
	}
	return s.again(c, failed, "edit.html", s.page(c, title, "slate", d))
}

func (s *server) edit(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	v := f.version()
	err := f.err
	if err == nil {
		err = s.shop.EditCase(c.Request().Context(), f.key(), c.Param("id"), v, f.text("complaint"), f.text("circumstances"), f.text("recent_work"), f.text("deadline"))
	}
	if err != nil {
		return s.showEdit(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id"))
}

func (s *server) foundView(c *echo.Context) error { return s.showForm(c, "found.html", "Found", nil) }
func (s *server) repairView(c *echo.Context) error {
	return s.showForm(c, "repair.html", "Repair", nil)
}
func (s *server) proofView(c *echo.Context) error { return s.showProof(c, nil) }

func (s *server) showProof(c *echo.Context, failed error) error {
	return s.showForm(c, "proof.html", "Proof", failed)
}

func (s *server) showForm(c *echo.Context, view, title string, failed error) error {
	d, err := s.caseData(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	car, err := s.shop.Car(d.Vehicle, d.Corrections)
	switch {
	case err != nil && view != "found.html": // an archetype that is gone: the words can still be written
	case view == "found.html":
		d.Faults, d.Part = s.canHave(d.Folder), c.QueryParam("part")
		if k := cmp.Or(c.FormValue("part"), d.Part); k != "" && err == nil {
			d.Rests = s.shop.RestsOn(d.Folder, car, k)
		}
	case view == "repair.html":
		d.Causes = s.causes(d.Folder, car)
		d.Ways, err = s.shop.PartsWays(c.Request().Context(), d.Folder, car)
	case view == "proof.html":
		d.Ways, err = s.shop.CodesWays(c.Request().Context(), d.Folder)
	}
	if err != nil && d.Arch.Key != "" {
		return err
	}
	if view == "proof.html" {
		d.Plot = template.HTML(comparison(d.Proof, 620, 460))
	}
	p := s.page(c, title+" · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, view, p)
	}
	return s.render(c, http.StatusOK, view, p)
}

// canHave lists the faults that a case's car can have, by family.
func (s *server) canHave(f casework.Folder) (out []faultFamily) {
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	for _, name := range knowledge.FaultFamilies() {
		x := faultFamily{Name: name}
		for _, y := range s.shop.Book.Faults {
			if y.Family != name {
				continue
			}
			if err == nil {
				if _, ok := y.Can(car.Graph, car.Combination); !ok {
					continue
				}
			}
			x.Faults = append(x.Faults, y)
		}
		if len(x.Faults) > 0 {
			out = append(out, x)
		}
	}
	return out
}

func (s *server) found(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	n := casework.NewFinding{Part: f.text("part"), Place: f.text("place"), How: f.text("how"), By: f.text("by"), Photo: f.photo()}
	err := f.err
	if err == nil {
		err = s.shop.AddFinding(c.Request().Context(), f.key(), c.Param("id"), n)
	}
	if err != nil {
		return s.showForm(c, "found.html", "Found", err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id"))
}

func (s *server) repair(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	n := casework.NewRepair{Action: f.text("action"), Parts: f.text("parts"), Seals: f.text("seals"), CostCents: f.cents("cost", "Cost"),
		Minutes: f.whole("minutes", "Minutes"), TorqueNm: f.si("torque", "Torque", units.Torque, "N·m", false),
		Lasting: f.text("lasting") != "no", WaitUntil: f.when("until", "Expected"), WaitNote: f.text("note"), Causes: map[string]string{}, Why: f.text("why")}
	for k, v := range c.Request().Form {
		if id, ok := strings.CutPrefix(k, "cause-"); ok && len(v) > 0 {
			n.Causes[id] = v[0]
		}
	}
	err := f.err
	if err == nil {
		err = s.shop.AddRepair(c.Request().Context(), f.key(), c.Param("id"), n)
	}
	if err != nil {
		return s.showForm(c, "repair.html", "Repair", err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+c.Param("id"))
}

func (s *server) photo(c *echo.Context) error {
	p, err := s.shop.Photo(c.Request().Context(), c.Param("hash"))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Blob(http.StatusOK, p.Mime, p.Data)
}

// comparison draws before and after of a proof on one plot; empty without a test.
func comparison(p casework.Proof, w, h float64) string {
	svg := report.NewSVG(w, h, "pressure traces before and after the repair")
	if !report.Comparison(svg, w, h, summaryOf(p.Before), summaryOf(p.After)) {
		return ""
	}
	return svg.String()
}

func summaryOf(t *casework.TestFolder) *record.Summary {
	if t == nil {
		return nil
	}
	if s, ok := t.Summary(); ok {
		return &s
	}
	return nil
}

func sparkline(sum record.Summary) string {
	svg := report.NewSVG(232, 62, "trace of the hold")
	report.Spark(svg, 232, 62, sum)
	return svg.String()
}
