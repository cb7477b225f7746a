package web

import (
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
)

// doPage is the plain bench of a test: set-up, its phases with what is read in each, and what
// the readings come to.
type doPage struct {
	evidence.Folder
	Stages   []stageMark
	Test     knowledge.Test
	On       plumbing.Part
	Action   *actionView
	Phases   []doPhase
	Parts    []plumbing.Part // that can be named: exits, or what was looked at
	Targets  []plumbing.Part // parts that this test can try
	Entries  []plumbing.Part // where smoke may go in
	Look     bool            // the whole car, or one part alone
	ByHand   bool            // no rule judges it
	Cautions []string
	Says     string // what the readings came to, asked for before they are written down
	SaysAs   string // the class of that
	Repeat   *record.Result
	Before   []evidence.Line // readings of what is repeated
	Overrule bool            // the form that overrules them stands open
	Stated   []evidence.CarValues
	SetUps   []setUpView   // drawings
	Bench    string        // the test as it was read live, of which the readings are
	With     string        // what they were measured with
	Picture  template.HTML // of what was typed or read
	Live     bool          // it can be read live
	Drive    bool          // it can be read from the log of a drive
	Walk     *walkView     // of a test that asks for one measurement after another
	Night    *nightView
	Choose   bool // of such a test: the part is still to be chosen
}

// doPhase is a stretch of the test, as it is done.
type doPhase struct {
	Steps []string
	Wait  string
	Reads []doRead
}

// doRead is one channel as the page reads it.
type doRead struct {
	knowledge.Reading
	As       string // quantity, number, choice, cycles, list or places
	Field    string
	Measures string // of a quantity
	When     string // of cycles: without power, with vacuum
	Fields   []string
	Optional bool
	Open     bool   // OL is an answer
	Asked    bool   // the reading that is missing, or contradicts another
	Usual    string // of places: the word that is chosen at first
	Expects  bool   // something may come out where it must
	Nothing  string
}

// How many places a page offers, and how many a form may name.
const (
	mostExits  = 4
	mostPlaces = 12
)

// channelFields are how many fields a channel has on the page: its repetitions.
func channelFields(c bench.Channel) int {
	switch {
	case c.Kind == bench.Places && c.Optional:
		return 2
	case c.Kind == bench.Places:
		return mostExits
	case c.Kind == bench.Cycles:
		return max(c.Times, 1)
	case c.Fields > 0:
		return c.Fields
	case c.Times > 1:
		return c.Times + 1
	}
	return 1
}

func (s *server) doView(c *echo.Context) error { return s.showDo(c, nil, "") }

// showDo shows the page of the test that was asked for; says is what its readings came to, when that
// was asked.
func (s *server) showDo(c *echo.Context, failed error, says string) error {
	return s.showTest(c, c.Param("test"), failed, says)
}

