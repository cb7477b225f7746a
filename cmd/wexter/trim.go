package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"math"
	"os"
	"strings"

	"wexter/core/trim"
	"wexter/core/units"
	"wexter/ingest"
)

// trimOutput is what `wexter trim --json` prints.
type trimOutput struct {
	Metering  string         `json:"metering"`
	Points    []pointOutput  `json:"points"`
	Cut       []cutOutput    `json:"cut"`
	Causes    []causeOutput  `json:"causes"`
	Ambiguous []alikeOutput  `json:"ambiguous"`
	NotSeen   []unseenOutput `json:"not_seen"`
	AtStop    []int          `json:"at_stop"`
	Repair    *repairOutput  `json:"before_after,omitempty"`
	CountS    float64        `json:"counts_s"`
	Warnings  []string       `json:"warnings"`
	Algorithm string         `json:"algorithm"`
	result    trim.Result    // what it was made of
	change    *trim.Change   // of which the repair was made
}

type pointOutput struct {
	Region   string   `json:"region"`
	RPM      *float64 `json:"rpm"`
	MapKPa   *float64 `json:"map_kpa"`
	MafGS    *float64 `json:"maf_g_s"`
	Trim     float64  `json:"trim"`
	SD       float64  `json:"sd"`
	Bank     int      `json:"bank"`
	Short    float64  `json:"short"`
	Long     float64  `json:"long"`
	Bound    bool     `json:"bound"`
	Seconds  float64  `json:"seconds"`
	PurgePct *float64 `json:"purge"`
}

type cutOutput struct {
	FromS float64 `json:"from_s"`
	ToS   float64 `json:"to_s"`
	Why   string  `json:"why"`
}

type causeOutput struct {
	Key         string   `json:"key"`
	Name        string   `json:"name"`
	Probability float64  `json:"probability"`
	Value       *float64 `json:"value"`
	Low         *float64 `json:"low"`
	High        *float64 `json:"high"`
	Unit        string   `json:"unit"`
}

type alikeOutput struct {
	Keys      []string `json:"keys"`
	WouldTell string   `json:"would_tell"`
}

type unseenOutput struct {
	Key string `json:"key"`
	Why string `json:"why"`
}

type repairOutput struct {
	Worked      *bool              `json:"worked"`
	Relearning  bool               `json:"relearning"`
	TotalBefore map[string]float64 `json:"total_before"`
	TotalAfter  map[string]float64 `json:"total_after"`
	LeftPct     *float64           `json:"left"`
	LeftLowPct  *float64           `json:"left_low"`
	LeftHighPct *float64           `json:"left_high"`
	DriveKm     *[2]float64        `json:"relearn_km"`
	Text        string             `json:"text"`
}

// finite is a number for JSON: null where there is none.
func finite(x float64) *float64 {
	if math.IsNaN(x) || math.IsInf(x, 0) {
		return nil
	}
	return &x
}

func runTrim(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("trim", flag.ContinueOnError)
	metering := fs.String("metering", "", "how the engine is metered: maf or map; by the log's channels without it")
	size := quantity{kind: units.Volume, bare: "L"}
	barometer := quantity{kind: units.Pressure, bare: "kPa"}
	fs.Var(&size, "displacement", "size of the engine, for example 1.6L")
	fs.Var(&barometer, "barometer", "barometer, where the log has none (101.325kPa)")
	before := fs.String("before", "", "CSV of the drive before the repair")
	asJSON := fs.Bool("json", false, "print for machines")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) != 1 {
		return usage("name the CSV of one drive")
	}
	e := trim.Engine{Displacement: size.si, Barometer: barometer.si}
	if *metering != "" {
		var ok bool
		if e.Metering, ok = trim.MeteringOf(*metering); !ok {
			return usage("--metering: %q is neither maf nor map", *metering)
		}
	}
	if err := e.Check(); err != nil {
		return badUse{err}
	}
	r, notes, err := judgeDrive(words[0], e)
	if err != nil {
		return err
	}
	o := newTrimOutput(r, notes)
	if *before != "" {
		b, _, err := judgeDrive(*before, e)
		if err != nil {
			return err
		}
		c := trim.CompareRepair(&b, &r)
		o.change, o.Repair = &c, newRepairOutput(c)
	}
	if *asJSON {
		enc := json.NewEncoder(out)
		enc.SetIndent("", "  ")
		return enc.Encode(o)
	}
	printTrim(out, o)
	return nil
}

// judgeDrive reads the log of a drive and judges it.
func judgeDrive(path string, e trim.Engine) (trim.Result, []string, error) {
	f, err := os.Open(path)
	if err != nil {
		return trim.Result{}, nil, fmt.Errorf("%s cannot be opened: %w", path, err)
	}
	defer f.Close()
	d, err := ingest.ReadDrive(f)
	if err != nil {
		return trim.Result{}, nil, fmt.Errorf("%s: %w", path, err)
	}
	r, err := trim.Judge(&d.Log, e)
	if err != nil {
		return r, nil, fmt.Errorf("%s: %w", path, err)
	}
	return r, d.Notes, nil
}

