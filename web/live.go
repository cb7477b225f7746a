package web

import (
	"bytes"
	"context"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/live"
)

// verdictView is a result as the right-hand side of a bench says it.
type verdictView struct {
	Sum     record.Summary
	Outcome record.Outcome
	Hole    template.HTML
	Live    bool   // still being read
	Said    string // why there is no result
}

type liveData struct {
	Case    record.Case
	Vehicle record.Vehicle
	Arch    knowledge.Archetype
	Test    evidence.TestFolder
	Modules []record.Device
	Address string // of the module in use
	Volume  string
	Sealed  int
	Open    int // of the seal list
	Max     string
	Gauge   template.HTML
}

func (s *server) liveBench(c *echo.Context) error { return s.showLive(c, nil) }

func (s *server) showLive(c *echo.Context, failed error) error {
	ctx, id := c.Request().Context(), c.Param("id")
	caseID, err := s.shop.TestCase(ctx, id)
	if err != nil {
		return err
	}
	f, err := s.shop.Load(ctx, caseID)
	if err != nil {
		return err
	}
	d := liveData{Case: f.Case, Vehicle: f.Vehicle}
	d.Test, _ = f.Test(id)
	d.Arch, _ = s.shop.Archetype(f.Vehicle)
	d.Max = fmt.Sprintf("%.1f inH2O (%.1f kPa)", d.Arch.MaxPa/units.InH2O, d.Arch.MaxPa/1e3)
	d.Gauge = chargeGauge(d.Arch.MaxPa, d.Arch.MaxVacPa)
	su := d.Test.Setup
	d.Sealed = len(su.Sealed)
	d.Open = max(0, len(d.Arch.Seal)-d.Sealed)
	d.Volume = "by the known orifice"
	if su.Volume > 0 {
		d.Volume = fmt.Sprintf("%.3g L ± %.2g %%", su.Volume*1e3, su.VolumeTolerance*100)
	}
	if d.Modules, err = s.shop.DevicesFor(ctx, record.Module, f.Case.Number); err != nil {
		return err
	}
	if b, ok := s.hub.Look(id); ok {
		d.Address = b.Address()
	}
	p := s.page(c, "Leak-down test, live · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "live.html", p)
	}
	return s.render(c, http.StatusOK, "live.html", p)
}

// liveAct is one press of a button on a live bench. The first press, which takes a
// module, leads to the page again; all others are answered with a sentence or nothing,
// since the page goes on showing what the bench does.
func (s *server) liveAct(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	ctx, id := c.Request().Context(), c.Param("id")
	switch f.text("do") {
	case "join":
		if err := s.hub.Join(ctx, id, f.text("module")); err != nil {
			return s.showLive(c, err)
		}
		return c.Redirect(http.StatusSeeOther, "/tests/"+id+"/live")
	case "leave":
		s.hub.Leave(id)
		return c.Redirect(http.StatusSeeOther, "/tests/"+id+"/live")
	}
	b, ok := s.hub.Look(id)
	if !ok {
		return c.JSON(http.StatusConflict, map[string]string{"say": "This bench is not live any more; load the page again."})
	}
	var err error
	switch do := f.text("do"); do {
	case "start":
		err = b.Start(ctx, record.RunKind(f.text("leg")))
	case "redo":
		err = b.Redo(ctx, record.RunKind(f.text("leg")))
	case "stop":
		err = b.Stop()
	case "mark":
		err = b.Mark(ctx, f.key(), f.text("words"))
	case "move":
		at := f.needed("at", "Start of the hold").number("at", "Start of the hold")
		if err = f.err; err == nil {
			err = b.MoveStart(ctx, f.key(), at)
		}
	case "rig":
		err = b.Rig(ctx, f.text("command"))
	default:
		err = &casework.Problem{Sentence: "this bench does not know what to do"}
	}
	if err != nil {
		text, code := sentence(err)
		if text == "" {
			return err
		}
		return say(c, code, "say", text)
	}
	return c.NoContent(http.StatusNoContent)
}

// streamEvery is how often a page is told what is new: as often as a module reads.
const streamEvery = 100 * time.Millisecond

// point is what is sent of readings: time in s, pressure in inH2O.
type points struct {
	Run  string    `json:"run"`
	From int       `json:"from"`
	T    []float64 `json:"t"`
	P    []float64 `json:"p"`
}

type nowJSON struct {
	InH2O float64 `json:"inh2o"`
	KPa   float64 `json:"kpa"`
	Over  bool    `json:"over"`
	At    float64 `json:"at"`
}

type curve struct {
	T []float64 `json:"t"`
	P []float64 `json:"p"`
}

type estimateJSON struct {
	HTML  string `json:"html"`
	Scale string `json:"scale"`
	Limit *curve `json:"limit,omitempty"`
	Fit   *curve `json:"fit,omitempty"`
}

type newsJSON struct {
	View     *live.View    `json:"view,omitempty"`
	Points   *points       `json:"points,omitempty"`
	Now      *nowJSON      `json:"now"`
	Disk     float64       `json:"disk"`
	Estimate *estimateJSON `json:"estimate,omitempty"`
}

