package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"wexter/core/record"
	"wexter/ingest"
)

// MaxBytes is the largest bundle that is read: more than the largest that a shop writes.
const MaxBytes = 320 << 20

// Schema names the form of a bundle; a number behind the slash that is higher than
// this one's comes from a newer Wexter.
const (
	Schema  = "wexter-case/10"
	version = 10
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
	Values      []record.CarValue   `json:"values"`
}

// BundleTest is a test with its runs.
type BundleTest struct {
	record.Test
	Runs []BundleRun `json:"runs"`
}

// BundleRun is a run with its readings, in SI. One that was read live has a column for each of
// its channels instead of gauge and wall.
type BundleRun struct {
	record.Run
	Time    []float64      `json:"time_s"`
	Gauge   []float64      `json:"gauge_pa"`
	Wall    []float64      `json:"wall_k"`
	Columns []BundleColumn `json:"columns,omitempty"`
}

// BundleColumn is what one channel read; null where it gave nothing.
type BundleColumn struct {
	Read record.Column `json:"read"`
}

// NewBundleRun is a run as a bundle holds it.
func NewBundleRun(r record.Run, t record.Table) BundleRun {
	out := BundleRun{Run: r, Time: t.Time}
	if len(r.Channels) > 0 {
		for _, c := range t.Cols {
			out.Columns = append(out.Columns, BundleColumn{c})
		}
		return out
	}
	if len(t.Cols) > 0 {
		out.Gauge = t.Cols[0]
	}
	if len(t.Cols) > 1 && !slices.ContainsFunc(t.Cols[1], math.IsNaN) {
		out.Wall = t.Cols[1]
	}
	return out
}

// Table is what a run read.
func (r BundleRun) Table() record.Table {
	t := record.Table{Time: r.Time}
	for _, c := range r.Columns {
		t.Cols = append(t.Cols, c.Read)
	}
	if len(r.Columns) > 0 {
		return t
	}
	if t.Cols = append(t.Cols, r.Gauge); r.Wall != nil {
		t.Cols = append(t.Cols, r.Wall)
	}
	return t
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
	if err := bounded(data); err != nil {
		return b, err
	}
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
	if err := sane(b); err != nil {
		return b, err
	}
	return b, checkBundle(b)
}
