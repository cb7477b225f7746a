package web

import (
	"cmp"
	"context"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
)

// mapView is a car's Map with its list twin and the part that was tapped.
type mapView struct {
	SVG      template.HTML
	Families []partFamily
	Chosen   *partView
	Assumed  []string
	Problems []string  // corrections that do not fit, and what found no room
	As       string    // whose states are shown
	AtRest   bool      // shown at rest on request
	Tested   bool      // there is a test whose states could be shown
	Flags    []flagRow // what the numbered flags say
	Car      casework.Car
	drawn    *report.Map
}

type flagRow struct {
	N           int
	Exit        bool
	Part, Words string
	Link        string
}

type partFamily struct {
	Name  string
	Parts []partRow
}

type partRow struct {
	Key, Name, Says, Where, Link string
}

// partView is a part that was tapped.
type partView struct {
	plumbing.Part
	State   string
	Known   string // what is known of it, in words
	In      []plumbing.Part
	Joins   []partRow
	Faults  []knowledge.Fault
	Tests   []knowledge.Test
	Card    *record.AccessCard
	From    string // plate of the car the card is from
	Proven  *evidence.Proven
	Marks   []record.MapMark
	Changes []record.Correction
	Ends    []plumbing.Part // where a line may run instead
	Ran     [2]string       // the parts it joins now
	Set     []setting       // for a test's set-up
	Enter   bool
	Entry   bool // gauge and supply are joined here
	Sizes   []record.ExitSize
}

type setting struct {
	State, Words string
	Now          bool
}

var familyNames = map[string]string{"engine": "Engine and intake", "boost": "Charge side", "crankcase": "Crankcase", "recirculation": "Recirculation", "vapour": "EVAP system"}

// drawMap draws a case's car with what is known of it.
func (s *server) drawMap(f evidence.Folder, set plumbing.Settings, link func(part string) string, chosen string, light lights) (mapView, error) {
	var v mapView
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return v, err
	}
	v.Car, v.Assumed, v.Problems = car, car.Assumed, car.Problems
	m := &report.Map{Graph: car.Graph, Sheet: car.Sheet(), Title: "Map of " + f.Vehicle.Name() + ", " + f.Vehicle.Plate, Marks: map[string]report.Mark{}, Odds: map[string]float64{},
		Settings: set, Changed: car.Changed, Chosen: chosen, Link: link}
	proven := car.Tight(f)
	for k := range proven {
		m.Marks[k] = report.Tight
	}
	for k, p := range light.odds {
		if _, tight := proven[k]; !tight || p > 0.3 { // what a hold proved is not hatched for a remaining doubt
			m.Odds[k] = p
		}
	}
	m.Lights = light.would
	for k := range m.Odds {
		m.Marks[k] = report.Suspect
	}
	v.flags(s, m, f)
	for _, x := range m.Sheet.Missing {
		v.Problems = append(v.Problems, "The Map finds no room for "+x+"; the list has it.")
	}
	for _, x := range m.Flags {
		p, _ := car.Graph.Part(x.Part)
		v.Flags = append(v.Flags, flagRow{x.N, x.Exit, p.Name, x.Text, link(x.Part)})
	}
	v.SVG, v.drawn = template.HTML(m.SVG()), m
	for _, fam := range []string{"vapour", "engine", "boost", "crankcase", "recirculation"} {
		pf := partFamily{Name: familyNames[fam]}
		for _, p := range car.Graph.Parts {
			if p.Family == fam && p.Name != "" {
				pf.Parts = append(pf.Parts, partRow{p.Key, p.Name, m.Says(p), p.Where, link(p.Key)})
			}
		}
		if len(pf.Parts) > 0 {
			v.Families = append(v.Families, pf)
		}
	}
	if chosen != "" {
		p, ok := car.Graph.Part(chosen)
		if !ok {
			return v, &casework.Problem{Field: "part", Sentence: fmt.Sprintf("%q is not on this car's Map.", chosen)}
		}
		v.choose(s, f, p, m)
		if x, ok := proven[p.Key]; ok {
			v.Chosen.Proven = &x
		}
	}
	return v, nil
}

