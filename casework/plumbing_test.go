package casework_test

import (
	"bytes"
	"slices"
	"strings"
	"testing"

	"wexter/casework"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
)

func joined(t *testing.T, s *casework.Shop, id string) (evidence.Folder, casework.Car) {
	t.Helper()
	f, err := s.Load(ctx, id)
	must(t, err)
	c, err := s.Car(f.Vehicle, f.Corrections)
	must(t, err)
	return f, c
}

func refused(t *testing.T, what string, err error, say string) {
	t.Helper()
	if err == nil || !strings.Contains(err.Error(), say) {
		t.Errorf("%s: %v; want %q", what, err, say)
	}
}

// A hold whose upper bound lies below the tight threshold turns what stood under its
// gauge tight, and nothing else; what is found, seen to leak or replaced afterwards is
// no longer proven.
func TestHoldsTurnSectionsTight(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 1"))
	must(t, err)
	test := hold(t, s, id, "", 0.02e-3)
	f, c := joined(t, s, id)
	tf, _ := f.Test(test)
	if sum, _ := tf.Summary(); !sum.Tight {
		t.Fatalf("the hold of a hole of 0.02 mm is not tight: up to %.3f mm", sum.High*1e3)
	}
	tight := c.Tight(f)
	for _, k := range []string{"tank", "cap", "purge-line", "canister", "vapour-line", "purge-valve", "vent-valve", "flange"} {
		if tight[k].Test != test {
			t.Errorf("%s is not proven", k)
		}
	}
	for _, k := range []string{"manifold", "vent-filter", "vent-end", "crankcase", "engine"} {
		if tight[k].Test != "" {
			t.Errorf("%s is said to be tight", k)
		}
	}
	// With the vapour line plugged at the canister the tank was not under the gauge.
	must(t, s.SetPart(ctx, "", test, "vapour-line", "plugged"))
	f, c = joined(t, s, id)
	if tight = c.Tight(f); tight["tank"].Test != "" || tight["canister"].Test != test {
		t.Errorf("plugged: tank %v, canister %v", tight["tank"], tight["canister"])
	}
	must(t, s.SetPart(ctx, "", test, "vapour-line", ""))
	// Open to the air somewhere: such a hold proves nothing.
	must(t, s.SetPart(ctx, "", test, "vent-valve", ""))
	f, c = joined(t, s, id)
	if tight = c.Tight(f); len(tight) != 0 {
		t.Errorf("with the vent open %d parts are tight", len(tight))
	}
	must(t, s.SealAsUsual(ctx, "", test))
	// An exit seen later takes the proof from its part; an expected one does not.
	must(t, s.AddMark(ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "cap", Size: "wisp"}))
	must(t, s.AddMark(ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "neck", Size: "stream", Expected: true}))
	must(t, s.AddFinding(ctx, "", id, casework.NewFinding{Part: "vapour-line", By: record.ByWord, How: "smoke"}))
	f, c = joined(t, s, id)
	tight = c.Tight(f)
	for k, want := range map[string]bool{"cap": false, "vapour-line": false, "neck": true, "tank": true} {
		t.Run(k, func(t *testing.T) {
			if (tight[k].Test != "") != want {
				t.Errorf("after the exit and the finding %s: tight %v", k, !want)
			}
		})
	}
	must(t, s.AddRepair(ctx, "", id, casework.NewRepair{Action: "new line", Parts: "line", Lasting: true}))
	again := hold(t, s, id, test, 0.02e-3)
	f, c = joined(t, s, id)
	if tight = c.Tight(f); tight["vapour-line"].Test != again || tight["cap"].Test != again {
		t.Errorf("the repeat proves nothing: %v", tight["vapour-line"])
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: again}, casework.Doubt))
	f, c = joined(t, s, id)
	if tight = c.Tight(f); tight["vapour-line"].Test != "" {
		t.Error("a doubted repeat proves the new line")
	}
}

