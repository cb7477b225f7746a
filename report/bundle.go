package report

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"wexter/core/record"
	"wexter/ingest"
)

// Schema names the form of a bundle; a number behind the slash that is higher than
// this one's comes from a newer Wexter.
const (
	Schema  = "wexter-case/4"
	version = 4
)

// Bundle is one case with everything on it, readings and photos included.
type Bundle struct {
	Schema   string               `json:"schema"`
	Vehicle  record.Vehicle       `json:"vehicle"`
	Case     record.Case          `json:"case"`
	Codes    []record.Code        `json:"codes"`
	Tests    []BundleTest         `json:"tests"`
	Findings []record.Finding     `json:"findings"`
	Repairs  []record.RepairDone  `json:"repairs"`
	Trials   []record.Trial       `json:"trials"`
	Scans    []record.ScanDone    `json:"scans"`
	Notes    []record.Note        `json:"notes"`
	Marks    []record.MapMark     `json:"marks"`
	Results  []record.Result      `json:"results"`
	Told     []record.Observation `json:"observations"`
	Opened   []record.PostMortem  `json:"post_mortems"`
	Photos   []record.Photo       `json:"photos"`

	Corrections []record.Correction `json:"corrections"` // of the vehicle, over all its cases
	Cards       []record.AccessCard `json:"cards"`
}

// BundleTest is a test with its runs.
type BundleTest struct {
	record.Test
	Runs []BundleRun `json:"runs"`
}

// BundleRun is a run with its readings, in SI.
type BundleRun struct {
	record.Run
	Time  []float64 `json:"time_s"`
	Gauge []float64 `json:"gauge_pa"`
	Wall  []float64 `json:"wall_k"`
}

