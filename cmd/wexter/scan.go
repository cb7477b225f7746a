package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"wexter/core/obd"
	"wexter/core/units"
	"wexter/ingest"
)

// scanJSON is what `wexter scan --json` prints.
type scanJSON struct {
	Codes     []obd.Code                      `json:"codes"`
	Readiness map[string]string               `json:"readiness"`
	ThisTrip  map[string]string               `json:"this_trip"`
	Lamp      *bool                           `json:"lamp"`
	Live      map[string]obd.Value            `json:"live"`
	Others    map[string]map[string]obd.Value `json:"others"`
	Freeze    map[string]any                  `json:"freeze"`
	Tests     []obd.TestResult                `json:"tests"`
	VIN       string                          `json:"vin"`
	Since     string                          `json:"since_clearing"`
	Units     []string                        `json:"ecus"`
	Warnings  []string                        `json:"warnings"`
}

// readAll reads a file of the command line, or standard input for -, to a byte over most.
func readAll(path string, most int64) ([]byte, error) {
	src := io.Reader(os.Stdin)
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		src = f
	}
	return io.ReadAll(io.LimitReader(src, most+1))
}

func runScan(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("scan", flag.ContinueOnError)
	asJSON := fs.Bool("json", false, "print JSON")
	words, err := parse(fs, args, errs)
	if err != nil {
		return err
	}
	if len(words) != 1 {
		return usage("one file with the answers is needed; - reads standard input")
	}
	data, err := readAll(words[0], ingest.MaxHexBytes)
	if err != nil {
		return err
	}
	s, err := ingest.ReadScan(data)
	if err != nil {
		return fmt.Errorf("%s: %w", words[0], err)
	}
	if *asJSON {
		j := scanJSON{Codes: s.Codes, Readiness: s.Readiness, ThisTrip: s.ThisTrip, Lamp: s.Lamp, Live: s.Live, Others: s.Others, Tests: s.Tests,
			VIN: s.VIN, Since: s.Since(time.Time{}).Words, Units: s.Units, Warnings: s.Warnings}
		if j.Codes == nil {
			j.Codes = []obd.Code{}
		}
		if j.Tests == nil {
			j.Tests = []obd.TestResult{}
		}
		if j.Warnings == nil {
			j.Warnings = []string{}
		}
		if len(s.Freeze) > 0 {
			j.Freeze = map[string]any{"code": s.Freeze[0].Code, "ecu": s.Freeze[0].ECU}
			for k, v := range s.Freeze[0].Data {
				j.Freeze[k] = v
			}
		}
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(j)
	}
	printScan(out, s)
	return nil
}

func printScan(out io.Writer, s obd.Scan) {
	book := ingest.Book()
	if s.VIN != "" {
		fmt.Fprintf(out, "vehicle id  %s\n", s.VIN)
	}
	if s.Lamp != nil {
		fmt.Fprintf(out, "lamp        %s\n", map[bool]string{true: "on", false: "off"}[*s.Lamp])
	}
	for _, c := range s.Codes {
		fmt.Fprintf(out, "%-9s   %s  %s  %s\n", c.Status, c.Code, book.Explain(c.Code).Says, c.ECU)
	}
	if len(s.Codes) == 0 && len(s.Asked) > 0 {
		fmt.Fprintln(out, "no codes")
	}
	for _, f := range s.Freeze {
		fmt.Fprintf(out, "\nfreeze frame of %s\n", f.Code)
		printValues(out, f.Data)
	}
	if len(s.Readiness) > 0 {
		fmt.Fprintln(out, "\nmonitors")
		for _, k := range append(obd.Monitors(false), obd.Monitors(true)[3:]...) {
			if v := s.Readiness[k]; v == obd.Complete || v == obd.Incomplete {
				fmt.Fprintf(out, "  %-38s %s\n", obd.MonitorWords[k], v)
				delete(s.Readiness, k)
			}
		}
	}
	if len(s.Live) > 0 {
		fmt.Fprintln(out, "\nlive data")
		printValues(out, s.Live)
	}
	for i, t := range s.Tests {
		if i == 0 {
			fmt.Fprintln(out, "\non-board tests")
		}
		fmt.Fprintf(out, "  %-38s %s\n", t.Name, t.Words())
	}
	if w := s.Since(time.Time{}).Words; w != "" {
		fmt.Fprintf(out, "\n%s\n", w)
	}
	for _, w := range s.Warnings {
		fmt.Fprintln(out, "· "+w)
	}
}

func printValues(out io.Writer, m map[string]obd.Value) {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		v := m[k]
		line := strings.TrimSpace(units.Digits(v.Value, 4) + " " + v.Unit)
		if v.Text != "" {
			line = v.Text
		}
		fmt.Fprintf(out, "  %s %-35s %s\n", k, v.Name, line)
		for _, p := range v.Parts {
			fmt.Fprintf(out, "     %-35s %s %s\n", p.Name, units.Digits(p.Value, 4), p.Unit)
		}
	}
}