// The set-up of a test begins as the car's archetype is sealed, is changed part by
// part, and is repeated with the test.
func TestSetUpOnTheMap(t *testing.T) {
	s := shop(t)
	n := car("SQ 2")
	n.Archetype = "eonv-switch-remote"
	id, err := s.OpenCase(ctx, "", n)
	must(t, err)
	test, err := s.StartTest(ctx, "", id, "")
	must(t, err)
	set := func() record.Setup {
		f, _ := s.Load(ctx, id)
		tf, _ := f.Test(test)
		return tf.Setup
	}
	if su := set(); su.Entry != "service-port" || su.Set["vent-hose"] != "plugged" || len(su.Set) != 1 {
		t.Errorf("begun with %q %v", su.Entry, su.Set)
	}
	must(t, s.SetPart(ctx, "", test, "purge-line", "plugged"))
	must(t, s.SetPart(ctx, "", test, "vent-valve", "powered"))
	must(t, s.SetEntry(ctx, "", test, "neck"))
	if su := set(); su.Entry != "neck" || su.Set["purge-line"] != "plugged" || su.Set["vent-valve"] != "powered" {
		t.Errorf("%q %v", su.Entry, su.Set)
	}
	for _, c := range []struct{ part, state, say string }{
		{"moon", "plugged", "not on this car's Map"}, {"tank", "plugged", "cannot be plugged"}, {"cap", "powered", "cannot be powered"},
		{"purge-valve", "melted", "cannot be melted"}, {"neck-hose", "plugged", "cannot be plugged"},
	} {
		t.Run(c.say, func(t *testing.T) {
			refused(t, c.part, s.SetPart(ctx, "", test, c.part, c.state), c.say)
		})
	}
	refused(t, "entry", s.SetEntry(ctx, "", test, "tank"), "cannot be joined")
	// The form of the bench, which does not show the Map, leaves it as it is.
	f, _ := s.Load(ctx, id)
	tf, _ := f.Test(test)
	su := tf.Setup
	su.Entry, su.Set, su.Wet = "", nil, false
	must(t, s.SaveSetup(ctx, "", test, tf.Version, su))
	if su := set(); su.Entry != "neck" || len(su.Set) != 3 || su.Wet {
		t.Errorf("the bench's form changed the Map: %+v", su)
	}
	again, err := s.StartTest(ctx, "", id, test)
	must(t, err)
	f, _ = s.Load(ctx, id)
	if tf, _ := f.Test(again); tf.Setup.Entry != "neck" || tf.Setup.Set["purge-line"] != "plugged" {
		t.Error("the repeat is not set up as the test it repeats")
	}
	// The car turns out to be built otherwise: the place of the gauge is not there.
	must(t, s.SetPlumbing(ctx, "", id, plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "early-ported"}))
	_, early := joined(t, s, id)
	if entry, states := early.Sealing(record.Setup{Entry: "service-port", Set: record.States{"vent-hose": "plugged"}}); entry != "tank-line" || states["vent-filter"] != plumbing.Shut {
		t.Errorf("on another car: %q %v", entry, states)
	}
	must(t, s.SetPlumbing(ctx, "", id, plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "eonv-switch-remote"}))
	// A test of before there was a Map counts as sealed in the usual way.
	_, c := joined(t, s, id)
	if entry, states := c.Sealing(record.Setup{}); entry != "service-port" || states["vent-hose"] != plumbing.Plugged {
		t.Errorf("%q %v", entry, states)
	}
}

// What nobody has said of a car is assumed, and said to be.
func TestWhatACarIsMadeOf(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 3"))
	must(t, err)
	_, c := joined(t, s, id)
	if c.Combination.Engine != "na-maf" || c.Combination.Boost != "no-boost" || len(c.Assumed) != 4 {
		t.Errorf("%v, assumed %v", c.Combination, c.Assumed)
	}
	turbo := plumbing.Combination{Engine: "turbo-petrol", Boost: "charged-jet", Crankcase: "regulator-turbo", Recirculation: "no-egr", Vapour: "pump-current"}
	refused(t, "impossible", s.SetPlumbing(ctx, "", id, turbo.With("boost", "no-boost")), "a turbo engine has a charge side")
	must(t, s.SetPlumbing(ctx, "", id, turbo))
	f, c := joined(t, s, id)
	if c.Combination != turbo || len(c.Assumed) != 0 || f.Vehicle.Archetype != "pump-current" {
		t.Errorf("%v %v", c.Combination, c.Assumed)
	}
	// Opened again without saying, the car keeps what is known.
	n := car("sq 3")
	n.Archetype = "pump-current"
	again, err := s.OpenCase(ctx, "", n)
	must(t, err)
	if _, c := joined(t, s, again); c.Combination != turbo {
		t.Errorf("forgotten: %v", c.Combination)
	}
	n = car("SQ 4")
	n.Engine, n.Boost = "turbo-petrol", "no-boost"
	_, err = s.OpenCase(ctx, "", n)
	refused(t, "a new impossible car", err, "do not go together")
	n.Engine, n.Boost, n.Metering = "na-map", "", "maf"
	_, err = s.OpenCase(ctx, "", n)
	refused(t, "metering", err, "contradict")
	n.Engine, n.Metering = "na-map", "map"
	id, err = s.OpenCase(ctx, "", n)
	must(t, err)
	if _, c := joined(t, s, id); c.Combination.Engine != "na-map" || slices.Contains(c.Assumed, "engine") {
		t.Errorf("%v %v", c.Combination, c.Assumed)
	}
}