// liveStream tells a page what is new on a bench, as server-sent events. The id of
// an event says how far the page has come, so that a stream taken up again sends
// nothing twice and leaves nothing out.
func (s *server) liveStream(c *echo.Context) error {
	b, ok := s.hub.Look(c.Param("id"))
	if !ok {
		return c.NoContent(http.StatusNoContent) // tells the browser to stop asking
	}
	stream := newEvents(c)
	version, run, from, counted := -1, "", 0, -1
	var last *points // of the leg before, for a page that is opened between two legs
	if id := c.Request().Header.Get("Last-Event-ID"); id != "" {
		// The view is sent again; the readings go on where they ended.
		run, from = resumeAt(id)
	} else {
		last = s.lastLeg(c.Request().Context(), c.Param("id"))
	}
	tick := time.NewTicker(streamEvery)
	defer tick.Stop()
	ctx := c.Request().Context()
	for {
		n := b.Since(version, run, from, counted)
		j := newsJSON{Disk: n.Disk}
		if n.View != nil {
			version, j.View = n.View.Version, n.View
		}
		if n.Now != nil {
			j.Now = &nowJSON{round(n.Now.Pa/units.InH2O, 3), round(n.Now.Pa/1e3, 4), n.Now.Over, n.Now.At}
		}
		if n.Run != run || len(n.Time) > 0 {
			j.Points = thin(points{n.Run, n.From, n.Time, n.Inches})
			run, from = n.Run, n.From+len(n.Time)
		}
		if n.Run == "" && last != nil {
			j.Points = last
		}
		last = nil
		if n.Counted != counted || n.View != nil && n.Run == "" {
			e, err := s.estimate(n)
			if err != nil {
				return err
			}
			counted, j.Estimate = n.Counted, e
		}
		if !stream.send(fmt.Sprintf("%s.%d", run, from), j) {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.hub.Done():
			return nil
		case <-tick.C:
		}
		if now, ok := s.hub.Look(c.Param("id")); !ok || now != b {
			return nil
		}
	}
}

// lastLeg is the newest leg of a test that was judged; nil without one, or when it cannot be
// read: the trace is then left out, as before the first leg.
func (s *server) lastLeg(ctx context.Context, test string) *points {
	caseID, err := s.shop.TestCase(ctx, test)
	if err != nil {
		return nil
	}
	f, err := s.shop.Load(ctx, caseID)
	if err != nil {
		return nil
	}
	t, _ := f.Test(test)
	for _, r := range slices.Backward(t.Runs) {
		if r.EndedAt == nil || r.Struck() || !r.Kind.OfCar() {
			continue
		}
		_, log, err := s.shop.Readings(ctx, r.ID)
		if err != nil {
			return nil
		}
		p := points{Run: r.ID, T: log.Time}
		for _, x := range log.Gauge {
			p.P = append(p.P, (x-t.Setup.Instrument.Zero)/units.InH2O)
		}
		return thin(p)
	}
	return nil
}

// thin rounds readings and sends a long stretch at once in at most 1200 points.
func thin(p points) *points {
	stride := max(1, (len(p.T)+1199)/1200)
	out := points{Run: p.Run, From: p.From, T: []float64{}, P: []float64{}}
	for i := 0; i < len(p.T); i += stride {
		out.T, out.P = append(out.T, round(p.T[i], 3)), append(out.P, round(p.P[i], 3))
	}
	return &out
}

func round(x float64, digits int) float64 {
	k := math.Pow(10, float64(digits))
	return math.Round(x*k) / k
}

// estimate says what is known now: of the leg that runs, or of the test.
func (s *server) estimate(n live.News) (*estimateJSON, error) {
	v := verdictView{Live: n.Run != ""}
	has := false
	switch {
	case n.Estimate != nil && n.Run != "":
		v.Sum, v.Said = n.Estimate.Sum, n.Estimate.Said
		v.Outcome, has = record.Outcome(v.Sum.Verdict), v.Said == ""
		if !has {
			v.Outcome = record.CannotTell
		}
	case n.View != nil && n.Run == "":
		v.Sum, has = n.Test.Summary()
		v.Outcome, v.Said = n.Test.Outcome, n.Test.Problem
	default:
		return nil, nil
	}
	e := &estimateJSON{}
	if has {
		var scale template.HTML
		v.Hole, scale = sized(v.Sum, nil)
		e.Scale = string(scale)
		for _, l := range v.Sum.Legs {
			if n.Estimate != nil && l.Run == n.Estimate.Run {
				if e.Limit == nil {
					e.Limit, e.Fit = &curve{}, &curve{}
				}
				for i := range l.Time {
					t := round(l.Time[i], 2)
					e.Limit.T, e.Limit.P = append(e.Limit.T, t), append(e.Limit.P, round(l.AtLimit[i]/units.InH2O, 3))
					e.Fit.T, e.Fit.P = append(e.Fit.T, t), append(e.Fit.P, round(l.Fitted[i]/units.InH2O, 3))
				}
			}
		}
	}
	var b bytes.Buffer
	if err := s.views["live.html"].ExecuteTemplate(&b, "verdict", v); err != nil {
		return nil, err
	}
	e.HTML = b.String()
	return e, nil
}

// refreshBench tells a live bench that its test was changed elsewhere.
func (s *server) refreshBench(test string) error {
	if b, ok := s.hub.Look(test); ok {
		return b.Refresh()
	}
	return nil
}

// resumeAt reads the id of the last event that a browser had: a run, and how many of its
// readings. What is no such id begins again.
func resumeAt(id string) (run string, from int) {
	run, count, ok := strings.Cut(id, ".")
	n, err := strconv.Atoi(count)
	if !ok || err != nil || n < 0 || len(run) > 64 {
		return "", 0
	}
	return run, n
}
