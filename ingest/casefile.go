package ingest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// CaseSchema names the form of a case file for the reasoning.
const CaseSchema = "wexter-diagnose/1"

var caseFields = []string{"schema", "archetypes", "age_years", "km", "kit", "epochs", "repairs", "contexts", "signs", "renewed", "marks", "looked", "smelt", "made", "codes", "frames", "code", "complete", "limits", "trims", "tests",
	"fault", "cause", "size", "share", "at", "percent", "short", "long", "bank", "stop", "open_loop", "test", "part", "outcome", "exits", "readings", "mm", "low_mm", "high_mm", "plugs", "vacuum"}

// maxCaseBytes is the most that a case file may hold.
const maxCaseBytes = 1 << 20

// CaseFile is a car and what is known of its trouble, as a file says it.
type CaseFile struct {
	Schema     string      `json:"schema"`
	Archetypes []string    `json:"archetypes"` // one of each family at most; the rest is filled in
	AgeYears   float64     `json:"age_years"`
	Km         int         `json:"km"`
	Kit        []string    `json:"kit"`
	Epochs     []caseEpoch `json:"epochs"` // what came after each repair
	caseEpoch              // what is known first
}

type caseEpoch struct {
	Repairs  []caseRepair    `json:"repairs"` // that began it
	Contexts []string        `json:"contexts"`
	Signs    map[string]bool `json:"signs"`
	Renewed  []string        `json:"renewed"`
	Marks    []string        `json:"marks"`
	Looked   []string        `json:"looked"`
	Smelt    []string        `json:"smelt"`    // parts where a smell of fuel is strongest
	Made     []string        `json:"made"`     // codes that the hunt made: no weight until they return
	Codes    []string        `json:"codes"`    // with "pending" or "permanent" behind it when it is nothing else
	Frames   []caseFrame     `json:"frames"`   // what stood in the freeze frame of a code
	Complete []string        `json:"complete"` // monitors that have run
	Limits   []caseLimit     `json:"limits"`
	Trims    []caseTrim      `json:"trims"`
	Tests    []caseTest      `json:"tests"`
}

type caseRepair struct {
	Fault string `json:"fault"`
	Cause string `json:"cause"`
}

type caseFrame struct {
	Code string   `json:"code"`
	At   []string `json:"at"` // idle, load, cold, full
}

type caseLimit struct {
	Size  string  `json:"size"`
	Share float64 `json:"share"`
}

type caseTrim struct {
	At       string   `json:"at"`
	Percent  *float64 `json:"percent"` // in all, or short and long apart
	Short    *float64 `json:"short"`
	Long     *float64 `json:"long"`
	Bank     int      `json:"bank"` // 1 or 2; 0 is what there is
	Stop     bool     `json:"stop"`
	OpenLoop bool     `json:"open_loop"` // then it says nothing
}

// total is the whole trim in percent, (1+S)(1+L)−1, and whether it stands at its stop.
func (t caseTrim) total() (percent float64, stop bool, err error) {
	switch {
	case t.Percent != nil && t.Short == nil && t.Long == nil:
		return *t.Percent, t.Stop, nil
	case t.Percent == nil && t.Short != nil && t.Long != nil:
		return obd.TotalTrim(*t.Short, *t.Long), t.Stop || obd.TrimAtStop(*t.Short, *t.Long), nil
	}
	return 0, false, errors.New("a trim is its percent in all, or short and long, both")
}

type caseTest struct {
	Test     string                     `json:"test"`
	Part     string                     `json:"part"`
	Outcome  string                     `json:"outcome"`
	Exits    []string                   `json:"exits"`
	Readings map[string]json.RawMessage `json:"readings"` // by name: a number in the Book's unit, or text with a unit
	Mm       *float64                   `json:"mm"`       // of a hold, with its 95 % interval
	LowMm    *float64                   `json:"low_mm"`
	HighMm   *float64                   `json:"high_mm"`
	Plugs    []string                   `json:"plugs"`
	Vacuum   bool                       `json:"vacuum"`
}

