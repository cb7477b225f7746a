package report

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode/utf8"

	"wexter/core/bench"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// mostWords is how long a text in a bundle may be, in characters.
const mostWords = 4000

// checker holds a bundle against the rules that the shop's own entries keep: ids are
// used once, entries belong to the case, what they point at is there.
type checker struct {
	b      Bundle
	ids    map[string]bool
	photos map[string]bool
}

func checkBundle(b Bundle) error {
	c := checker{b: b, ids: map[string]bool{}, photos: map[string]bool{"": true}}
	for _, check := range []func() error{c.car, c.job, c.pictures, c.told, c.read, c.worked, c.onCar, c.tests} {
		if err := check(); err != nil {
			return err
		}
	}
	return nil
}

func (c checker) own(what, id string) error {
	if id == "" || len(id) > 64 || strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyz-") != "" || c.ids[id] {
		return fmt.Errorf("the bundle's %s has the id %q; ids are short, in lower case and used once", what, clip(id))
	}
	c.ids[id] = true
	return nil
}

// entry takes the id of an entry, which must belong to the bundle's case.
func (c checker) entry(what, id, caseID string) error {
	if err := c.own(what, id); err != nil {
		return err
	}
	if caseID != c.b.Case.ID {
		return fmt.Errorf("a %s in the bundle belongs to another case", what)
	}
	return nil
}

func (c checker) car() error {
	v := c.b.Vehicle
	if err := c.own("vehicle", v.ID); err != nil {
		return err
	}
	if err := v.Check(); err != nil {
		return fmt.Errorf("the bundle's vehicle: %w", err)
	}
	for _, k := range []string{v.Archetype, v.Engine, v.Boost, v.Crankcase, v.Recirculation} {
		if k != "" && !partKey(k) {
			return fmt.Errorf("the bundle's vehicle is built as %q; that is no archetype", clip(k))
		}
	}
	return nil
}

func (c checker) job() error {
	v, k := c.b.Vehicle, c.b.Case
	if err := c.own("case", k.ID); err != nil {
		return err
	}
	if v.PlateKey == "" || k.VehicleID != v.ID {
		return errors.New("the bundle's case does not belong to its vehicle")
	}
	if !slices.Contains(record.Stages(), k.Stage) || k.Number == "" || len(k.Number) > 24 || k.Version < 1 || (k.ClosedAt != nil) != (k.Stage == record.Closed) {
		return fmt.Errorf("the bundle's case has stage %q and number %q; that cannot be", clip(k.Stage), clip(k.Number))
	}
	for _, s := range []string{v.Plate, v.Make, v.Model, k.Complaint, k.Circumstances, k.RecentWork, k.Reason} {
		if tooLong(s) {
			return fmt.Errorf("a text in the bundle is longer than %d characters", mostWords)
		}
	}
	return nil
}

func (c checker) pictures() error {
	size := 0
	for _, p := range c.b.Photos {
		if size += len(p.Data); size > record.MostPhotoBytes {
			return fmt.Errorf("the photos in the bundle are larger than %d MB together", record.MostPhotoBytes>>20)
		}
		sum := sha256.Sum256(p.Data)
		if hex.EncodeToString(sum[:]) != p.Hash || (p.Mime != "image/png" && p.Mime != "image/jpeg") {
			return fmt.Errorf("the photo %s in the bundle is damaged", clip(p.Hash))
		}
		c.photos[p.Hash] = true
	}
	return nil
}