func newTrimOutput(r trim.Result, notes []string) trimOutput {
	o := trimOutput{Metering: r.Metering.Key(), Points: []pointOutput{}, Cut: []cutOutput{}, Causes: []causeOutput{}, Ambiguous: []alikeOutput{}, NotSeen: []unseenOutput{}, AtStop: []int{}, CountS: r.Points.Seconds,
		Warnings: append(append([]string{}, notes...), r.Warnings...), Algorithm: trim.Version, result: r}
	o.AtStop = append(o.AtStop, r.AtStop...)
	for _, p := range r.Points.Points {
		for n, b := range p.Banks {
			o.Points = append(o.Points, pointOutput{Region: p.Region.Key(), RPM: finite(p.Speed), MapKPa: finite(p.Pressure / 1e3), MafGS: finite(p.Air * 1e3), Trim: 100 * b.Total, SD: 100 * b.SD, Bank: n + 1,
				Short: 100 * b.Short, Long: 100 * b.Long, Bound: b.Bound, Seconds: p.Seconds, PurgePct: finite(100 * p.Purge)})
		}
	}
	for _, c := range r.Points.Cuts {
		o.Cut = append(o.Cut, cutOutput{c.From, c.To, c.Why.String()})
	}
	for _, c := range r.Causes {
		o.Causes = append(o.Causes, causeOutput{c.Key(), c.Name, c.Probability, finite(c.Value), finite(c.Low), finite(c.High), c.Unit})
	}
	for _, a := range r.Ambiguous {
		o.Ambiguous = append(o.Ambiguous, alikeOutput{a.Keys, a.WouldTell})
	}
	for _, u := range r.NotSeen {
		o.NotSeen = append(o.NotSeen, unseenOutput{string(u.Key), u.Why})
	}
	return o
}

func newRepairOutput(c trim.Change) *repairOutput {
	o := &repairOutput{Relearning: c.Relearning, TotalBefore: map[string]float64{}, TotalAfter: map[string]float64{}, LeftPct: finite(100 * c.Left), LeftLowPct: finite(100 * c.LeftLow), LeftHighPct: finite(100 * c.LeftHigh), Text: c.Text}
	if c.Worked != trim.CannotTell {
		yes := c.Worked == trim.Yes
		o.Worked = &yes
	}
	for _, p := range c.Parts {
		if p.Before == p.Before {
			o.TotalBefore[p.Region.Key()] = 100 * p.Before
		}
		if p.After == p.After {
			o.TotalAfter[p.Region.Key()] = 100 * p.After
		}
	}
	if c.Drive[1] > 0 {
		o.DriveKm = &[2]float64{c.Drive[0] / 1e3, c.Drive[1] / 1e3}
	}
	return o
}

// printTrim prints for people.
func printTrim(out io.Writer, o trimOutput) {
	r := o.result
	for i, c := range r.Causes {
		if i > 0 && c.Probability < 0.01 {
			continue
		}
		fmt.Fprintf(out, "%5s  %s%s\n", c.Odds(), c.Name, size(c))
	}
	for _, a := range r.Ambiguous {
		fmt.Fprintf(out, "this log cannot tell apart: %s\n  %s\n", strings.Join(names(r, a.Keys), "; "), a.WouldTell)
	}
	fmt.Fprintf(out, "\n%-20s %6s %8s %8s %5s %9s %7s %7s %6s\n", "point", "rpm", "MAP kPa", "MAF g/s", "bank", "total %", "short", "long", "s")
	for _, p := range r.Points.Points {
		for n, b := range p.Banks {
			sign := ""
			if b.Bound {
				sign = map[int]string{1: "≥", -1: "≤"}[b.Stop]
			}
			fmt.Fprintf(out, "%-20s %6s %8s %8s %5d %9s %+7.1f %+7.1f %6.0f\n", p.Region, units.Digits(p.Speed, 3), units.Digits(p.Pressure/1e3, 3), units.Digits(p.Air*1e3, 3), n+1,
				fmt.Sprintf("%s%+.1f", sign, 100*b.Total), 100*b.Short, 100*b.Long, p.Seconds)
		}
	}
	lost := map[trim.Reason]float64{}
	var order []trim.Reason
	for _, c := range r.Points.Cuts {
		if lost[c.Why] == 0 {
			order = append(order, c.Why)
		}
		lost[c.Why] += c.To - c.From
	}
	fmt.Fprintf(out, "%.0f s count", r.Points.Seconds)
	for _, w := range order {
		fmt.Fprintf(out, ", %.0f s %s", lost[w], w)
	}
	fmt.Fprintln(out)
	if o.change != nil {
		fmt.Fprintf(out, "\nbefore and after: %s\n", o.change.Text)
	}
	for _, w := range o.Warnings {
		fmt.Fprintln(out, "· "+w)
	}
	for _, u := range r.NotSeen {
		fmt.Fprintln(out, "· "+u.Why)
	}
}

// size is a cause's size with its interval.
func size(c trim.Cause) string {
	if c.Value != c.Value {
		return ""
	}
	return fmt.Sprintf(": %s %s (%s to %s)", units.Digits(c.Value, 2), c.Unit, units.Digits(c.Low, 2), units.Digits(c.High, 2))
}

// names are causes by their keys, in words.
func names(r trim.Result, keys []string) (out []string) {
	for _, k := range keys {
		for _, c := range r.Causes {
			if c.Key() == k {
				out = append(out, c.Name)
			}
		}
	}
	return
}