// exitWords say what is at a place.
func exitWords(e record.ExitSeen) string {
	switch {
	case e.Size == "":
		return "seen"
	case e.Size.Seen():
		return string(e.Size)
	case e.Expected:
		return "expected exit, " + string(e.Size)
	}
	return "exit, " + string(e.Size)
}

// flags numbers exits and findings in order of time.
func (v *mapView) flags(s *server, m *report.Map, f evidence.Folder) {
	type event struct {
		at   int64
		flag report.Flag
	}
	var all []event
	for _, x := range f.Marks {
		if x.StruckAt == nil && x.Kind == record.MarkExit {
			seen := record.ExitSeen{Part: x.Part, Size: x.Size, Expected: x.Expected}
			all = append(all, event{x.At.UnixMilli(), report.Flag{Part: x.Part, Text: strings.TrimSpace(exitWords(seen) + " " + x.Text), Exit: true}})
		}
	}
	for _, x := range f.Results {
		for _, e := range x.Exits {
			if x.StruckAt == nil {
				t, _ := s.shop.Book.Test(x.Test)
				all = append(all, event{x.At.UnixMilli(), report.Flag{Part: e.Part, Text: exitWords(e) + ", " + plumbing.Lower(t.Name), Exit: true}})
			}
		}
	}
	for _, x := range f.Findings {
		where := v.Car.Where(x.Part)
		if x.StruckAt != nil || where == "" {
			continue
		}
		fault, _ := s.shop.Book.Fault(x.Part)
		all = append(all, event{x.At.UnixMilli(), report.Flag{Part: where, Text: fault.Name}})
		renewed := slices.ContainsFunc(f.Repairs, func(r record.RepairDone) bool {
			return r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(x.At)
		})
		if !renewed {
			m.Marks[where] = report.Found
		}
	}
	slices.SortStableFunc(all, func(a, b event) int { return cmp.Compare(a.at, b.at) })
	for i, e := range all {
		e.flag.N = i + 1
		m.Flags = append(m.Flags, e.flag)
	}
}

// choose gathers what there is to say of a part.
func (v *mapView) choose(s *server, f evidence.Folder, p plumbing.Part, m *report.Map) {
	g := v.Car.Graph
	c := &partView{Part: p, State: m.StateWords(p), Faults: s.shop.Book.FaultsOf(g, v.Car.Combination, p.Key), Sizes: record.ExitSizes()}
	_, c.Known, _ = strings.Cut(m.Says(p), ", ")
	for _, x := range g.On(p.Key) {
		if !x.Drawn() {
			c.In = append(c.In, x)
		}
	}
	end := func(at string) string { k, _, _, _ := plumbing.Port(at); return k }
	if p.Kind == plumbing.Line {
		c.Ran = [2]string{end(p.From), end(p.To)}
		for _, k := range c.Ran {
			if q, _ := g.Part(k); q.Name != "" {
				c.Joins = append(c.Joins, partRow{Key: k, Name: q.Name, Link: m.Link(k)})
			}
		}
		for _, q := range g.Parts {
			if q.Kind != plumbing.Line && q.At != "" {
				if q.Name == "" {
					q.Name = "branch of the lines at " + q.At
				}
				c.Ends = append(c.Ends, q)
			}
		}
		slices.SortFunc(c.Ends, func(a, b plumbing.Part) int { return cmp.Compare(a.Name, b.Name) })
	}
	for _, t := range s.shop.Book.Tests {
		if t.Fits(v.Car.Combination) && slices.ContainsFunc(c.Faults, func(x knowledge.Fault) bool { return slices.Contains(x.Tests, t.Key) }) {
			c.Tests = append(c.Tests, t)
		}
	}
	for _, x := range f.Marks {
		if x.Part == p.Key && x.StruckAt == nil {
			c.Marks = append(c.Marks, x)
		}
	}
	for _, x := range f.Corrections {
		if x.Part == p.Key && x.StruckAt == nil {
			c.Changes = append(c.Changes, x)
		}
	}
	v.Chosen = c
}

// newestSetting is how a car stands in the newest test of a case, and that in words; at
// rest when there is none.
func newestSetting(f evidence.Folder, car casework.Car) (plumbing.Settings, string) {
	for _, t := range slices.Backward(f.Tests) {
		if t.StruckAt == nil {
			_, set := car.Sealing(t.Setup)
			return set, "as set for the test of " + t.At.Local().Format("2 Jan, 15:04")
		}
	}
	return nil, atRestWords
}

