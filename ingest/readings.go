package ingest

import (
	"bytes"
	"crypto/sha256"
	_ "embed" // the table
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"sync"

	"wexter/core/diagnose"
	"wexter/core/plumbing"
)

//go:embed book/readings.csv
var readingsFile []byte

// Table returns what the plant said of every suspect, as it ships with the program; it
// panics when that is broken, which a test finds first.
var Table = sync.OnceValue(func() *diagnose.Table {
	rows, err := ReadReadings(readingsFile)
	if err != nil {
		panic(err)
	}
	t, err := diagnose.NewTable(Book(), rows)
	if err != nil {
		panic(err)
	}
	return t
})

var readingsHead = []string{"test", "engine", "boost", "crankcase", "recirculation", "vapour", "fault", "severity", "spread", "part", "readings"}

// WriteReadings writes the table of what the plant said, one row a line.
func WriteReadings(rows []diagnose.Row) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	_ = w.Write(readingsHead)
	for _, r := range rows {
		_ = w.Write([]string{r.Test, r.Car.Engine, r.Car.Boost, r.Car.Crankcase, r.Car.Recirculation, r.Car.Vapour, r.Fault, strconv.Itoa(r.Severity), strconv.Itoa(r.Spread), r.Part, r.Line()})
	}
	w.Flush()
	return b.Bytes()
}

// ReadReadings reads the table of what the plant said; the error names the line.
func ReadReadings(data []byte) ([]diagnose.Row, error) {
	r := csv.NewReader(bytes.NewReader(data))
	r.FieldsPerRecord = len(readingsHead)
	r.ReuseRecord = true
	var out []diagnose.Row
	for n := 1; ; n++ {
		f, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the table of readings: %w", err)
		}
		if n == 1 {
			if !slices.Equal(f, readingsHead) {
				return nil, fmt.Errorf("the table of readings begins with %v, not %v", f, readingsHead)
			}
			continue
		}
		f = slices.Clone(f)
		x := diagnose.Row{Test: f[0], Car: plumbing.Combination{Engine: f[1], Boost: f[2], Crankcase: f[3], Recirculation: f[4], Vapour: f[5]}, Fault: f[6], Part: f[9]}
		k, err1 := strconv.Atoi(f[7])
		j, err2 := strconv.Atoi(f[8])
		if err1 != nil || err2 != nil || k < 0 || k >= len(diagnose.Severities) || j < 0 || j >= len(diagnose.Spread) {
			return nil, fmt.Errorf("the table of readings, line %d: severity %q and spread %q are steps from 0", n, f[7], f[8])
		}
		x.Severity, x.Spread = k, j
		if err := x.Read(f[10]); err != nil {
			return nil, fmt.Errorf("the table of readings, line %d: %w", n, err)
		}
		out = append(out, x)
	}
}

// TableVersion changes whenever the table that ships does.
var TableVersion = sync.OnceValue(func() string { return fingerprint(readingsFile) })

// fingerprint is a short hash of some files.
func fingerprint(files ...[]byte) string {
	h := sha256.New()
	for _, f := range files {
		fmt.Fprintf(h, "%d ", len(f))
		h.Write(f)
	}
	return hex.EncodeToString(h.Sum(nil)[:12])
}

// ReadingsFile is the table as it ships.
func ReadingsFile() []byte { return readingsFile }
