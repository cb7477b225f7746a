package web

import (
	"cmp"
	"context"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/report"
)

const (
	kindVolume   = units.Volume
	kindPressure = units.Pressure
)

type caseData struct {
	Trims bool // the car has fuel trims that can be read
	evidence.Folder
	Arch    knowledge.Archetype
	Proof   evidence.Proof
	Strip   []entry
	Stages  []stageMark
	Live    []evidence.TestFolder
	Waits   bool
	Faults  []faultFamily // that this car can have
	Leaders []leader      // the likeliest of them, best first
	Part    string        // fault chosen on the Map
	Diff    []difference
	StillOn []knowledge.Test // tests that left something on the car
	Paper   report.Paper
	Map     mapView
	Reason  reasoned
	Cleared []string   // what a finding by elimination would rest on
	Rests   []string   // what singles out the part that is to be written down as found
	Causes  []causeAsk // of what was found, before it is repaired
	Says    proofSays  // of the proof
	Ways    []string   // how this shop goes about what the page is for
	Unknown []string   // makers' codes that nobody has looked up
	History *historyView
	People  []string // who works on the open cases, by initials
}

// causeAsk is a part that was found, and what it may be the victim of.
type causeAsk struct {
	Finding record.Finding
	Name    string
	Causes  []knowledge.Fault // of the Book, on this car
	Others  []knowledge.Fault // what else this car can have
	Must    bool
}

func (s *server) causes(f evidence.Folder, car casework.Car) (out []causeAsk) {
	for _, x := range f.Findings {
		if x.StruckAt != nil || x.Cause != "" {
			continue
		}
		fault, _ := s.shop.Book.Fault(x.Part)
		a := causeAsk{Finding: x, Name: fault.Name}
		for _, y := range s.shop.Book.Faults {
			if y.Key == x.Part || y.Family == "other" || car.Where(y.Key) == "" {
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

// fieldNow is a field of a form, what it is called, and what is saved of it now.
type fieldNow struct{ name, label, saved string }

// differing are the fields of a sent form that are not as they are saved by now.
func differing(c *echo.Context, fields []fieldNow) (out []difference) {
	for _, f := range fields {
		if yours := strings.TrimSpace(strings.Join(c.Request().PostForm[f.name], "; ")); yours != f.saved {
			out = append(out, difference{f.label, f.saved, yours})
		}
	}
	return out
}

func (s *server) caseData(ctx context.Context, id string) (caseData, error) {
	f, err := s.shop.Load(ctx, id)
	if err != nil {
		return caseData{}, err
	}
	d := caseData{Folder: f, Proof: f.Proof(s.shop.Book), StillOn: f.LeftOn(s.shop.Book), Waits: f.Case.WaitUntil != nil && f.Case.WaitUntil.After(s.shop.Now())}
	d.Arch, _ = s.shop.Archetype(f.Vehicle)
	for _, st := range record.Stages() {
		m := stageMark{string(st), stageClass(st, f.Case.Stage)}
		if st == record.Scan && m.Class == "done" && !f.Read() {
			m.Class = "skipped" // nobody has read the car
		}
		d.Stages = append(d.Stages, m)
	}
	for _, t := range f.Tests {
		if t.StruckAt == nil {
			d.Live = append(d.Live, t)
		}
	}
	slices.Reverse(d.Live)
	b, err := s.shop.BookOf(ctx)
	if err != nil {
		return caseData{}, err
	}
	d.Strip, d.History = s.strip(b, f), history(f)
	for _, l := range f.CodeHistory() {
		if g, _ := b.Group(l.Code); !l.Made && knowledge.MakersOwn(l.Code) && g.Key == "" {
			d.Unknown = append(d.Unknown, l.Code)
		}
	}
	return d, nil
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
		t, ok := s.shop.Book.Test(bench.Trims.Key)
		d.Trims = ok && t.Fits(car.Combination)
		d.Reason, th = s.reason(ctx, c, d.Folder, car)
		if th != nil {
			_ = s.shop.KeepNext(ctx, d.Folder, th)
			if turns, err := s.shop.Trail(ctx, d.Folder, th); err == nil {
				for i, e := range d.Strip {
					if turn, ok := turns[e.ID]; ok && (e.Kind == record.ResultEntry || e.Kind == record.TestEntry) {
						d.Strip[i].Slope = slopePlot(slopes(th.State, car, turn))
					}
				}
			}
		}
	}
	if d.People, err = s.shop.Initials(ctx); err != nil {
		return err
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
	return s.saved(c, fm.key(), "/cases/"+c.Param("id")+where)
}

func (s *server) addCodes(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.AddCodes(ctx, f.key(), id, f.text("codes"), obd.CodeStatus(f.text("status")))
	})
}

func (s *server) strike(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		return s.shop.Stamp(ctx, f.key(), id, f.entry(), f.stamp(casework.Strike, casework.Restore))
	})
}

func (s *server) wait(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		until := f.when("until", "Until")
		if f.err != nil {
			return f.err
		}
		return s.shop.Wait(ctx, f.key(), id, casework.NewWait{Kind: record.WaitKind(f.text("kind")), Note: f.text("note"), Until: until})
	})
}

func (s *server) trial(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		m := f.needed("minutes", "Duration").number("minutes", "Duration")
		if f.text("result") == "" {
			f.wrong("result", "Result", "say whether the complaint is gone or came back")
		}
		if f.err != nil {
			return f.err
		}
		return s.shop.TryComplaint(ctx, f.key(), id, casework.NewTrial{How: f.text("how"), Minutes: m, Gone: f.text("result") == "gone"})
	})
}