// showTest shows a test's page.
func (s *server) showTest(c *echo.Context, test string, failed error, says string) error {
	ctx := c.Request().Context()
	f, err := s.shop.Load(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return err
	}
	t, ok := s.shop.Book.Test(test)
	b := bench.For(t)
	if !ok || b.Odds == bench.FromHole || b.Odds == bench.FromCodes {
		return echo.NewHTTPError(http.StatusNotFound, "There is no such bench; tests of the Book have theirs, holds and scans their own.")
	}
	d := doPage{Folder: f, Test: t, Look: b.On == bench.AnyPart, ByHand: b.Odds == bench.ByHand, Says: says, Live: len(b.Phases) > 0, Drive: t.Key == bench.Trims.Key}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	p := s.page(c, t.Name+" · "+f.Case.Number, "slate", nil)
	on := cmp.Or(c.FormValue("on"), c.QueryParam("on"))
	picture, read, err := s.fromBench(c, &d, &p)
	if err != nil {
		return err
	}
	asked := failed == nil && c.Request().Method == http.MethodPost
	if d.Bench != "" {
		on = cmp.Or(c.FormValue("on"), p.Form.Get("on"))
	}
	d.repeats(cmp.Or(c.FormValue("repeat_of"), c.QueryParam("repeat"), p.Form.Get("repeat_of")), car)
	if d.Repeat != nil {
		on = d.Repeat.Part
	}
	d.On, _ = car.Graph.Part(on)
	if d.Stated, err = s.statedFor(c.Request().Context(), f.Vehicle, func(v evidence.CarValues) bool {
		return strings.HasPrefix(v.Key, t.Key+"/") && (v.Part == on || on == "")
	}); err != nil {
		return err
	}
	d.choices(car, b)
	d.planned(s, c, car, on)
	d.Phases = phases(t, b, car, d.On)
	d.room(p.Form)
	arch, _ := s.shop.Book.Archetype(car.Combination.Vapour)
	site := bench.Site{Seal: arch.Settings(), Entry: arch.Entry, Part: d.On.Key}
	if len(d.Entries) > 0 && d.On.Key != "" {
		site.Entry = d.On.Key
	}
	d.SetUps = setUps(t, car, site)
	var pr *casework.Problem
	if errors.As(failed, &pr) {
		d.ask(pr.Field)
		d.Overrule = pr.Field == "why"
	}
	d.Cautions, d.Night = s.cautions(t.Cautions), s.night(ctx, f, t)
	if asked {
		p.Form = typed(c)
	}
	if d.Bench == "" || asked || failed != nil { // as the form has it
		read = (&form{c: c}).readings(t, b)
		if b.Picture != nil {
			picture = b.Picture(car.Subject(d.On.Key), read)
		}
	}
	d.Walk, d.Choose = walkOf(t, b, car.Subject(d.On.Key), read), circuitless(b, d.On)
	d.Picture = template.HTML(report.Scene(picture, report.Plan{Graph: car.Graph, Sheet: car.Sheet()}))
	p.Data = d
	if failed != nil {
		return s.again(c, failed, "do.html", p)
	}
	return s.render(c, http.StatusOK, "do.html", p)
}

// choices are the parts that can be named, tried, or let smoke in.
func (d *doPage) choices(car casework.Car, b bench.Test) {
	around := car.Graph.Parts
	if b.On == bench.OnePart { // of a part by itself only what leads into it can be named
		around = car.Graph.Lines(d.On.Key)
	}
	for _, x := range around {
		if x.Name != "" && x.Kind != plumbing.Block {
			d.Parts = append(d.Parts, x)
		}
	}
	slices.SortStableFunc(d.Parts, func(a, b plumbing.Part) int { return strings.Compare(a.Name, b.Name) })
	d.Targets = car.Targets(d.Test.Key)
	if b.Odds == bench.FromSmoke {
		d.Entries = car.SmokeEntries()
	}
}