// told checks what was said and seen: codes tapped in, notes, observations, marks.
func (c checker) told() error {
	for _, x := range c.b.Codes {
		if err := c.entry("code", x.ID, x.CaseID); err != nil {
			return err
		}
	}
	for _, x := range c.b.Notes {
		if err := c.entry("note", x.ID, x.CaseID); err != nil {
			return err
		}
		if x.Kind.Words() == "" || tooLong(x.Text) || !c.photos[x.Photo] {
			return fmt.Errorf("the note %s in the bundle has kind %q, a text too long, or a photo that is missing", x.ID, clip(x.Kind))
		}
	}
	for _, x := range c.b.Told {
		if err := c.entry("observation", x.ID, x.CaseID); err != nil {
			return err
		}
		if !x.Kind.Known() || x.Key != "" && !partKey(x.Key) || x.Part != "" && !partKey(x.Part) || x.Key+x.Part == "" {
			return fmt.Errorf("the observation %s in the bundle has kind %q, key %q or part %q", x.ID, clip(x.Kind), clip(x.Key), clip(x.Part))
		}
	}
	for _, x := range c.b.Marks {
		if err := c.entry("mark", x.ID, x.CaseID); err != nil {
			return err
		}
		if x.Kind.Words() == "" || !partKey(x.Part) || !(x.Odds >= 0 && x.Odds <= 1) || tooLong(x.Text) || !c.photos[x.Photo] {
			return fmt.Errorf("the mark %s in the bundle has kind %q, part %q or odds that cannot be, or its photo is missing", x.ID, clip(x.Kind), clip(x.Part))
		}
	}
	return nil
}

// read checks what instruments and hands brought: scans and results.
func (c checker) read() error {
	size := 0
	for _, x := range c.b.Scans {
		if err := c.entry("scan", x.ID, x.CaseID); err != nil {
			return err
		}
		if size += len(x.Raw); len(x.Raw) > record.MostScan || len(x.Source) > 400 || size > record.MostScanBytes {
			return fmt.Errorf("the scan %s in the bundle is too large, or all of them together are", x.ID)
		}
	}
	for _, x := range c.b.Results {
		if err := c.entry("result", x.ID, x.CaseID); err != nil {
			return err
		}
		if !partKey(x.Test) || x.Part != "" && !partKey(x.Part) || len(x.Outcome) > 80 || len(x.Judged) > 80 || len(x.RepeatOf) > 64 || len(x.Figures) > 40 || len(x.Exits) > 40 || tooLong(x.Note+x.Says+x.Overruled) || !figuresFit(x.Figures) {
			return fmt.Errorf("the result %s in the bundle has test %q, part %q or more readings than a test has", x.ID, clip(x.Test), clip(x.Part))
		}
		if !c.photos[x.Photo] {
			return fmt.Errorf("the photo of the result %s is missing from the bundle", x.ID)
		}
		for _, e := range x.Exits {
			if !partKey(e.Part) || !e.Size.Seen() && !e.Size.Known() {
				return fmt.Errorf("the result %s in the bundle has an exit at %q of size %q", x.ID, clip(e.Part), clip(e.Size))
			}
		}
	}
	return nil
}

// figuresFit reports whether figures are as long as a test's can be.
func figuresFit(f record.Figures) bool {
	return !slices.ContainsFunc(f, func(x record.Figure) bool {
		return len(x.Key) > 64 || tooLong(x.Name+x.Unit) || len(x.Values) > 40 || len(x.Words) > 60 || slices.ContainsFunc(x.Words, func(w string) bool { return len(w) > 120 })
	})
}