// Corrections and access cards come back with the car, and are offered at its like.
func TestThisCarAndItsLike(t *testing.T) {
	s := shop(t)
	first, err := s.OpenCase(ctx, "", car("SQ 5"))
	must(t, err)
	photo := &record.Photo{Hash: strings.Repeat("ab", 32), Mime: "image/png", Width: 1, Height: 1, Data: []byte{1}}
	must(t, s.AddCorrection(ctx, "", first, casework.NewCorrection{Kind: "gone", Part: "service-port", Text: "No port on this one.", Photo: photo}))
	must(t, s.AddCorrection(ctx, "", first, casework.NewCorrection{Kind: "runs", Part: "vapour-line", From: "neck", To: "canister", Text: "Comes off the neck."}))
	must(t, s.AddCorrection(ctx, "", first, casework.NewCorrection{Kind: "note", Part: "tank", Text: "Strap renewed."}))
	must(t, s.AddCard(ctx, "", first, casework.NewCard{Part: "canister", Place: "over the axle", First: "left wheel", Breaks: "the blue lock", Minutes: 25, Photo: photo}))
	must(t, s.AddCard(ctx, "k", first, casework.NewCard{Part: "canister", Place: "over the axle, left", First: "left wheel", Minutes: 20, Keep: photo.Hash}))
	must(t, s.AddCard(ctx, "k", first, casework.NewCard{Part: "canister", Place: "over the axle, left", First: "left wheel", Minutes: 20, Keep: photo.Hash}))
	f, c := joined(t, s, first)
	if _, ok := c.Graph.Part("service-port"); ok || !c.Changed["tank"] || len(f.Cards) != 2 {
		t.Errorf("corrected: port %v, changed %v, %d cards", ok, c.Changed, len(f.Cards))
	}
	if l, _ := c.Graph.Part("vapour-line"); !strings.HasPrefix(l.From, "neck.") {
		t.Errorf("the vapour line runs from %s to %s", l.From, l.To)
	}
	for _, x := range []struct {
		n   casework.NewCorrection
		say string
	}{
		{casework.NewCorrection{Kind: "gone", Part: "service-port", Text: "again"}, "not on this car's Map"},
		{casework.NewCorrection{Kind: "gone", Part: "purge-pipe", Text: "x"}, "hangs loose"},
		{casework.NewCorrection{Kind: "gone", Part: "cap"}, "say what you saw"},
		{casework.NewCorrection{Kind: "melted", Part: "cap", Text: "x"}, "no change"},
		{casework.NewCorrection{Kind: "runs", Part: "cap", From: "tank", To: "neck", Text: "x"}, "is no line"},
		{casework.NewCorrection{Kind: "gone", Part: "cap", Text: strings.Repeat("x", 2000)}, "characters long"},
	} {
		t.Run(x.say, func(t *testing.T) {
			refused(t, x.n.Part, s.AddCorrection(ctx, "", first, x.n), x.say)
		})
	}
	refused(t, "an empty card", s.AddCard(ctx, "", first, casework.NewCard{Part: "canister"}), "helps nobody")
	refused(t, "a long way", s.AddCard(ctx, "", first, casework.NewCard{Part: "canister", Minutes: 9000}), "minutes")
	refused(t, "another car's part", s.AddCard(ctx, "", first, casework.NewCard{Part: "bypass", Place: "x"}), "not on this car's Map")

	// The same car again.
	again, err := s.OpenCase(ctx, "", car("SQ 5"))
	must(t, err)
	f, c = joined(t, s, again)
	if _, ok := c.Graph.Part("service-port"); ok || len(f.Corrections) != 3 {
		t.Error("the car came back without its corrections")
	}
	if cards, err := s.Cards(ctx, f.Vehicle); err != nil || cards["canister"].Entry.Minutes != 20 || cards["canister"].Plate != "" || cards["canister"].Entry.Photo != photo.Hash {
		t.Errorf("%+v %v", cards, err)
	}
	// Its like: the card helps at once, the corrections are offered and not taken.
	like := car("SQ 6")
	like.Make, like.Model = "OSTREL", "wherry"
	other, err := s.OpenCase(ctx, "", like)
	must(t, err)
	f, c = joined(t, s, other)
	cards, err := s.Cards(ctx, f.Vehicle)
	if err != nil || cards["canister"].Plate != "SQ 5" {
		t.Errorf("at its like: %+v %v", cards, err)
	}
	offers, err := s.LikeCorrections(ctx, f.Vehicle)
	if _, ok := c.Graph.Part("service-port"); err != nil || !ok || len(offers) != 3 || offers[0].Plate != "SQ 5" {
		t.Errorf("port %v, %d offers, %v", ok, len(offers), err)
	}
	must(t, s.AddCorrection(ctx, "", other, casework.NewCorrection{Kind: "gone", Part: "service-port", Text: offers[0].Entry.Text}))
	if offers, _ = s.LikeCorrections(ctx, f.Vehicle); len(offers) != 2 {
		t.Errorf("%d offers are left", len(offers))
	}
	// A stranger gets nothing.
	strange := car("SQ 7")
	strange.Model = "Hod"
	id, err := s.OpenCase(ctx, "", strange)
	must(t, err)
	f, _ = joined(t, s, id)
	if cards, _ := s.Cards(ctx, f.Vehicle); len(cards) != 0 {
		t.Errorf("a stranger has cards: %v", cards)
	}
	// Taken back, nothing is deleted; another car's cannot be touched.
	f, _ = joined(t, s, first)
	must(t, s.Stamp(ctx, "", first, casework.Entry{Kind: "correction", ID: f.Corrections[0].ID}, casework.Strike))
	if _, c := joined(t, s, first); c.Changed["service-port"] {
		t.Error("struck out and still there")
	}
	must(t, s.Stamp(ctx, "", first, casework.Entry{Kind: "correction", ID: f.Corrections[0].ID}, casework.Restore))
	refused(t, "another car", s.Stamp(ctx, "", id, casework.Entry{Kind: "correction", ID: f.Corrections[0].ID}, casework.Strike), "not in the shop")
	refused(t, "a word", s.Stamp(ctx, "", first, casework.Entry{Kind: "vehicle", ID: f.Vehicle.ID}, casework.Strike), "not in the shop")
	// A correction that no longer fits is named, not obeyed.
	must(t, s.SetPlumbing(ctx, "", first, plumbing.Combination{Engine: "na-maf", Boost: "no-boost", Crankcase: "fixed-valve", Recirculation: "no-egr", Vapour: "early-ported"}))
	if _, c := joined(t, s, first); len(c.Problems) == 0 {
		t.Error("a correction of another system was swallowed")
	}
}