// cautions are the Book's, each once, in their order.
func (s *server) cautions(keys []string) (out []string) {
	for _, k := range keys {
		if w := s.shop.Book.Caution(k); !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	return out
}

// room gives the places of a form as many fields as it fills, and one more.
func (d *doPage) room(form url.Values) {
	for i := range d.Phases {
		for j := range d.Phases[i].Reads {
			r := &d.Phases[i].Reads[j]
			for n := len(r.Fields); r.As == "places" && n <= mostPlaces && form.Get(fmt.Sprintf("%s-%d", r.Field, n-1)) != ""; n++ {
				r.Fields = append(r.Fields, fmt.Sprintf("%s-%d", r.Field, n))
			}
		}
	}
}

// fromBench takes over what was read live: the form holds it as if it had been typed, and the
// rest is left to eyes and hands. It returns the bench's picture and readings.
func (s *server) fromBench(c *echo.Context, d *doPage, p *page) (bench.Scene, bench.Readings, error) {
	id := cmp.Or(c.FormValue("bench"), c.QueryParam("bench"))
	if id == "" {
		return nil, nil, nil
	}
	l, err := s.shop.LiveTest(c.Request().Context(), id)
	if err != nil || l.Case.ID != d.Case.ID || l.Test.Key != d.Test.Key {
		return nil, nil, &casework.Problem{Sentence: "These readings were made in another test; load the page again."}
	}
	d.Bench, d.With = id, casework.MeasuredWith(l.Runs)
	p.Form = url.Values{"on": {l.Test.Part}, "repeat_of": {l.Test.RepeatOf}}
	for key, r := range l.Readings() {
		for i, x := range r.Places {
			field := fmt.Sprintf("read-%s-%d", key, i)
			p.Form.Set(field, x.Part)
			p.Form.Set(field+"-size", x.Size)
			if x.Expected {
				p.Form.Set(field+"-expected", "1")
			}
		}
		if c, _ := l.Bench.Channel(key); c.Kind == bench.Places && len(r.Places) == 0 {
			p.Form.Set("read-"+key+"-none", "1")
		}
		for i, w := range ingest.WriteChannel(r) {
			p.Form.Set(fmt.Sprintf("read-%s-%d", key, i), w)
		}
	}
	return l.Bench.Scene(l.Known(nil, 0)), l.Readings(), nil
}

// repeats takes up the result that this one is to repeat.
func (d *doPage) repeats(id string, car casework.Car) {
	for i, x := range d.Results {
		if x.ID == id && x.Test == d.Test.Key && !x.Struck() {
			d.Repeat, d.Before = &d.Results[i], car.Lines(x)
		}
	}
}

// planned takes over what the plan says of this test.
func (d *doPage) planned(s *server, c *echo.Context, car casework.Car, on string) {
	th, err := s.shop.Think(c.Request().Context(), d.Folder)
	if err != nil {
		return
	}
	for _, a := range slices.Concat(th.Plan.Actions, th.Plan.Without) {
		if a.Test != d.Test.Key || a.Part != on && on != "" && len(d.Entries) == 0 {
			continue
		}
		if len(d.Entries) > 0 && on == "" {
			d.On, _ = car.Graph.Part(a.Entry)
		}
		v := s.action(a, "/cases/"+d.Case.ID, car)
		d.Action = &v
		return
	}
}

// ask marks the reading that is asked for.
func (d *doPage) ask(channel string) {
	for i := range d.Phases {
		for j := range d.Phases[i].Reads {
			r := &d.Phases[i].Reads[j]
			r.Asked = r.Key == channel
		}
	}
}

// phases are the test's own, each with what is read in it; what no instrument gives comes last.
func phases(t knowledge.Test, b bench.Test, car casework.Car, on plumbing.Part) (out []doPhase) {
	done := map[string]bool{}
	site := bench.Site{Graph: car.Graph, Part: on.Key}
	for _, p := range b.Phases {
		x := doPhase{Wait: p.WaitWords()}
		for _, st := range p.Do {
			if name, ok := site.Name(st); ok {
				x.Steps = append(x.Steps, st.Words(name))
			}
		}
		for _, k := range p.Read {
			if r, ok := readField(t, b, k, on); ok {
				done[k] = true
				x.Reads = append(x.Reads, r)
			}
		}
		out = append(out, x)
	}
	var rest doPhase
	for _, c := range b.Channels {
		if r, ok := readField(t, b, c.Key, on); ok && !done[c.Key] {
			rest.Reads = append(rest.Reads, r)
		}
	}
	if len(rest.Reads) > 0 {
		out = append(out, rest)
	}
	return out
}

// readField is how a channel is read on the page.
func readField(t knowledge.Test, b bench.Test, key string, on plumbing.Part) (doRead, bool) {
	c, ok := b.Channel(key)
	e, has := t.Read(key)
	if !ok || !has || c.Kind == bench.Trace || c.Kind == bench.Drive || c.Worked {
		return doRead{}, false
	}
	r := doRead{Reading: e, Field: "read-" + key, Optional: c.Optional, Open: c.Open, Expects: c.Kind == bench.Places && b.Odds != bench.FromEyes}
	r.As = map[bench.Kind]string{bench.Number: "number", bench.Count: "number", bench.Choice: "choice", bench.Cycles: "cycles", bench.List: "list", bench.Places: "places", bench.Text: "text"}[c.Kind]
	if k, ok := units.KindOf(e.Unit); ok && c.Kind == bench.Number {
		r.As, r.Measures = "quantity", kindNames[k]
	}
	for i := range channelFields(c) {
		r.Fields = append(r.Fields, fmt.Sprintf("%s-%d", r.Field, i))
	}
	r.When = bench.WhenWords(key, on)
	if c.Kind == bench.Places && len(c.Words) > 0 {
		r.Usual = c.Words[(len(c.Words)-1)/2]
	}
	if r.Nothing = "nothing comes out"; !r.Expects {
		r.Nothing = "looked, nothing found"
	}
	return r, true
}

// readings reads the fields of a test.
func (f *form) readings(t knowledge.Test, b bench.Test) bench.Readings {
	out := bench.Readings{}
	for _, c := range b.Channels {
		e, _ := t.Read(c.Key)
		if c.Worked {
			continue
		}
		if c.Kind == bench.Places {
			if x, ok := f.places(c); ok {
				out[c.Key] = x
			}
			continue
		}
		var typed []string
		for i := range channelFields(c) {
			typed = append(typed, f.text(fmt.Sprintf("read-%s-%d", c.Key, i)))
		}
		x, ok, err := ingest.ReadChannel(c, e, typed)
		if err != nil && f.err == nil {
			f.err = &casework.Problem{Field: c.Key, Sentence: casework.Sentence(err.Error())}
		}
		if ok {
			out[c.Key] = x
		}
	}
	return out
}

// places reads the places of a channel; that there are none has to be said.
func (f *form) places(c bench.Channel) (x bench.Reading, ok bool) {
	for i := range mostPlaces {
		field := fmt.Sprintf("read-%s-%d", c.Key, i)
		if part := f.text(field); part != "" {
			x.Places = append(x.Places, bench.Place{Part: part, Size: f.text(field + "-size"), Expected: f.text(field+"-expected") != ""})
		}
	}
	nothing := f.text("read-"+c.Key+"-none") != ""
	if nothing && len(x.Places) > 0 && f.err == nil {
		f.err = &casework.Problem{Field: c.Key, Sentence: "A place is named and \"nothing\" is ticked too: keep one of them."}
	}
	return x, nothing || len(x.Places) > 0
}

func (s *server) addResult(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	t, _ := s.shop.Book.Test(c.Param("test"))
	n := casework.NewResult{Test: c.Param("test"), Part: f.text("on"), Outcome: f.text("outcome"), Why: f.text("why"), Note: f.text("note"), RepeatOf: f.text("repeat_of"), Bench: f.text("bench"), Readings: f.readings(t, bench.For(t)), Photo: f.photo()}
	ctx, id := c.Request().Context(), c.Param("id")
	if f.err != nil {
		return s.showDo(c, f.err, "")
	}
	if f.text("check") != "" {
		v, err := s.shop.JudgeResult(ctx, id, n)
		if bench.For(t).Walk != nil && v.Ask != "" { // the page says itself what it wants next
			return s.showDo(c, nil, "")
		}
		if err != nil {
			return s.showDo(c, err, "")
		}
		o, _ := t.Outcome(v.Outcome)
		return s.showDo(c, nil, casework.Upper(o.Name)+". "+v.Says)
	}
	if _, err := s.shop.AddResult(ctx, f.key(), id, n); err != nil {
		return s.showDo(c, err, "")
	}
	if n.RepeatOf != "" {
		return s.saved(c, f.key(), "/cases/"+id+"/proof")
	}
	return s.saved(c, f.key(), "/cases/"+id)
}