const atRestWords = "at rest"

// caseMap is the Map as a case shows it.
func (s *server) caseMap(c *echo.Context, f evidence.Folder, base string, light lights) (mapView, error) {
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return mapView{}, err
	}
	atRest := c.QueryParam("at") == "rest"
	set, as := newestSetting(f, car)
	suffix := ""
	if atRest {
		set, as, suffix = nil, atRestWords, "&at=rest"
	}
	link := func(part string) string { return base + "?part=" + url.QueryEscape(part) + suffix + "#part" }
	v, err := s.drawMap(f, set, link, c.QueryParam("part"), light)
	if err != nil {
		return v, err
	}
	v.As, v.AtRest = as, atRest
	v.Tested = slices.ContainsFunc(f.Tests, func(t evidence.TestFolder) bool { return t.StruckAt == nil })
	if v.Chosen != nil {
		cards, err := s.shop.Cards(c.Request().Context(), f.Vehicle)
		if err != nil {
			return v, err
		}
		if k, ok := cards[v.Chosen.Key]; ok {
			v.Chosen.Card, v.Chosen.From = &k.Entry, k.Plate
		}
	}
	return v, nil
}

// lightsOf are the odds of a case by part, for the Map alone.
func (s *server) lightsOf(c *echo.Context, f evidence.Folder) lights {
	if car, err := s.shop.Car(f.Vehicle, f.Corrections); err == nil && f.Case.Stage != record.Closed {
		r, _ := s.reason(c.Request().Context(), c, f, car)
		return r.light
	}
	return lights{}
}

// mapPage is a case's Map, large, with its corrections and what the car is made of.
type mapPage struct {
	evidence.Folder
	Map      mapView
	Stages   []stageMark
	Choices  []familyChoice
	Offers   []casework.Known[record.Correction]
	Names    map[string]string
	Problems []string
}

type familyChoice struct {
	Family, Label, Now string
	Said               bool
	Of                 []plumbing.Archetype
}

func (s *server) mapView(c *echo.Context) error { return s.showMap(c, nil) }

func (s *server) showMap(c *echo.Context, failed error) error {
	f, err := s.shop.Load(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	d := mapPage{Folder: f, Names: map[string]string{}}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	if d.Map, err = s.caseMap(c, f, "/cases/"+f.Case.ID+"/map", s.lightsOf(c, f)); err != nil {
		d.Problems = append(d.Problems, err.Error())
	}
	now, assumed := s.shop.Combination(f.Vehicle)
	for _, fam := range plumbing.Families {
		d.Choices = append(d.Choices, familyChoice{fam, familyNames[fam], now.Of(fam), !slices.Contains(assumed, fam), s.shop.Book.Plumbing.Family(fam)})
	}
	if d.Offers, err = s.shop.LikeCorrections(c.Request().Context(), f.Vehicle); err != nil {
		return err
	}
	for _, fr := range s.shop.Book.Plumbing.Fragments {
		for _, p := range fr.Parts {
			d.Names[p.Key] = p.Name
		}
	}
	for _, a := range s.shop.Book.Plumbing.Archetypes {
		for _, p := range a.Parts {
			d.Names[p.Key] = p.Name
		}
	}
	p := s.page(c, "Map · "+f.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "map.html", p)
	}
	return s.render(c, http.StatusOK, "map.html", p)
}