// worked checks what was found, repaired, tried again and opened.
func (c checker) worked() error {
	for _, x := range c.b.Findings {
		if err := c.entry("finding", x.ID, x.CaseID); err != nil {
			return err
		}
		if !c.photos[x.Photo] {
			return errors.New("a photo that a finding names is missing from the bundle")
		}
		if !(x.Odds >= 0 && x.Odds <= 1) {
			return fmt.Errorf("the finding %s in the bundle has odds of %g", x.ID, x.Odds)
		}
	}
	for _, x := range c.b.Repairs {
		if err := c.entry("repair", x.ID, x.CaseID); err != nil {
			return err
		}
		if err := x.Check(); err != nil {
			return fmt.Errorf("the repair %s in the bundle: %w", x.ID, err)
		}
		if !c.photos[x.Photo] {
			return fmt.Errorf("the photo of the repair %s is missing from the bundle", x.ID)
		}
	}
	for _, x := range c.b.Trials {
		if err := c.entry("trial", x.ID, x.CaseID); err != nil {
			return err
		}
		if err := x.Check(); err != nil {
			return fmt.Errorf("the trial %s in the bundle: %w", x.ID, err)
		}
	}
	for _, x := range c.b.Opened {
		if err := c.entry("post-mortem", x.ID, x.CaseID); err != nil {
			return err
		}
		if !x.Confirmed.Known() || !c.ids[x.FindingID] || tooLong(x.Text) || !c.photos[x.Photo] {
			return fmt.Errorf("the post-mortem %s in the bundle says %q, or its finding or photo is missing", x.ID, clip(x.Confirmed))
		}
	}
	return nil
}

// onCar checks what belongs to the car: corrections and access cards.
func (c checker) onCar() error {
	for _, x := range c.b.Corrections {
		if err := c.own("correction", x.ID); err != nil {
			return err
		}
		known := x.Kind == plumbing.Gone || x.Kind == plumbing.Runs || x.Kind == "note"
		if x.VehicleID != c.b.Vehicle.ID || !partKey(x.Part) || !known || tooLong(x.Text) || !c.photos[x.Photo] {
			return fmt.Errorf("the correction %s in the bundle has kind %q or part %q, belongs to another car, or its photo is missing", x.ID, clip(x.Kind), clip(x.Part))
		}
	}
	for _, x := range c.b.Values {
		if err := c.own("value", x.ID); err != nil {
			return err
		}
		if x.VehicleID != c.b.Vehicle.ID || !quantityKey(x.What) || x.Part != "" && !partKey(x.Part) || x.Said == "" || x.Source == "" || tooLong(x.Said+x.Source) {
			return fmt.Errorf("the value %s in the bundle is of %q, belongs to another car, or has no source", x.ID, clip(x.What))
		}
	}
	for _, x := range c.b.Cards {
		if err := c.own("access card", x.ID); err != nil {
			return err
		}
		if x.VehicleID != c.b.Vehicle.ID || !partKey(x.Part) || x.Check() != nil || tooLong(x.Place+x.First+x.Fasteners+x.Locks+x.Breaks) || !c.photos[x.Photo] {
			return fmt.Errorf("the access card %s in the bundle has part %q, belongs to another car, or its photo is missing", x.ID, clip(x.Part))
		}
	}
	return nil
}

func (c checker) tests() error {
	if len(c.b.Tests) > record.MostTests {
		return fmt.Errorf("the bundle has more than %d tests", record.MostTests)
	}
	readings := 0
	for _, t := range c.b.Tests {
		if err := c.entry("test", t.ID, t.CaseID); err != nil {
			return err
		}
		if t.Key != "" && !partKey(t.Key) || t.Part != "" && !partKey(t.Part) || len(t.Seats) > record.MostColumns || len(t.Turns) > record.MostTurns {
			return fmt.Errorf("the test %s in the bundle is of %q at %q; that cannot be", t.ID, clip(t.Key), clip(t.Part))
		}
		var fits error
		if t.Key == "" || t.Key == bench.PressureHold.Key {
			fits = t.Setup.Check()
		}
		if _, ok := t.Drive(); !ok && t.Key == bench.Trims.Key && t.Result != "" {
			fits = errors.New("it holds a drive that cannot be one")
		}
		if err := errors.Join(fits, blobSane(t.Result, "tests."+t.ID+".result")); err != nil {
			return fmt.Errorf("the test %s in the bundle: %w", t.ID, err)
		}
		if len(t.Setup.Set) > 100 || t.Setup.Entry != "" && !partKey(t.Setup.Entry) {
			return fmt.Errorf("the test %s in the bundle sets more parts than a car has, or joins its gauge at %q", t.ID, clip(t.Setup.Entry))
		}
		for k, st := range t.Setup.Set {
			if !partKey(k) || !plumbing.State(st).Known() {
				return fmt.Errorf("the test %s in the bundle makes %q stand %q; that cannot be", t.ID, clip(k), clip(st))
			}
		}
		for _, r := range t.Runs {
			if err := c.run(t.ID, r); err != nil {
				return err
			}
			if readings += len(r.Time); readings > record.MostReadings {
				return fmt.Errorf("the bundle has more than %d readings", record.MostReadings)
			}
		}
	}
	return nil
}