func TestMarksOnTheMap(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 8"))
	must(t, err)
	for _, x := range []struct {
		n   casework.NewMark
		say string
	}{
		{casework.NewMark{Kind: "hunch", Part: "cap"}, "an exit seen"},
		{casework.NewMark{Kind: record.MarkExit, Part: "cap"}, "how much"},
		{casework.NewMark{Kind: record.MarkSuspect, Part: "cap", Odds: 1.2}, "between 0 and 100"},
		{casework.NewMark{Kind: record.MarkLooked, Part: "bypass"}, "not on this car's Map"},
	} {
		t.Run(x.say, func(t *testing.T) {
			refused(t, string(x.n.Kind), s.AddMark(ctx, "", id, x.n), x.say)
		})
	}
	must(t, s.AddMark(ctx, "twice", id, casework.NewMark{Kind: record.MarkSuspect, Part: "cap", Odds: 0.3}))
	must(t, s.AddMark(ctx, "twice", id, casework.NewMark{Kind: record.MarkSuspect, Part: "cap", Odds: 0.3}))
	f, _ := s.Load(ctx, id)
	if len(f.Marks) != 1 || f.Marks[0].Odds != 0.3 {
		t.Errorf("%+v", f.Marks)
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "mark", ID: f.Marks[0].ID}, casework.Strike))
	if f, _ = s.Load(ctx, id); f.Marks[0].StruckAt == nil {
		t.Error("not struck out")
	}
}