// mapSVG is the Map as a file of its own.
func (s *server) mapSVG(c *echo.Context) error {
	f, err := s.shop.Load(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	v, err := s.caseMap(c, f, "", s.lightsOf(c, f))
	if err != nil {
		return err
	}
	v.drawn.Alone, v.drawn.Link, v.drawn.Chosen = true, nil, ""
	c.Response().Header().Set("Content-Disposition", fmt.Sprintf(`attachment; filename="%s-map.svg"`, f.Case.Number))
	return c.Blob(http.StatusOK, "image/svg+xml", []byte(v.drawn.SVG()))
}

// onMap runs one action of the Map's forms and goes back to the part.
func (s *server) onMap(c *echo.Context, f func(ctx context.Context, fm *form, id string) error) error {
	if err := parsed(c); err != nil {
		return err
	}
	fm := &form{c: c}
	err := f(c.Request().Context(), fm, c.Param("id"))
	if fm.err != nil {
		err = fm.err
	}
	back := "/cases/" + c.Param("id")
	if fm.text("large") != "" {
		back += "/map"
	}
	if err != nil {
		q := c.Request().URL.Query()
		q.Set("part", fm.text("part"))
		c.Request().URL.RawQuery = q.Encode()
		if fm.text("large") != "" {
			return s.showMap(c, err)
		}
		return s.showCase(c, err)
	}
	if part := fm.text("part"); part != "" && fm.text("kind") != plumbing.Gone {
		back += "?part=" + url.QueryEscape(part) + "#part"
	}
	return s.saved(c, fm.key(), back)
}

func (s *server) addMark(c *echo.Context) error {
	return s.onMap(c, func(ctx context.Context, f *form, id string) error {
		n := casework.NewMark{Kind: record.MarkKind(f.text("kind")), Part: f.text("part"), Size: record.ExitSize(f.text("size")), Expected: f.text("expected") != "", Text: f.text("words"), Photo: f.photo()}
		if n.Kind == record.MarkSuspect {
			n.Odds = f.needed("odds", "Odds").number("odds", "Odds") / 100
		}
		if f.err != nil {
			return f.err
		}
		return s.shop.AddMark(ctx, f.key(), id, n)
	})
}

// photo reads the photo of a form, without its location data.
func (f *form) photo() *record.Photo {
	data, _ := f.file("photo", ingest.MaxPhotoBytes)
	if data == nil || f.err != nil {
		return nil
	}
	p, err := ingest.ReadPhoto(data)
	if err != nil {
		f.wrong("photo", "Photo", err.Error())
		return nil
	}
	return photoRecord(p)
}

func (s *server) addCorrection(c *echo.Context) error {
	return s.onMap(c, func(ctx context.Context, f *form, id string) error {
		n := casework.NewCorrection{Kind: f.text("kind"), Part: f.text("part"), From: f.text("from"), To: f.text("to"), Text: f.text("words"), Photo: f.photo()}
		if f.err != nil {
			return f.err
		}
		return s.shop.AddCorrection(ctx, f.key(), id, n)
	})
}

func (s *server) addCard(c *echo.Context) error {
	return s.onMap(c, func(ctx context.Context, f *form, id string) error {
		n := casework.NewCard{Part: f.text("part"), Place: f.text("place"), First: f.text("first"), Fasteners: f.text("fasteners"), Locks: f.text("locks"), Breaks: f.text("breaks"),
			Minutes: f.whole("minutes", "Minutes"), Photo: f.photo(), Keep: f.text("keep")}
		if f.err != nil {
			return f.err
		}
		return s.shop.AddCard(ctx, f.key(), id, n)
	})
}

func (s *server) strikeOnCar(c *echo.Context) error {
	return s.onMap(c, func(ctx context.Context, f *form, id string) error {
		return s.shop.Stamp(ctx, f.key(), id, casework.Entry{Kind: record.EntryKind(f.text("what")), ID: f.text("entry")}, f.stamp(casework.Strike, casework.Restore))
	})
}

func (s *server) setPlumbing(c *echo.Context) error {
	return s.onMap(c, func(ctx context.Context, f *form, id string) error {
		var k plumbing.Combination
		for _, fam := range plumbing.Families {
			k = k.With(fam, f.text(fam))
		}
		return s.shop.SetPlumbing(ctx, f.key(), id, k)
	})
}

// setupMap is a test's set-up on the Map: what is plugged, powered, open and shut, and
// where the gauge is joined.
type setupMap struct {
	evidence.Folder
	Map     mapView
	Stages  []stageMark
	Test    evidence.TestFolder
	Entry   plumbing.Part
	Reached setReach
	Usual   knowledge.Archetype
	Plugs   []plugRow
}

// setReach is what a set-up puts under the gauge, in names.
type setReach struct {
	Sections []string
	Holds    []string // shut valves, covers and plugs that hold it back
	Vents    []string
	Not      []string // of the EVAP system, beyond the plugs
}

type plugRow struct {
	Key, Name, Link string
	On              bool
}

func (s *server) setupMap(c *echo.Context) error { return s.showSetupMap(c, nil) }

func (s *server) showSetupMap(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	caseID, err := s.shop.TestCase(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	f, err := s.shop.Load(ctx, caseID)
	if err != nil {
		return err
	}
	d := setupMap{Folder: f}
	d.Test, _ = f.Test(c.Param("id"))
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return err
	}
	d.Usual, _ = s.shop.Book.Archetype(car.Combination.Vapour)
	entry, set := car.Sealing(d.Test.Setup)
	base := "/tests/" + d.Test.ID + "/map"
	link := func(part string) string { return base + "?part=" + url.QueryEscape(part) + "#part" }
	if d.Map, err = s.drawMap(f, set, link, c.QueryParam("part"), s.lightsOf(c, f)); err != nil {
		return err
	}
	d.Map.As = "as set for this test"
	d.Entry, _ = car.Graph.Part(entry)
	d.Reached = reached(car, entry, set)
	for _, p := range car.Graph.Plugs() {
		d.Plugs = append(d.Plugs, plugRow{p.Key, car.Graph.PlugName(p), link(p.Key), set[p.Key] == plumbing.Plugged})
	}
	if p := d.Map.Chosen; p != nil {
		for _, st := range evidence.CanBe(p.Part) {
			words := map[plumbing.State]string{plumbing.Plugged: "Plug it here", plumbing.Powered: "Move it by power or vacuum", plumbing.Open: "Held open", plumbing.Shut: "Held shut"}[st]
			switch {
			case p.Kind == plumbing.Cover:
				words = "Taken off"
			case p.Kind == plumbing.Inlet:
				words = "Cap it"
			}
			p.Set = append(p.Set, setting{string(st), words, set[p.Key] == st})
		}
		p.Enter, p.Entry = evidence.CanEnter(p.Part), entry == p.Key
	}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	p := s.page(c, "Plugs and valves · "+f.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "setup.html", p)
	}
	return s.render(c, http.StatusOK, "setup.html", p)
}

