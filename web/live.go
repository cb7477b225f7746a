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
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/instrument"
	"wexter/live"
	"wexter/report"
)

// verdictView is a result as the right-hand side of a bench says it.
type verdictView struct {
	Sum     record.Summary
	Outcome record.Outcome
	Hole    template.HTML
	Live    bool   // still being read
	Said    string // why there is no result
}

// soFarView is what the readings of any other test come to so far.
type soFarView struct {
	Outcome string // in words; empty: none yet
	Class   string
	Says    string
	Lines   []evidence.Line
	Figures []bench.Figure
	Live    bool // still being read
	More    bool // something is still to be read
}

type liveData struct {
	Case     record.Case
	Vehicle  record.Vehicle
	Name     string // of the test
	ID       string
	Seated   bool // instruments read it
	Wants    []wantView
	Cautions []string
	Repeat   bool
	Hold     *holdSide // of a leak-down test
	Do       *doSide   // of any other
	Taps     []bench.Tap
	Places   []plumbing.Part  // that can be named, where the test takes places
	Sizes    []knowledge.Word // of what comes out there
	Turns    record.Turns
	Runs     []ranView // legs that are in
	Done     string    // where to go when all is in
	DoneSays string
}

// ranView is a leg that was read.
type ranView struct {
	ID, Name, Says string
	At             time.Time
	Readings       int
}

// holdSide is what the page of a hold shows of its set-up.
type holdSide struct {
	Volume string
	Sealed int
	Steps  int // of the seal list
	Open   int
	Max    string
	Gauge  template.HTML
}

// doSide is what the page of any other test shows of its set-up.
type doSide struct {
	SetUp []knowledge.Step
	Typed string // the page on which it is typed
	// Stored are the codes with which the car's own check may not run, and Scan the page on which they are
	// saved and cleared.
	Stored, Scan string
	Night        *nightView
}

// wantView is something that a test reads, and the instruments that may give it.
type wantView struct {
	Key, Field, Name string
	Held             string // what is held to the place where it is read
	Reads            string // of the test's readings
	Optional         bool
	Options          []seatOption
	Same             bool // the first instrument may give it as well
	Alone            bool // nothing is chosen for it, and the first does not give it
}

type seatOption struct {
	Device record.Device
	Chosen bool
	Past   bool // its date
	May    bool // nobody knows yet whether it measures that
}

func (s *server) liveBench(c *echo.Context) error { return s.showLive(c, nil) }

func (s *server) showLive(c *echo.Context, failed error) error {
	ctx, id := c.Request().Context(), c.Param("id")
	l, err := s.shop.LiveTest(ctx, id)
	if err != nil {
		return err
	}
	f, err := s.shop.Load(ctx, l.Case.ID)
	if err != nil {
		return err
	}
	d := liveData{Case: f.Case, Vehicle: f.Vehicle, Name: l.Name(), ID: id, Repeat: l.Test.RepeatOf != "", Taps: l.Bench.Live.Taps, Turns: l.Test.Turns,
		Done: "/cases/" + f.Case.ID, DoneSays: "Back to the case"}
	if l.Holds() {
		d.Hold = holdOf(l)
		if d.Repeat {
			d.Done, d.DoneSays = d.Done+"/proof", "Back to the proof"
		}
	} else {
		d.Done, d.DoneSays = fmt.Sprintf("/cases/%s/do/%s?bench=%s", f.Case.ID, l.Test.Key, id), "Write the result"
		if l.Test.Key == bench.Trims.Key {
			d.Done, d.DoneSays = "/tests/"+id+"/drive", "See what it says"
		}
		d.Do = &doSide{SetUp: l.Entry.Setup, Typed: fmt.Sprintf("/cases/%s/do/%s?on=%s", f.Case.ID, l.Test.Key, l.Test.Part), Stored: strings.Join(l.Stored(), ", "), Scan: "/cases/" + f.Case.ID + "/scan", Night: s.night(ctx, f, l.Entry)}
	}
	d.places(l)
	for _, r := range l.Runs {
		if r.EndedAt != nil {
			d.Runs = append(d.Runs, ranView{r.ID, l.StretchName(r.Kind), r.Says, r.At, r.Readings})
		}
	}
	d.Cautions = s.cautions(l.Cautions())
	if d.Wants, err = s.wants(ctx, l); err != nil {
		return err
	}
	_, d.Seated = s.hub.Look(id)
	p := s.page(c, d.Name+", live · "+d.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "live.html", p)
	}
	return s.render(c, http.StatusOK, "live.html", p)
}