// The bundle takes marks, corrections, cards and their photos along.
func TestBundleTakesTheMapAlong(t *testing.T) {
	s, other := shop(t), shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 9"))
	must(t, err)
	must(t, s.AddMark(ctx, "", id, casework.NewMark{Kind: record.MarkExit, Part: "cap", Size: "wisp"}))
	must(t, s.AddCorrection(ctx, "", id, casework.NewCorrection{Kind: "gone", Part: "service-port", Text: "none"}))
	must(t, s.AddCard(ctx, "", id, casework.NewCard{Part: "tank", Place: "low"}))
	_, err = s.StartTest(ctx, "", id, "")
	must(t, err)
	data, _, err := s.Export(ctx, id)
	must(t, err)
	_, err = other.Import(ctx, data)
	must(t, err)
	back, _, err := other.Export(ctx, id)
	must(t, err)
	if !bytes.Equal(data, back) {
		t.Error("the bundle did not come back byte by byte")
	}
	for _, x := range []struct{ from, to, say string }{
		{`"kind": "exit"`, `"kind": "hunch"`, "The mark"}, {`"kind": "gone"`, `"kind": "melted"`, "The correction"}, {`"place": "low"`, `"place": "low", "weight": 3`, "weight"},
		{`"part": "tank"`, `"part": "../tank"`, "The access card"},
		{`"vent-valve": "powered"`, `"vent-valve": "melted"`, "melted"},
		{`"entry": "`, `"entry": "<b>`, "joins its gauge"},
		{`"engine": ""`, `"engine": "STEAM"`, "no archetype"},
	} {
		t.Run(x.say, func(t *testing.T) {
			if !strings.Contains(string(data), x.from) {
				t.Fatalf("%s is not in the bundle", x.from)
			}
			_, err := shop(t).Import(ctx, []byte(strings.Replace(string(data), x.from, x.to, 1)))
			refused(t, x.from, err, x.say)
		})
	}
	// Another case of the same car brings nothing twice.
	id2, err := s.OpenCase(ctx, "", car("SQ 9"))
	must(t, err)
	data2, _, err := s.Export(ctx, id2)
	must(t, err)
	_, err = other.Import(ctx, data2)
	must(t, err)
	if f, _ := other.Load(ctx, id2); len(f.Corrections) != 1 || len(f.Cards) != 1 {
		t.Errorf("%d corrections, %d cards", len(f.Corrections), len(f.Cards))
	}
}

// A section that held is not the test that failed: the repair is proven by repeating the
// whole one, and the Slate says where to look.
func TestASectionThatHeld(t *testing.T) {
	s := shop(t)
	id, err := s.OpenCase(ctx, "", car("SQ 10"))
	must(t, err)
	whole := hold(t, s, id, "", 0.7e-3)
	front := hold(t, s, id, "", 0.02e-3)
	slate := func() string {
		rows, err := s.Slate(ctx)
		must(t, err)
		return rows[0].Next
	}
	if got := slate(); !strings.Contains(got, "look elsewhere") {
		t.Errorf("before anything was plugged: %q", got)
	}
	must(t, s.SetPart(ctx, "", front, "vapour-line", "plugged"))
	if got := slate(); !strings.Contains(got, "leaks beyond the plug") {
		t.Errorf("the Slate says %q", got)
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: whole}, casework.Doubt))
	if got := slate(); strings.Contains(got, "beyond the plug") {
		t.Errorf("on a doubted hold: %q", got)
	}
	must(t, s.Stamp(ctx, "", id, casework.Entry{Kind: "test", ID: whole}, casework.Trust))
	f, _ := joined(t, s, id)
	if p := f.Proof(s.Book); p.Before == nil || p.Before.ID() != whole {
		t.Errorf("the test to repeat is %+v", p.Before)
	}
	n := car("SQ 11")
	n.Archetype = "no-vapour"
	_, err = s.OpenCase(ctx, "", n)
	must(t, err)
	rows, _ := s.Slate(ctx)
	if got := rows[len(rows)-1].Next; !strings.Contains(got, "Map") {
		t.Errorf("a diesel: %q", got)
	}
}