// ReadCase reads a case file. The error is one sentence that names the key, and the
// nearest known ones.
func ReadCase(b knowledge.Book, data []byte) (CaseFile, diagnose.Car, diagnose.History, error) {
	var f CaseFile
	var car diagnose.Car
	bad := func(err error) (CaseFile, diagnose.Car, diagnose.History, error) { return f, car, nil, err }
	if len(data) > maxCaseBytes {
		return bad(errors.New("the case file is larger than 1 MB"))
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	if err := d.Decode(&f); err != nil {
		return bad(fmt.Errorf("the case file cannot be read: %s", JSONWords(data, err, caseFields...)))
	}
	if _, err := d.Token(); err != io.EOF {
		return bad(errors.New("the case file goes on after its end; it was joined or cut"))
	}
	if f.Schema != CaseSchema {
		return bad(fmt.Errorf("this is no case file: its \"schema\" is %q and should be %q", f.Schema, CaseSchema))
	}
	var c plumbing.Combination
	for _, k := range f.Archetypes {
		a, ok := b.Plumbing.Find(k)
		if !ok {
			var all []string
			for _, a := range b.Plumbing.Archetypes {
				all = append(all, a.Key)
			}
			return bad(fmt.Errorf("there is no archetype %q; %s", k, diagnose.Near(k, all)))
		}
		if had := c.Of(a.Family); had != "" {
			return bad(fmt.Errorf("%q and %q are both of the family %s: a car has one", had, k, a.Family))
		}
		c = c.With(a.Family, k)
	}
	full, err := b.Plumbing.Complete(c)
	if err != nil {
		return bad(err)
	}
	g, err := b.Plumbing.Combine(full)
	if err != nil {
		return bad(err)
	}
	if math.IsNaN(f.AgeYears) || f.AgeYears < 0 || f.AgeYears > 150 || f.Km < 0 || f.Km > 5_000_000 {
		return bad(fmt.Errorf("a car of %g years and %d km cannot be", f.AgeYears, f.Km))
	}
	for _, k := range f.Kit {
		if !slices.ContainsFunc(b.Kit, func(x knowledge.Kit) bool { return x.Key == k }) {
			return bad(unknownKit(b, k))
		}
	}
	car = diagnose.Car{Of: full, Graph: g, Age: f.AgeYears, Km: f.Km}
	var h diagnose.History
	for i, ep := range append([]caseEpoch{f.caseEpoch}, f.Epochs...) {
		e, err := caseReader{b, car}.epoch(i, ep)
		if err != nil {
			if i > 0 {
				err = fmt.Errorf("epoch %d: %w", i, err)
			}
			return bad(err)
		}
		h = append(h, e)
	}
	return f, car, h, nil
}

func unknownKit(b knowledge.Book, k string) error {
	var all []string
	for _, x := range b.Kit {
		all = append(all, x.Key)
	}
	return fmt.Errorf("there is no kit %q; %s", k, diagnose.Near(k, all))
}

// ReadKit reads a list of kit as typed, keys with commas between.
func ReadKit(b knowledge.Book, typed string) ([]string, error) {
	out := []string{}
	for _, k := range strings.FieldsFunc(typed, func(r rune) bool { return r == ',' || r == ' ' }) {
		if !slices.ContainsFunc(b.Kit, func(x knowledge.Kit) bool { return x.Key == k }) {
			return nil, unknownKit(b, k)
		}
		out = append(out, k)
	}
	return out, nil
}

// caseReader turns what a case file says of a car into evidence.
type caseReader struct {
	book knowledge.Book
	car  diagnose.Car
}

// epoch reads epoch number n: 0 is what is known first, the others begin with a repair.
func (r caseReader) epoch(n int, ep caseEpoch) (diagnose.Epoch, error) {
	var out diagnose.Epoch
	if len(ep.Repairs) > 0 && n == 0 {
		return out, errors.New("a repair begins an epoch: write it, and what came after it, under \"epochs\"")
	}
	if n > 0 && len(ep.Repairs) == 0 {
		return out, errors.New("it begins with no repair")
	}
	for _, x := range ep.Repairs {
		out.Repairs = append(out.Repairs, diagnose.Repair(x))
	}
	put := func(e diagnose.Evidence) {
		e.ID = strconv.Itoa(len(out.Evidence))
		out.Evidence = append(out.Evidence, e)
	}
	for _, k := range ep.Contexts {
		put(diagnose.Evidence{Kind: diagnose.Context, Key: k, Says: "context " + k})
	}
	for _, k := range slices.Sorted(maps.Keys(ep.Signs)) {
		put(diagnose.Evidence{Kind: diagnose.Signed, Key: k, Absent: !ep.Signs[k], Says: "sign " + k})
	}
	for _, x := range []struct {
		kind  diagnose.Kind
		name  string
		parts []string
	}{{diagnose.Renewed, "renewed", ep.Renewed}, {diagnose.Worked, "marks", ep.Marks}, {diagnose.Looked, "looked", ep.Looked}, {diagnose.Smelt, "smelt", ep.Smelt}} {
		for _, k := range x.parts {
			put(diagnose.Evidence{Kind: x.kind, Part: k, Says: x.name + " " + k})
		}
	}
	scan, err := ep.codes()
	if err != nil {
		return out, err
	}
	if len(scan.Codes)+len(ep.Complete) > 0 {
		scan.Before = n == 0
		put(scan)
	}
	for _, f := range ep.Frames {
		code, err := knowledge.FoldCode(f.Code)
		if err != nil {
			return out, fmt.Errorf("freeze frame: %w", err)
		}
		for _, at := range f.At {
			put(diagnose.Evidence{Kind: diagnose.Frozen, Key: at, Codes: []string{code}, Says: "freeze frame of " + code + ", " + at})
		}
	}
	for _, l := range ep.Limits {
		put(diagnose.Evidence{Kind: diagnose.Limits, Size: l.Size, Value: l.Share, Before: n == 0, Says: "limit " + l.Size})
	}
	trims, err := ep.trims()
	if err != nil {
		return out, err
	}
	for _, e := range trims {
		put(e)
	}
	for i, t := range ep.Tests {
		es, err := r.test(t)
		if err != nil {
			return out, fmt.Errorf("test %d, %q: %w", i+1, t.Test, err)
		}
		for _, e := range es {
			put(e)
		}
	}
	return out, nil
}

// trims are the trims of an epoch: of two banks their mean, and whether only one is off.
func (ep caseEpoch) trims() (out []diagnose.Evidence, err error) {
	type point struct {
		sum    float64
		n      int
		stop   bool
		banks  [3]float64
		filled [3]bool
	}
	points, order := map[string]*point{}, []string{}
	for _, t := range ep.Trims {
		total, stop, err := t.total()
		switch {
		case err != nil:
			return nil, fmt.Errorf("trim at %s: %w", t.At, err)
		case t.Bank < 0 || t.Bank > 2:
			return nil, fmt.Errorf("trim at %s: an engine has bank 1 and bank 2, not %d", t.At, t.Bank)
		case t.OpenLoop: // it says nothing
			continue
		}
		x := points[t.At]
		if x == nil {
			x = &point{}
			points[t.At], order = x, append(order, t.At)
		}
		if x.filled[t.Bank] || t.Bank > 0 && x.filled[0] || t.Bank == 0 && x.n > 0 {
			return nil, fmt.Errorf("trim at %s: it stands there twice", t.At)
		}
		x.sum, x.n, x.stop = x.sum+total, x.n+1, x.stop || stop
		x.banks[t.Bank], x.filled[t.Bank] = total, true
	}
	apart, both := false, false
	for _, at := range order {
		x := points[at]
		out = append(out, diagnose.Evidence{Kind: diagnose.Trims, Key: at, Value: x.sum / float64(x.n), Stop: x.stop, Loose: true, Says: "trim " + at})
		if x.filled[1] && x.filled[2] {
			both = true
			apart = apart || math.Abs(x.banks[1]-x.banks[2]) > obd.BanksApart
		}
	}
	if both {
		out = append(out, diagnose.Evidence{Kind: diagnose.Signed, Key: diagnose.OneBank, Absent: !apart, Says: "banks compared"})
	}
	return out, nil
}

// codes are the trouble codes of an epoch; the monitors beside them must be known ones.
func (ep caseEpoch) codes() (diagnose.Evidence, error) {
	e := diagnose.Evidence{Kind: diagnose.Scanned, Ran: ep.Complete, Says: "codes"}
	for _, k := range ep.Codes {
		typed, status, _ := strings.Cut(strings.TrimSpace(k), " ")
		if status != "pending" && status != "permanent" {
			typed, status = k, ""
		}
		c, err := knowledge.FoldCode(typed)
		if err != nil {
			return e, err
		}
		if slices.ContainsFunc(ep.Made, func(m string) bool { own, err := knowledge.FoldCode(m); return err == nil && own == c }) {
			continue
		}
		e.Codes = append(e.Codes, c)
		switch status {
		case "pending":
			e.Pending = append(e.Pending, c)
		case "permanent":
			e.Past = append(e.Past, c)
		}
	}
	known := []string{"evap", "egr", "fuel", "components", "misfire", "catalyst", "oxygen_sensor", "oxygen_heater"}
	for _, m := range ep.Complete {
		if !slices.Contains(known, m) {
			return e, fmt.Errorf("there is no monitor %q; %s", m, diagnose.Near(m, known))
		}
	}
	return e, nil
}

// test reads a test: several exits are several pieces of evidence.
func (r caseReader) test(t caseTest) ([]diagnose.Evidence, error) {
	test, ok := r.book.Test(t.Test)
	if !ok {
		var all []string
		for _, x := range r.book.Tests {
			all = append(all, x.Key)
		}
		return nil, fmt.Errorf("there is no such test; %s", diagnose.Near(t.Test, all))
	}
	e := diagnose.Evidence{Kind: diagnose.Done, Test: t.Test, Part: t.Part, Outcome: t.Outcome, Says: t.Test}
	b := bench.For(test)
	if b.On == bench.SealedSystem {
		if err := r.seal(b, t, &e); err != nil {
			return nil, err
		}
	} else if len(t.Plugs) > 0 {
		return nil, errors.New("only a hold, smoke or make-up flow is plugged")
	}
	if b.Odds == bench.FromHole {
		err := t.hold(&e)
		return []diagnose.Evidence{e}, err
	}
	if t.Mm != nil || t.LowMm != nil || t.HighMm != nil {
		return nil, errors.New("only a hold has a diameter")
	}
	var err error
	if e.Readings, err = t.figures(test, b); err != nil {
		return nil, err
	}
	switch {
	case t.Outcome == b.ByPlace && b.ByPlace != "" && len(t.Exits) > 0:
		return exits(e, t.Exits), nil
	case b.Odds == bench.FromEyes && t.Part != "" && t.Outcome == "missing":
		e.Outcome, e.Part = b.ByPlace+":"+t.Part, ""
		e.Readings = bench.Readings{b.PlaceChannel(): {Places: []bench.Place{{Part: t.Part, Size: "missing"}}}}
	case b.Odds == bench.FromEyes && t.Part != "" && t.Outcome == b.ByPlace:
		e.Outcome, e.Part = t.Outcome+":"+t.Part, ""
	case b.Odds == bench.FromEyes && t.Part != "" && !slices.Contains(b.Nothing, t.Outcome):
		e = diagnose.Evidence{Kind: diagnose.Worked, Part: t.Part, Says: "marks on " + t.Part}
	}
	return []diagnose.Evidence{e}, nil
}

// exits is a test that showed something at several places.
func exits(e diagnose.Evidence, at []string) (out []diagnose.Evidence) {
	for i, k := range at {
		x := e
		if x.Outcome = e.Outcome + ":" + k; i > 0 {
			x = diagnose.Evidence{Kind: diagnose.Exit, Part: k}
		}
		x.Says = e.Test + ", exit at " + k
		out = append(out, x)
	}
	return out
}

// seal says where gauge or smoke was joined and what was plugged.
func (r caseReader) seal(b bench.Test, t caseTest, e *diagnose.Evidence) error {
	a, ok := r.book.Archetype(r.car.Of.Vapour)
	if !ok {
		return errors.New("this car has no EVAP system that could be sealed")
	}
	e.Entry, e.Set = a.Entry, a.Settings()
	if b.Odds == bench.FromSmoke && t.Part != "" {
		if p, ok := r.car.Graph.Part(t.Part); ok && !p.Entry {
			return fmt.Errorf("smoke cannot be let in at %q", t.Part)
		}
		e.Entry, e.Part = t.Part, ""
	}
	for _, k := range t.Plugs {
		p, ok := r.car.Graph.Part(k)
		if !ok || p.Plug == "" {
			var plugs []string
			for _, x := range r.car.Graph.Plugs() {
				plugs = append(plugs, x.Key)
			}
			return fmt.Errorf("%q is no line with a plug point on this car; %s", k, diagnose.Near(k, plugs))
		}
		e.Set[k] = plumbing.Plugged
	}
	return nil
}

// hold reads the diameter of a hold with its interval.
func (t caseTest) hold(e *diagnose.Evidence) error {
	e.Kind = diagnose.Held
	if t.Vacuum {
		e.Sense = plumbing.Vacuum
	}
	switch {
	case t.Outcome == string(record.CannotPressurise):
		e.Curve = diagnose.TooLarge()
	case t.Mm == nil || t.LowMm == nil || t.HighMm == nil:
		return errors.New("a hold is its diameter with its interval: mm, low_mm and high_mm, or the outcome cannot_pressurise")
	case !(*t.Mm >= 0 && *t.LowMm >= 0 && *t.LowMm <= *t.Mm && *t.Mm <= *t.HighMm && *t.HighMm <= 40):
		return fmt.Errorf("a hold of %g mm between %g and %g mm cannot be", *t.Mm, *t.LowMm, *t.HighMm)
	default:
		e.Curve = diagnose.Measured(*t.Mm*1e-3, *t.LowMm*1e-3, *t.HighMm*1e-3)
	}
	return nil
}

// figures are the readings by channel; a file names them as the Book does, or by key.
func (t caseTest) figures(test knowledge.Test, b bench.Test) (bench.Readings, error) {
	out := bench.Readings{}
	var all []string
	for _, r := range test.Reads {
		all = append(all, r.Name)
		raw, ok := t.Readings[r.Name]
		if !ok {
			raw, ok = t.Readings[r.Key]
		}
		c, known := b.Channel(r.Key)
		if !ok || !known {
			continue
		}
		typed, err := texts(raw)
		if err != nil {
			return nil, fmt.Errorf("the reading %q: %w", r.Name, err)
		}
		x, has, err := ReadChannel(c, r, typed)
		if err != nil {
			return nil, fmt.Errorf("the reading %w", err)
		}
		if has {
			out[c.Key] = x
		}
	}
	for _, k := range slices.Sorted(maps.Keys(t.Readings)) {
		if _, byKey := test.Read(k); !byKey && !slices.Contains(all, k) {
			return nil, fmt.Errorf("it has no reading %q; %s", k, diagnose.Near(k, all))
		}
	}
	return out, nil
}

// texts are a reading as it was typed: a number, a text, or a list of them.
func texts(raw json.RawMessage) (out []string, err error) {
	var v float64
	var text string
	var list []json.RawMessage
	switch {
	case json.Unmarshal(raw, &v) == nil:
		return []string{strconv.FormatFloat(v, 'g', -1, 64)}, nil
	case json.Unmarshal(raw, &text) == nil:
		return []string{text}, nil
	}
	if err := json.Unmarshal(raw, &list); err != nil || len(list) > mostRepeats {
		return nil, fmt.Errorf("it is a number, a text, or a list of at most %d of them", mostRepeats)
	}
	for _, x := range list {
		if bytes.HasPrefix(bytes.TrimSpace(x), []byte("[")) {
			return nil, errors.New("a list within a list")
		}
		t, err := texts(x)
		if err != nil {
			return nil, err
		}
		out = append(out, t...)
	}
	return out, nil
}

// JSONWords says what is wrong with a JSON file, with its line; of an unknown field the
// nearest ones of those that are known, when they are given.
func JSONWords(data []byte, err error, known ...string) string {
	var se *json.SyntaxError
	var te *json.UnmarshalTypeError
	line := func(at int64) int { return 1 + bytes.Count(data[:min(max(int(at), 0), len(data))], []byte("\n")) }
	switch {
	case errors.As(err, &se):
		return fmt.Sprintf("line %d: %v", line(se.Offset), err)
	case errors.As(err, &te):
		return fmt.Sprintf("line %d: %q holds a %s", line(te.Offset), te.Field, te.Value)
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return "it ends in the middle"
	}
	msg := strings.TrimPrefix(err.Error(), "json: ")
	if key, ok := strings.CutPrefix(msg, "unknown field "); ok && len(known) > 0 {
		return "there is no field " + key + "; " + diagnose.Near(strings.Trim(key, `"`), known)
	}
	return msg
}