func (s *server) monitors(c *echo.Context) error {
	return s.act(c, "/proof", func(ctx context.Context, f *form, id string) error {
		return s.shop.Monitors(ctx, f.key(), id, record.Monitors(f.text("monitors")))
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
	return s.saved(c, f.key(), "/tests/"+id)
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
		d.Diff = differing(c, []fieldNow{{"complaint", "Complaint", d.Case.Complaint}, {"circumstances", "When it happens", d.Case.Circumstances},
			{"recent_work", "Worked on lately", d.Case.RecentWork}, {"deadline", "Inspection", d.Case.Deadline}, {"who", "Who works on it", d.Case.Who}})
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
		err = s.shop.EditCase(c.Request().Context(), f.key(), c.Param("id"), v,
			casework.CaseWords{Complaint: f.text("complaint"), Circumstances: f.text("circumstances"), RecentWork: f.text("recent_work"), Deadline: f.text("deadline"), Who: f.text("who")})
	}
	if err != nil {
		return s.showEdit(c, err)
	}
	return s.saved(c, f.key(), "/cases/"+c.Param("id"))
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
		d.Faults, d.Leaders = s.canHave(d.Folder), s.leaders(c.Request().Context(), d.Folder)
		if d.Part = c.QueryParam("part"); d.Part == "" && len(d.Leaders) > 0 {
			d.Part = d.Leaders[0].Key
		}
		if k := cmp.Or(c.FormValue("part"), d.Part); k != "" && err == nil {
			odds, err := s.shop.Odds(c.Request().Context(), d.Folder, k)
			if err != nil {
				odds = 0 // what tried the part by itself still counts
			}
			d.Rests = car.RestsOn(d.Folder, k, odds)
		}
		if err == nil {
			d.Cleared = car.Cleared(d.Folder)
		}
	case view == "repair.html":
		d.Causes = s.causes(d.Folder, car)
		d.Ways, err = s.shop.PartsWays(c.Request().Context(), d.Folder, car)
	case view == "proof.html":
		d.Says = s.proves(d.Folder, d.Proof, car)
		d.Ways, err = s.shop.CodesWays(c.Request().Context(), d.Folder)
	}
	if err != nil && d.Arch.Key != "" {
		return err
	}
	p := s.page(c, title+" · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, view, p)
	}
	return s.render(c, http.StatusOK, view, p)
}

// leader is a suspect at the head of a list of parts.
type leader struct {
	Key, Name string
	Percent   int
	Try       string // where it is tested by itself; empty where no test of the Book does
}

// mostLeaders is how many suspects stand at the head of the list of parts.
const mostLeaders = 6

// Leads reports whether a fault stands at the head of the list.
func (d caseData) Leads(key string) bool {
	return slices.ContainsFunc(d.Leaders, func(l leader) bool { return l.Key == key })
}

// leaders are the likeliest suspects of a case, best first; none where the odds cannot be
// worked out.
func (s *server) leaders(ctx context.Context, f evidence.Folder) (out []leader) {
	t, err := s.shop.Think(ctx, f)
	if err != nil {
		return nil
	}
	marg := t.State.Marginals()
	order := make([]int, len(marg))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(marg[b], marg[a]) })
	for _, i := range order[:min(mostLeaders, len(order))] {
		x := t.State.Suspects[i]
		l := leader{Key: x.Key, Name: x.Name, Percent: int(marg[i]*100 + 0.5)}
		for _, a := range slices.Concat(t.Plan.Actions, t.Plan.Without) {
			if a.Part == x.Part {
				l.Try = "/cases/" + f.Case.ID + "/do/" + a.Test + "?on=" + a.Part
				break
			}
		}
		out = append(out, l)
	}
	return out
}

// canHave lists the faults that a case's car can have, by family.
func (s *server) canHave(f evidence.Folder) (out []faultFamily) {
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
	n := casework.NewFinding{Part: f.text("part"), Place: f.text("place"), How: f.text("how"), By: record.Ground(f.text("by")), Photo: f.photo()}
	err := f.err
	if err == nil {
		err = s.shop.AddFinding(c.Request().Context(), f.key(), c.Param("id"), n)
	}
	if err != nil {
		return s.showForm(c, "found.html", "Found", err)
	}
	return s.saved(c, f.key(), "/cases/"+c.Param("id"))
}

func (s *server) repair(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	n := casework.NewRepair{Action: f.text("action"), Parts: f.text("parts"), Seals: f.text("seals"), CostCents: f.cents("cost", "Cost"),
		Minutes: f.whole("minutes", "Minutes"), TorqueNm: f.si("torque", "Torque", units.Torque, "N·m"),
		Lasting: f.text("lasting") != "no", WaitUntil: f.when("until", "Expected"), WaitNote: f.text("note"), Causes: map[string]string{}, Why: f.text("why"), Photo: f.photo()}
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
	return s.saved(c, f.key(), "/cases/"+c.Param("id"))
}

func (s *server) photo(c *echo.Context) error {
	p, err := s.shop.Photo(c.Request().Context(), c.Param("hash"))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Cache-Control", "private, max-age=31536000, immutable")
	return c.Blob(http.StatusOK, p.Mime, p.Data)
}

// traces draws holds before and after the repair on one plot; empty without any.
func traces(before, after *record.Summary, w, h float64) template.HTML {
	svg := report.NewSVG(w, h, "pressure traces before and after the repair")
	if !report.Comparison(svg, w, h, before, after) {
		return ""
	}
	return template.HTML(svg.String())
}

func sparkline(sum record.Summary) string {
	svg := report.NewSVG(232, 62, "trace of the leak-down test")
	report.Spark(svg, 232, 62, sum)
	return svg.String()
}