// places are the parts of the EVAP system that can be named while the test is read, and what may come
// out of them; none where the test takes none.
func (d *liveData) places(l casework.LiveTest) {
	car, ok := l.Car()
	e, has := l.Entry.Read(l.Bench.PlaceChannel())
	if !ok || !has || l.Bench.On != bench.SealedSystem {
		return
	}
	d.Sizes = e.Words
	for _, p := range car.Graph.Parts {
		if p.Family == "vapour" && p.Name != "" {
			d.Places = append(d.Places, p)
		}
	}
}

// holdOf is what the page of a hold shows of its set-up.
func holdOf(l casework.LiveTest) *holdSide {
	su, arch := l.Test.Setup, l.Arch
	h := &holdSide{Volume: "by the known orifice", Sealed: len(su.Sealed), Steps: len(arch.Seal), Open: l.Unsealed(),
		Max: fmt.Sprintf("%.1f inH2O (%.1f kPa)", arch.MaxPa/units.InH2O, arch.MaxPa/1e3), Gauge: chargeGauge(arch.MaxPa, arch.MaxVacPa)}
	if su.Volume > 0 {
		h.Volume = fmt.Sprintf("%.3g L ± %.2g %%", su.Volume*1e3, su.VolumeTolerance*100)
	}
	return h
}

// mostNamed is how many readings are named of those that come of one instrument.
const mostNamed = 4

// sameAsFirst is the choice of a further quantity that the first instrument gives as well.
const sameAsFirst = "same"

// wants lists what a test reads with the instruments that may give it, the car's own first; those
// that are known to give it come before those that may.
func (s *server) wants(ctx context.Context, l casework.LiveTest) (out []wantView, err error) {
	for _, w := range l.Bench.Wants() {
		kind := record.Module
		v := wantView{Key: w.Key, Field: "seat-" + w.Key, Name: record.Quantity(w.Key).Words(), Optional: w.Optional, Held: w.Held}
		if w.Key == bench.LiveData {
			kind, v.Name = record.Adapter, "live data of the control unit"
		}
		var reads []string
		for _, k := range w.Reads {
			if r, ok := l.Entry.Read(k); ok {
				reads = append(reads, r.Name)
			}
		}
		if more := len(reads) - mostNamed; more > 1 {
			reads = append(reads[:mostNamed], fmt.Sprintf("and %d more", more))
		}
		v.Reads = strings.Join(reads, ", ")
		ds, err := s.shop.DevicesFor(ctx, kind, l.Case.Number)
		if err != nil {
			return nil, err
		}
		chosen := -1
		for _, d := range ds {
			has := gives(d, w)
			if has == record.GivesNot {
				continue
			}
			if has == record.MayGive { // it is asked now: whoever loads the page again sees only what fits
				_, _ = s.hub.Watch(d)
			}
			o := seatOption{Device: d, Past: d.Past(s.shop.Now()), May: has == record.MayGive}
			if i := slices.IndexFunc(l.Test.Seats, func(x record.Seat) bool { return x.Want == w.Key && x.Device == d.ID }); i >= 0 {
				chosen = len(v.Options)
			}
			v.Options = append(v.Options, o)
		}
		if chosen < 0 {
			chosen = usualSeat(v, l)
		}
		if chosen >= 0 {
			v.Options[chosen].Chosen = true
		}
		if len(out) > 0 {
			v.Same = w.Key != bench.LiveData
			i := slices.IndexFunc(out[0].Options, func(o seatOption) bool { return o.Chosen })
			v.Alone = chosen < 0 && (i < 0 || gives(out[0].Options[i].Device, w) == record.GivesNot)
		}
		out = append(out, v)
	}
	return out, nil
}

// usualSeat is the option that is chosen when nobody has chosen: one that is called what is to be
// held there; of the car's own instruments the first that gives it; then the first at all. Of what
// the verdict can do without, none.
func usualSeat(v wantView, l casework.LiveTest) int {
	wants := l.Bench.Wants()
	// Smoke, and a part on a pump, can be judged without any instrument, but the first thing that the test
	// reads there tells most. What is felt or heard on the whole car wants none.
	i := slices.IndexFunc(wants, func(w bench.Want) bool { return w.Key == v.Key })
	only := l.Bench.On != bench.WholeCar && i == 0 && wants[0].Optional || i >= 0 && wants[i].Usual
	if v.Optional && !only || len(v.Options) == 0 {
		return -1
	}
	for _, fits := range []func(seatOption) bool{
		func(o seatOption) bool {
			return v.Held != "" && o.Device.For == l.Case.Number && strings.Contains(o.Device.Name, v.Held)
		},
		func(o seatOption) bool { return v.Held != "" && strings.Contains(o.Device.Name, v.Held) },
		func(o seatOption) bool { return o.Device.For == l.Case.Number && !o.May },
		func(o seatOption) bool { return o.Device.For == l.Case.Number },
		func(o seatOption) bool { return !o.May },
	} {
		if i := slices.IndexFunc(v.Options, fits); i >= 0 {
			return i
		}
	}
	return 0
}