func (c checker) run(test string, r BundleRun) error {
	if err := c.own("run", r.ID); err != nil {
		return err
	}
	switch {
	case r.TestID != test || !bench.IsStretch(r.Kind):
		return fmt.Errorf("the run %s in the bundle has kind %q or belongs elsewhere", r.ID, clip(r.Kind))
	case r.EndedAt == nil:
		return fmt.Errorf("the run %s in the bundle has not ended; stop the leg before the case is exported", r.ID)
	case len(r.Marks) > record.MostMarks || len(r.Gaps) > record.MostGaps:
		return fmt.Errorf("the run %s in the bundle has too many marks or gaps", r.ID)
	case len(r.Channels) > record.MostChannels || len(r.Columns) != len(r.Channels) || len(r.Figures) > record.MostColumns:
		return fmt.Errorf("the run %s in the bundle has %d channels and %d columns of readings", r.ID, len(r.Channels), len(r.Columns))
	case len(r.Channels) > 0:
		return columns(r)
	case len(r.Time) != r.Readings || len(r.Gauge) != r.Readings || r.Wall != nil && len(r.Wall) != r.Readings || r.Readings < 2 && !r.Struck():
		return fmt.Errorf("the run %s in the bundle says %d readings and holds %d", r.ID, r.Readings, len(r.Time))
	}
	for i := range r.Time {
		if i > 0 && r.Time[i] <= r.Time[i-1] || math.Abs(r.Gauge[i]) > 1e6 || math.Abs(r.Time[i]) > 1e9 || r.Wall != nil && !(r.Wall[i] >= 150 && r.Wall[i] <= 500) {
			return fmt.Errorf("the run %s in the bundle breaks at reading %d: time must rise, pressures stay below 1 MPa and the wall between 150 and 500 K", r.ID, i+1)
		}
	}
	return nil
}

// columns checks a run that was read live.
func columns(r BundleRun) error {
	for _, c := range r.Columns {
		if len(c.Read) != r.Readings || len(r.Time) != r.Readings || r.Readings < 2 && !r.Struck() {
			return fmt.Errorf("the run %s in the bundle says %d readings and holds %d", r.ID, r.Readings, len(c.Read))
		}
	}
	for i := range r.Time {
		if i > 0 && r.Time[i] <= r.Time[i-1] || math.Abs(r.Time[i]) > 1e9 {
			return fmt.Errorf("the run %s in the bundle breaks at reading %d: time must rise", r.ID, i+1)
		}
	}
	return nil
}

func tooLong(s string) bool { return utf8.RuneCountInString(s) > mostWords }

// partKey reports whether s can be the key of a part.
func partKey(s string) bool {
	return s != "" && len(s) <= 64 && strings.Trim(s, "0123456789abcdefghijklmnopqrstuvwxyz-") == ""
}

// quantityKey reports whether s can be the key of a quantity: a word, or a test and what is
// read in it.
func quantityKey(s string) bool {
	test, channel, two := strings.Cut(s, "/")
	return partKey(test) && (!two || partKey(channel))
}

// clip shortens what a stranger wrote, for a sentence about it.
func clip[S ~string](s S) string {
	if len(s) > 60 {
		return strings.ToValidUTF8(string(s[:60]), "?") + "…"
	}
	return string(s)
}