// WriteBundle writes the canonical form: fields in a fixed order, numbers in their
// shortest exact form, one trailing newline. The same case gives the same bytes.
func WriteBundle(b Bundle) ([]byte, error) {
	b.Schema = Schema
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.SetIndent("", " ")
	if err := e.Encode(b); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// ReadBundle reads and checks a bundle; the error is one sentence.
func ReadBundle(data []byte) (Bundle, error) {
	var head struct {
		Schema string `json:"schema"`
	}
	var b Bundle
	if err := json.Unmarshal(data, &head); err != nil {
		return b, fmt.Errorf("this is no bundle: %s", ingest.JSONWords(data, err))
	}
	name, num, _ := strings.Cut(head.Schema, "/")
	n, err := strconv.Atoi(num)
	if name != "wexter-case" || err != nil || n < 1 {
		return b, errors.New("this is no bundle of a case: its \"schema\" should be \"" + Schema + "\"")
	}
	if n > version {
		return b, fmt.Errorf("this bundle was written by a newer Wexter (schema %d, this one reads up to %d); take the newer program", n, version)
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&b); err != nil {
		return b, fmt.Errorf("the bundle cannot be read: %s", ingest.JSONWords(data, err))
	}
	if _, err := d.Token(); err != io.EOF {
		return b, errors.New("the bundle goes on after its end; it was joined or cut")
	}
	if n < 2 { // the first schema knew no live runs: all had ended when they were kept
		for i := range b.Tests {
			for j := range b.Tests[i].Runs {
				r := &b.Tests[i].Runs[j]
				r.EndedAt, r.Marks, r.Gaps = &r.At, record.Marks{}, record.Gaps{}
			}
		}
	}
	return b, b.check()
}

func (b Bundle) check() error {
	ids := map[string]bool{}
	own := func(what, id string) error {
		if id == "" || len(id) > 64 || strings.Trim(id, "0123456789abcdefghijklmnopqrstuvwxyz-") != "" || ids[id] {
			return fmt.Errorf("the bundle's %s has the id %q; ids are short, in lower case and used once", what, clip(id))
		}
		ids[id] = true
		return nil
	}
	if err := own("vehicle", b.Vehicle.ID); err != nil {
		return err
	}
	if err := own("case", b.Case.ID); err != nil {
		return err
	}
	if b.Vehicle.PlateKey == "" || b.Case.VehicleID != b.Vehicle.ID {
		return errors.New("the bundle's case does not belong to its vehicle")
	}
	for _, k := range []string{b.Vehicle.Archetype, b.Vehicle.Engine, b.Vehicle.Boost, b.Vehicle.Crankcase, b.Vehicle.Recirculation} {
		if k != "" && !partKey(k) {
			return fmt.Errorf("the bundle's vehicle is built as %q; that is no archetype", clip(k))
		}
	}
	valid := false
	for _, s := range record.Stages() {
		valid = valid || s == b.Case.Stage
	}
	if !valid || b.Case.Number == "" || len(b.Case.Number) > 24 || b.Case.Version < 1 || (b.Case.ClosedAt != nil) != (b.Case.Stage == record.Closed) {
		return fmt.Errorf("the bundle's case has stage %q and number %q; that cannot be", clip(string(b.Case.Stage)), clip(b.Case.Number))
	}
	for _, s := range []string{b.Vehicle.Plate, b.Vehicle.Make, b.Vehicle.Model, b.Case.Complaint, b.Case.Circumstances, b.Case.RecentWork, b.Case.Reason} {
		if utf8.RuneCountInString(s) > 4000 {
			return errors.New("a text in the bundle is longer than 4000 characters")
		}
	}
	belongs := func(what, caseID string) error {
		if caseID != b.Case.ID {
			return fmt.Errorf("a %s in the bundle belongs to another case", what)
		}
		return nil
	}
	for _, x := range b.Codes {
		if err := errors.Join(own("code", x.ID), belongs("code", x.CaseID)); err != nil {
			return err
		}
	}
	photos := map[string]bool{"": true}
	for _, p := range b.Photos {
		sum := sha256.Sum256(p.Data)
		if hex.EncodeToString(sum[:]) != p.Hash || (p.Mime != "image/png" && p.Mime != "image/jpeg") {
			return fmt.Errorf("the photo %s in the bundle is damaged", clip(p.Hash))
		}
		photos[p.Hash] = true
	}
	for _, x := range b.Findings {
		if err := errors.Join(own("finding", x.ID), belongs("finding", x.CaseID)); err != nil {
			return err
		}
		if !photos[x.Photo] {
			return errors.New("a photo that a finding names is missing from the bundle")
		}
	}
	for _, x := range b.Repairs {
		if err := errors.Join(own("repair", x.ID), belongs("repair", x.CaseID)); err != nil {
			return err
		}
	}
	for _, x := range b.Trials {
		if err := errors.Join(own("trial", x.ID), belongs("trial", x.CaseID)); err != nil {
			return err
		}
	}
	for _, x := range b.Scans {
		if err := errors.Join(own("scan", x.ID), belongs("scan", x.CaseID)); err != nil {
			return err
		}
		if len(x.Raw) > 1<<20 || len(x.Source) > 400 {
			return fmt.Errorf("the scan %s in the bundle is too large", x.ID)
		}
	}
	for _, x := range b.Notes {
		if err := errors.Join(own("note", x.ID), belongs("note", x.CaseID)); err != nil {
			return err
		}
		if record.NoteWords[x.Kind] == "" || utf8.RuneCountInString(x.Text) > 4000 || !photos[x.Photo] {
			return fmt.Errorf("the note %s in the bundle has kind %q, a text too long, or a photo that is missing", x.ID, clip(x.Kind))
		}
	}
	for _, x := range b.Marks {
		if err := errors.Join(own("mark", x.ID), belongs("mark", x.CaseID)); err != nil {
			return err
		}
		if record.MarkWords[x.Kind] == "" || !partKey(x.Part) || !(x.Odds >= 0 && x.Odds <= 1) || utf8.RuneCountInString(x.Text) > 4000 {
			return fmt.Errorf("the mark %s in the bundle has kind %q, part %q or odds that cannot be", x.ID, clip(x.Kind), clip(x.Part))
		}
	}
	for _, x := range b.Results {
		if err := errors.Join(own("result", x.ID), belongs("result", x.CaseID)); err != nil {
			return err
		}
		if !partKey(x.Test) || x.Part != "" && !partKey(x.Part) || len(x.Outcome) > 80 || len(x.Figures) > 20 || len(x.Exits) > 40 || utf8.RuneCountInString(x.Note) > 4000 {
			return fmt.Errorf("the result %s in the bundle has test %q, part %q or more readings than a test has", x.ID, clip(x.Test), clip(x.Part))
		}
		for _, e := range x.Exits {
			if !partKey(e.Part) || len(e.Size) > 20 {
				return fmt.Errorf("the result %s in the bundle has an exit at %q", x.ID, clip(e.Part))
			}
		}
	}
	for _, x := range b.Told {
		if err := errors.Join(own("observation", x.ID), belongs("observation", x.CaseID)); err != nil {
			return err
		}
		if !slices.Contains([]string{record.SeenSign, record.SeenContext, record.SeenRenewed, record.SeenMarks}, x.Kind) || x.Key != "" && !partKey(x.Key) || x.Part != "" && !partKey(x.Part) || x.Key+x.Part == "" {
			return fmt.Errorf("the observation %s in the bundle has kind %q, key %q or part %q", x.ID, clip(x.Kind), clip(x.Key), clip(x.Part))
		}
	}
	for _, x := range b.Opened {
		if err := errors.Join(own("post-mortem", x.ID), belongs("post-mortem", x.CaseID)); err != nil {
			return err
		}
		if !slices.Contains([]string{"yes", "no", "unclear"}, x.Confirmed) || !ids[x.FindingID] || utf8.RuneCountInString(x.Text) > 4000 || !photos[x.Photo] {
			return fmt.Errorf("the post-mortem %s in the bundle says %q, or its finding or photo is missing", x.ID, clip(x.Confirmed))
		}
	}
	for _, x := range b.Corrections {
		if err := own("correction", x.ID); err != nil {
			return err
		}
		if x.VehicleID != b.Vehicle.ID || !partKey(x.Part) || x.Kind != "gone" && x.Kind != "runs" && x.Kind != "note" || utf8.RuneCountInString(x.Text) > 4000 || !photos[x.Photo] {
			return fmt.Errorf("the correction %s in the bundle has kind %q or part %q, belongs to another car, or its photo is missing", x.ID, clip(x.Kind), clip(x.Part))
		}
	}
	for _, x := range b.Cards {
		if err := own("access card", x.ID); err != nil {
			return err
		}
		if x.VehicleID != b.Vehicle.ID || !partKey(x.Part) || x.Minutes < 0 || x.Minutes > 600 || utf8.RuneCountInString(x.Place+x.First+x.Fasteners+x.Locks+x.Breaks) > 4000 || !photos[x.Photo] {
			return fmt.Errorf("the access card %s in the bundle has part %q, belongs to another car, or its photo is missing", x.ID, clip(x.Part))
		}
	}
	for _, t := range b.Tests {
		if len(t.Setup.Set) > 100 || t.Setup.Entry != "" && !partKey(t.Setup.Entry) {
			return fmt.Errorf("the test %s in the bundle sets more parts than a car has, or joins its gauge at %q", t.ID, clip(t.Setup.Entry))
		}
		for k, st := range t.Setup.Set {
			if !partKey(k) || st != "open" && st != "shut" && st != "powered" && st != "plugged" {
				return fmt.Errorf("the test %s in the bundle makes %q stand %q; that cannot be", t.ID, clip(k), clip(st))
			}
		}
		if err := errors.Join(own("test", t.ID), belongs("test", t.CaseID)); err != nil {
			return err
		}
		for _, r := range t.Runs {
			if err := own("run", r.ID); err != nil {
				return err
			}
			if r.TestID != t.ID || record.RunWords[r.Kind] == "" {
				return fmt.Errorf("the run %s in the bundle has kind %q or belongs elsewhere", r.ID, clip(r.Kind))
			}
			if r.EndedAt == nil {
				return fmt.Errorf("the run %s in the bundle has not ended; stop the leg before the case is exported", r.ID)
			}
			if len(r.Marks) > 400 || len(r.Gaps) > 4000 {
				return fmt.Errorf("the run %s in the bundle has too many marks or gaps", r.ID)
			}
			if len(r.Time) != r.Readings || len(r.Gauge) != r.Readings || r.Wall != nil && len(r.Wall) != r.Readings || r.Readings < 2 && r.StruckAt == nil {
				return fmt.Errorf("the run %s in the bundle says %d readings and holds %d", r.ID, r.Readings, len(r.Time))
			}
			for i := range r.Time {
				if i > 0 && r.Time[i] <= r.Time[i-1] || math.Abs(r.Gauge[i]) > 1e6 || math.Abs(r.Time[i]) > 1e9 {
					return fmt.Errorf("the run %s in the bundle breaks at reading %d: time must rise and pressures stay below 1 MPa", r.ID, i+1)
				}
			}
		}
	}
	return nil
}

// partKey reports whether s can be the key of a part.
func partKey(s string) bool {
	return s != "" && len(s) <= 64 && strings.Trim(s, "0123456789abcdefghijklmnopqrstuvwxyz-") == ""
}

func clip(s string) string {
	if len(s) > 60 {
		return strings.ToValidUTF8(s[:60], "?") + "…"
	}
	return s
}