// reached says in names what a set-up puts under the gauge.
func reached(car casework.Car, entry string, set plumbing.Settings) (r setReach) {
	g := car.Graph
	got := g.Reach(entry, set, plumbing.Pressure)
	name := func(k string) string { p, _ := g.Part(k); return p.Name }
	for _, sec := range g.Sections() {
		var in, out []string
		for _, k := range sec.Parts {
			p, _ := g.Part(k)
			if p.Family != "vapour" || p.Name == "" {
				continue
			}
			if got.Tests(k) {
				in = append(in, k)
			} else {
				out = append(out, k)
			}
		}
		if len(in) > 0 && sec.Name != "" {
			r.Sections = append(r.Sections, sec.Name)
		} else if len(out) > 0 && sec.Name != "" {
			r.Not = append(r.Not, sec.Name)
		}
	}
	for _, k := range got.Bounds {
		if p, _ := g.Part(k); p.Name != "" && set[k] != "" {
			r.Holds = append(r.Holds, p.Name)
		}
	}
	for _, k := range got.Plugs {
		p, _ := g.Part(k)
		r.Holds = append(r.Holds, "plug in the "+g.PlugName(p))
	}
	for _, p := range g.Plugs() {
		if set[p.Key] == plumbing.Plugged && !slices.Contains(got.Plugs, p.Key) && got.Tests(p.Key) {
			r.Holds = append(r.Holds, "plug in the "+g.PlugName(p))
		}
	}
	for _, k := range got.Vents {
		r.Vents = append(r.Vents, name(k))
	}
	return r
}

// setPart changes one part of a test's set-up.
func (s *server) setPart(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	ctx, id, part := c.Request().Context(), c.Param("id"), f.text("part")
	var err error
	switch f.text("do") {
	case "entry":
		err = s.shop.SetEntry(ctx, f.key(), id, part)
	case "usual":
		err = s.shop.SealAsUsual(ctx, f.key(), id)
	default:
		err = s.shop.SetPart(ctx, f.key(), id, part, f.text("state"))
	}
	if err != nil {
		return s.showSetupMap(c, err)
	}
	back := "/tests/" + id + "/map"
	if part != "" {
		back += "?part=" + url.QueryEscape(part) + "#part"
	}
	return s.saved(c, f.key(), back)
}