// seats reads which instruments were chosen.
func (f *form) seats(t bench.Test) (out record.Seats) {
	first := ""
	for _, w := range t.Wants() {
		d := f.text("seat-" + w.Key)
		if d == sameAsFirst {
			d = first
		}
		if first == "" {
			first = d
		}
		if d != "" {
			out = append(out, record.Seat{Want: w.Key, Device: d})
		}
	}
	return out
}

// hand is the window that presses, with the name of its screen. What is no name of a window is
// nobody's.
func (f *form) hand() live.Hand {
	h := live.Hand{ID: f.text("hand"), Who: screenOf(f.c.Request()), Screen: "bench page"}
	if len(h.ID) > 40 || strings.Trim(h.ID, "0123456789abcdef") != "" {
		h.ID = ""
	}
	if f.text("screen") == "bay" {
		h.Screen = "bay view"
	}
	return h
}

// liveAct is one press of a button on a live bench. The first press, which takes instruments,
// leads to the page again; all others are answered with a sentence or nothing, since the page
// goes on showing what the bench does.
func (s *server) liveAct(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	ctx, id := c.Request().Context(), c.Param("id")
	switch f.text("do") {
	case "join":
		l, err := s.shop.LiveTest(ctx, id)
		if err != nil {
			return err
		}
		if err := s.hub.Join(ctx, id, f.seats(l.Bench)); err != nil {
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
	if err := s.work(ctx, f, b); err != nil {
		text, code := sentence(err)
		if text == "" {
			return err
		}
		return say(c, code, "say", casework.Sentence(text))
	}
	return c.NoContent(http.StatusNoContent)
}

// work does what a press asks for. Who only watches may stop and open the rig, and take over.
func (s *server) work(ctx context.Context, f *form, b *live.Bench) error {
	do, hand := f.text("do"), f.hand()
	safe := do == "stop" || do == "rig" && f.text("command") == instrument.Open
	if !safe && do != "over" {
		if err := b.May(ctx, hand); err != nil {
			return err
		}
	}
	leg := record.RunKind(f.text("leg"))
	switch do {
	case "over":
		return b.TakeOver(ctx, hand)
	case "start":
		return b.Start(ctx, leg)
	case "redo":
		return b.Redo(ctx, leg)
	case "back":
		return b.TakeBack(ctx, leg)
	case "onward":
		return b.Onward(ctx)
	case "stop":
		return b.Stop()
	case "mark":
		return b.Mark(ctx, f.key(), f.text("tap"), f.text("words"))
	case "place":
		return s.place(ctx, f, b)
	case "move":
		at := f.needed("at", "Start of the hold").number("at", "Start of the hold")
		if f.err != nil {
			return f.err
		}
		return b.MoveStart(ctx, f.key(), at)
	case "rig":
		return b.Rig(ctx, f.text("command"))
	}
	return &casework.Problem{Sentence: "this bench does not know what to do"}
}

// place notes what is seen at a part, with a photo of it where there is one: that is kept as a note of
// the case.
func (s *server) place(ctx context.Context, f *form, b *live.Bench) error {
	photo := f.photo()
	if f.err != nil {
		return f.err
	}
	part, what := f.text("part"), f.text("what")
	if part == "" || what == "" {
		return &casework.Problem{Sentence: "Say at which part, and what is seen there."}
	}
	if err := b.Place(ctx, f.key(), part, what); err != nil || photo == nil {
		return err
	}
	_, l := b.Picture()
	return s.shop.AddNote(ctx, f.key()+"-photo", l.Case.ID, casework.NewNote{Kind: record.Noted, Text: l.Name() + ". " + l.PlaceWords(part, what), Photo: photo})
}

// courses are what suspects would show in the leg that is read, for a picture behind which they are drawn. They are
// worked out beside the stream, once a leg.
type courses struct {
	shop *casework.Shop
	test string
	leg  record.RunKind
	asks bool // for this leg they were asked for
	got  chan []bench.Course
	list []bench.Course
}

// turn takes the leg that is read now.
func (k *courses) turn(leg record.RunKind) {
	if leg != k.leg {
		*k = courses{shop: k.shop, test: k.test, leg: leg}
	}
}

// behind is a picture with its courses, as soon as they are there.
func (k *courses) behind(ctx context.Context, s bench.Scene) bench.Scene {
	x, ok := s.(bench.Behind)
	if !ok || k.leg == "" {
		return s
	}
	if !k.asks {
		k.asks, k.got = true, make(chan []bench.Course, 1)
		asked := *k // the next leg may begin meanwhile
		go func() {
			told, err := asked.shop.Foretell(ctx, asked.test, asked.leg, x.Column())
			var out []bench.Course
			for _, f := range told {
				out = append(out, bench.Course{Name: f.Name, T: f.Time, V: f.Gauge})
			}
			if err != nil { // the picture goes on without
				out = nil
			}
			asked.got <- out
		}()
	}
	select {
	case k.list = <-k.got:
	default:
	}
	return x.With(k.list)
}

// streamEvery is how often a page is told what is new: as often as a module reads.
const streamEvery = 100 * time.Millisecond

// scene draws the picture of a live test. A tap on a part of it chooses the part.
func scene(s bench.Scene, l casework.LiveTest) string {
	on := report.Plan{Link: func(part string) string { return "#at-" + part }}
	if car, ok := l.Car(); ok {
		on.Graph, on.Sheet = car.Graph, car.Sheet()
	}
	return report.Scene(s, on)
}

// drawnEvery is how many times it is told meanwhile before the picture of a test is drawn anew.
const drawnEvery = 4

// points are what is sent of readings: times in s, and a column of each quantity in the bay's unit.
type points struct {
	Run  string          `json:"run"`
	From int             `json:"from"`
	T    []float64       `json:"t"`
	C    []record.Column `json:"c"`
}

// nowJSON are the readings of this moment: of each column, null where nothing is read.
type nowJSON struct {
	V    record.Column `json:"v"`
	Over []bool        `json:"over"`
	At   float64       `json:"at"`
}

type curve struct {
	T []float64 `json:"t"`
	P []float64 `json:"p"`
}

type estimateJSON struct {
	HTML  string `json:"html"`
	Says  string `json:"says"` // the verdict in a few words, to be shown large or spoken
	Class string `json:"class"`
	Scale string `json:"scale"`
	Limit *curve `json:"limit,omitempty"`
	Fit   *curve `json:"fit,omitempty"`
}

type newsJSON struct {
	View     *live.View    `json:"view,omitempty"`
	Points   *points       `json:"points,omitempty"`
	Now      *nowJSON      `json:"now"`
	Disk     float64       `json:"disk"`
	Drives   bool          `json:"drives"` // this window does
	Estimate *estimateJSON `json:"estimate,omitempty"`
	Picture  *string       `json:"picture,omitempty"` // of the test, when it has changed
}

// liveStream tells a page what is new on a bench, as server-sent events. The id of
// an event says how far the page has come, so that a stream taken up again sends
// nothing twice and leaves nothing out.
func (s *server) liveStream(c *echo.Context) error {
	b, ok := s.hub.Look(c.Param("id"))
	if !ok {
		return c.NoContent(http.StatusNoContent) // tells the browser to stop asking
	}
	stream, hand := newEvents(c), c.QueryParam("hand")
	version, run, from, counted := -1, "", 0, -1
	suspects := courses{shop: s.shop, test: c.Param("id")}
	picture, drawn := "", 0 // the one that was sent last, and how many ticks ago one was drawn
	var last *points        // of the leg before, for a page that is opened between two legs
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
		j := newsJSON{Disk: n.Disk, Drives: b.Sees(hand)}
		if n.View != nil {
			version, j.View = n.View.Version, n.View
			suspects.turn(n.View.Leg)
		}
		if n.Now != nil {
			j.Now = &nowJSON{V: record.Column{}, Over: n.Now.Overs, At: n.Now.At}
			for _, v := range n.Now.Values {
				j.Now.V = append(j.Now.V, round(v, 4))
			}
		}
		if n.Run != run || len(n.Time) > 0 {
			j.Points = thin(n.Run, n.From, n.Time, n.Columns)
			run, from = n.Run, n.From+len(n.Time)
		}
		if n.Run == "" && last != nil {
			j.Points = last
		}
		last = nil
		if drawn--; drawn < 0 || n.View != nil {
			drawn = drawnEvery
			drawing, test := b.Picture()
			if now := scene(suspects.behind(ctx, drawing), test); now != picture {
				picture, j.Picture = now, &now
			}
		}
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
	l, err := s.shop.LiveTest(ctx, test)
	if err != nil {
		return nil
	}
	for _, r := range slices.Backward(l.Runs) {
		if r.EndedAt == nil || l.Holds() && !r.Kind.OfCar() {
			continue
		}
		x, err := s.shop.Recorded(ctx, r.ID)
		if err != nil {
			return nil
		}
		return thin(r.ID, 0, x.Table.Time, x.Bay())
	}
	return nil
}

// thin rounds readings and sends a long stretch at once in at most 1200 points.
func thin(run string, from int, t []float64, cols [][]float64) *points {
	stride := max(1, (len(t)+1199)/1200)
	out := points{Run: run, From: from, T: []float64{}, C: make([]record.Column, len(cols))}
	for c := range out.C {
		out.C[c] = record.Column{}
	}
	for i := 0; i < len(t); i += stride {
		out.T = append(out.T, round(t[i], 3))
		for c := range cols {
			out.C[c] = append(out.C[c], round(cols[c][i], 4))
		}
	}
	return &out
}

func round(x float64, digits int) float64 {
	k := math.Pow(10, float64(digits))
	return math.Round(x*k) / k
}

// estimate says what is known now: of the stretch that is read, or of the test.
func (s *server) estimate(n live.News) (*estimateJSON, error) {
	switch {
	case n.Estimate != nil && n.Run != "":
		if n.Estimate.Hold != nil || n.Estimate.Said != "" && n.Live.Holds() {
			return s.holdSoFar(n)
		}
		return s.soFar(soFarView{Live: true, Says: n.Estimate.Said}, n.Estimate.Test, n.Estimate.Verdict, n.Estimate.Read)
	case n.View != nil && n.Run == "":
		if n.Live.Holds() {
			return s.holdSoFar(n)
		}
		read := n.Live.Readings()
		e, err := n.Live.Judge(record.Run{}, record.Table{}, nil)
		v := soFarView{More: n.View.Start != ""}
		if err != nil {
			v.Says = casework.Sentence(err.Error())
		}
		return s.soFar(v, n.Live, e.Verdict, read)
	}
	return nil, nil
}

// soFar is what the readings of a test other than a hold come to.
func (s *server) soFar(v soFarView, l casework.LiveTest, verdict bench.Verdict, read bench.Readings) (*estimateJSON, error) {
	if c, _ := l.Bench.Channel(verdict.Ask); v.Says == "" && !((v.Live || v.More) && c.ByInstrument()) { // what an instrument still reads is not asked for
		v.Says = verdict.Says
	}
	o, ok := l.Entry.Outcome(verdict.Outcome)
	if ok {
		v.Outcome, v.Class = casework.Upper(o.Name), meaningClass(o.Means)
	}
	v.Figures, v.Lines = verdict.Figures, l.Shown(read)
	var b bytes.Buffer
	if err := s.views["live.html"].ExecuteTemplate(&b, "sofar", v); err != nil {
		return nil, err
	}
	e := &estimateJSON{HTML: b.String(), Class: v.Class}
	if v.Outcome != "" {
		e.Says = v.Outcome + ". " + v.Says
	}
	return e, nil
}

// holdSoFar is what the readings of a hold come to.
func (s *server) holdSoFar(n live.News) (*estimateJSON, error) {
	v := verdictView{Live: n.Run != ""}
	has := false
	if v.Live {
		if v.Said = n.Estimate.Said; v.Said == "" {
			v.Sum, has = *n.Estimate.Hold, true
		}
		if v.Outcome = record.Outcome(v.Sum.Verdict); !has {
			v.Outcome = record.CannotTell
		}
	} else {
		v.Sum, has = n.Live.Test.Summary()
		v.Outcome, v.Said = n.Live.Test.Outcome, n.Live.Test.Problem
	}
	e := &estimateJSON{Says: casework.Sentence(v.Outcome.Words()), Class: verdictClass(v.Outcome)}
	if has {
		e.Says += fmt.Sprintf(" %.2f to %.2f mm.", v.Sum.Low*1e3, v.Sum.High*1e3)
		var scale template.HTML
		v.Hole, scale = sized(v.Sum, nil)
		e.Scale = string(scale)
		e.curves(v.Sum, n.Estimate)
	}
	var b bytes.Buffer
	if err := s.views["live.html"].ExecuteTemplate(&b, "verdict", v); err != nil {
		return nil, err
	}
	e.HTML = b.String()
	return e, nil
}

// curves are the fit of the stretch that is read, and the trace of a hole at the limit.
func (e *estimateJSON) curves(sum record.Summary, of *live.Estimate) {
	for _, l := range sum.Legs {
		if of == nil || l.Run != of.Run {
			continue
		}
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
