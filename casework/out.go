package casework

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/evidence"
	"wexter/ingest"
	"wexter/report"
	"wexter/store"
)

// Paper is the report on a case.
func (s *Shop) Paper(ctx context.Context, f evidence.Folder) report.Paper {
	pr := f.Proof(s.Book)
	w := paperWriter{s: s, ctx: ctx, f: f, p: report.Paper{Title: fmt.Sprintf("%s · %s", f.Case.Number, f.Vehicle.Name())}}
	w.car, _ = s.Car(f.Vehicle, f.Corrections)
	w.p.Under = strings.Join(known(f), " · ")
	if f.Case.ClosedAt != nil {
		w.p.Under += " · closed " + f.Case.ClosedAt.Local().Format("2 Jan 2006")
	}
	switch {
	case f.Case.Outcome == record.Proven:
		w.p.Verdict = "Repair proven: the test was repeated and passes, the complaint was tried again and is gone."
	case f.Case.Outcome == record.Unproven:
		w.p.Verdict = "Closed without proof: " + f.Case.Reason
	case pr.Whole():
		w.p.Verdict = "The proof is whole; the case is not closed yet."
	default:
		w.p.Verdict = "Not proven yet. " + pr.Missing()
	}
	w.came()
	w.work()
	w.tests(pr)
	w.end()
	return w.p
}

// known is what is known of the car and when it came; what nobody wrote down is left out.
func known(f evidence.Folder) []string {
	out := []string{"plate " + f.Vehicle.Plate}
	if f.Vehicle.Year > 0 {
		out = append(out, fmt.Sprint(f.Vehicle.Year))
	}
	if f.Vehicle.OdometerKM > 0 {
		out = append(out, fmt.Sprintf("%d km", f.Vehicle.OdometerKM))
	}
	return append(out, "opened "+f.Case.OpenedAt.Local().Format("2 Jan 2006"))
}

// paperWriter writes the sections of a report one after another.
type paperWriter struct {
	s      *Shop
	ctx    context.Context
	f      evidence.Folder
	car    Car // without plumbing when its archetype is gone
	p      report.Paper
	photos []report.Picture
}

// section adds a section that says something.
func (w *paperWriter) section(head string, rows []report.Row, text ...string) {
	if len(rows)+len(text) > 0 {
		w.p.Sections = append(w.p.Sections, report.Section{Head: head, Rows: rows, Text: text})
	}
}

// put adds a row that says something.
func put(rows *[]report.Row, name, value string) {
	if value != "" {
		*rows = append(*rows, report.Row{Name: name, Value: value})
	}
}

// came is why the car came, and its codes.
func (w *paperWriter) came() {
	c := w.f.Case
	complaint := []report.Row{{Name: "Complaint", Value: c.Complaint}}
	put(&complaint, "When it happens", c.Circumstances)
	put(&complaint, "Worked on lately", c.RecentWork)
	w.section("Why the car came", complaint)
	var codes []report.Row
	book, err := w.s.BookOf(w.ctx)
	if err != nil {
		book = w.s.Book
	}
	for _, l := range w.f.CodeHistory() {
		e := book.Explain(l.Code)
		now := joined(l.Now, " and ")
		switch {
		case l.Made:
			now = "set by our own testing"
		case now == "":
			now = "gone"
		}
		put(&codes, l.Code+", "+now, strings.Trim(e.Says+", "+e.Size, ", "))
	}
	w.section("Codes", codes)
}

// work is what was found and done.
func (w *paperWriter) work() {
	var found []report.Row
	for _, x := range w.f.Findings {
		if !x.Struck() {
			part, _ := w.s.Book.Fault(x.Part)
			put(&found, part.Name, strings.Trim(x.Place+". "+x.How, ". "))
			put(&found, "rests on", x.By.Words(x.RestsOn))
			w.picture(x.Photo, part.Name+", "+x.Place)
		}
	}
	w.section("Found", found)
	w.pictures()
	var done []report.Row
	for _, x := range w.f.Repairs {
		if x.Struck() {
			continue
		}
		put(&done, x.Lasts(), x.Action)
		w.picture(x.Photo, x.Action)
		put(&done, "parts", x.Parts)
		put(&done, "seals", x.Seals)
		if x.Torque > 0 {
			put(&done, "torque", fmt.Sprintf("%.3g N·m (%.3g lbf·ft)", x.Torque, x.Torque/units.FootPound))
		}
		put(&done, "time, cost", spent(x, w.s.Currency(w.ctx)))
	}
	w.section("Repair", done)
	w.pictures()
}

// spent is what a repair took, as far as it was written down, in the shop's money.
func spent(x record.RepairDone, currency string) string {
	var out []string
	if x.Minutes > 0 {
		out = append(out, fmt.Sprintf("%d min", x.Minutes))
	}
	if x.CostCents > 0 {
		out = append(out, fmt.Sprintf("%d.%02d %s", x.CostCents/100, x.CostCents%100, currency))
	}
	return strings.Join(out, ", ")
}

// tests are all tests of the case that count, with their readings; the one that failed and its
// repeat first, side by side.
func (w *paperWriter) tests(pr evidence.Proof) {
	shown := map[string]bool{}
	for i, x := range pr.Pairs() {
		head := "The test that failed"
		if i > 0 {
			head = "It failed too"
		}
		w.piece(x.Before, head)
		w.piece(x.After, "The same test after the repair")
		if s := (report.Section{Head: "Before and after", Before: x.Before.Summary(), After: x.After.Summary()}); s.Plot() {
			w.p.Sections = append(w.p.Sections, s)
		}
		for _, p := range []*evidence.Piece{x.Before, x.After} {
			if p != nil {
				shown[p.ID()] = true
			}
		}
	}
	for i := range w.f.Tests {
		if t := &w.f.Tests[i]; !t.Struck() && !shown[t.ID] && t.Outcome != record.NoOutcome {
			w.hold(t, "Leak-down test")
		}
	}
	for _, x := range w.f.Results {
		if !x.Struck() && !shown[x.ID] {
			w.result(x, "")
		}
	}
	w.seen()
}

// seen writes what stands on the case beside its tests: symptoms, circumstances, exits and
// places looked at on the Map, notes with their photos.
func (w *paperWriter) seen() {
	if w.car.Car == nil {
		return
	}
	var rows []report.Row
	for _, x := range w.f.Observations {
		if !x.Struck() {
			put(&rows, x.At.Local().Format("2 Jan, 15:04"), w.car.ObservationWords(x))
		}
	}
	for _, x := range w.f.Marks {
		if x.Struck() || x.Kind == record.MarkSuspect {
			continue
		}
		p, _ := w.car.Graph.Part(x.Part)
		says := x.Kind.Words() + ": " + plumbing.Lower(p.Name)
		if x.Kind == record.MarkExit {
			says += ", " + string(x.Size)
		}
		if x.Expected {
			says += ", expected there"
		}
		put(&rows, x.At.Local().Format("2 Jan, 15:04"), strings.TrimSuffix(says+". "+x.Text, ". "))
		w.picture(x.Photo, says)
	}
	for _, x := range w.f.Notes {
		if x.Struck() {
			continue
		}
		put(&rows, x.At.Local().Format("2 Jan, 15:04"), strings.Trim(x.Kind.Words()+": "+strings.Trim(x.Subject+" "+x.Text, " "), ": "))
		w.picture(x.Photo, x.Text)
	}
	w.section("Told, seen and noted", rows)
	w.pictures()
}

// piece is a hold or any other test, under a heading of the proof.
func (w *paperWriter) piece(p *evidence.Piece, head string) {
	switch {
	case p == nil:
	case p.Hold != nil:
		w.hold(p.Hold, head+": "+p.Test.Name)
	default:
		w.result(*p.Result, head)
	}
}

// result is a test of the Book in its own form: what came out and why, every reading, the
// places with their size, and who judged.
func (w *paperWriter) result(x record.Result, head string) {
	t, _ := w.s.Book.Test(x.Test)
	name := t.Name
	if w.car.Car != nil {
		name = w.car.ResultName(x)
	}
	if head != "" {
		head += ": "
	}
	o, _ := t.Outcome(x.Outcome)
	rows := []report.Row{{Name: "outcome", Value: o.Name}}
	if !x.ByHand() {
		put(&rows, "because", x.Says)
	}
	if w.car.Car != nil {
		for _, l := range slices.Concat(w.car.Worked(x), w.car.Lines(x)) {
			put(&rows, l.Name, l.Value)
		}
		put(&rows, "judged", w.car.JudgedBy(x))
	}
	put(&rows, "measured by", x.Measured)
	put(&rows, "note", x.Note)
	if x.Doubted() {
		put(&rows, "doubted", "it counts for nothing until the doubt is taken back")
	}
	put(&rows, "made", x.At.Local().Format("2 Jan 2006, 15:04"))
	w.section(head+name, rows)
	w.picture(x.Photo, name)
	w.pictures()
}

// picture puts a photo beside what was just said.
func (w *paperWriter) picture(hash, caption string) {
	if hash == "" {
		return
	}
	if p, err := w.s.Photo(w.ctx, hash); err == nil {
		w.photos = append(w.photos, report.Picture{Hash: hash, Mime: p.Mime, Data: p.Data, Caption: strings.Trim(caption, ", ")})
	}
}

// pictures hangs the photos gathered so far under the last section.
func (w *paperWriter) pictures() {
	if n := len(w.p.Sections); n > 0 && len(w.photos) > 0 {
		w.p.Sections[n-1].Pictures = append(w.p.Sections[n-1].Pictures, w.photos...)
	}
	w.photos = nil
}

func (w *paperWriter) hold(t *evidence.TestFolder, name string) {
	rows := []report.Row{{Name: "outcome", Value: t.Outcome.Words()}}
	if sum, ok := t.Summary(); ok {
		put(&rows, "leak", fmt.Sprintf("%.3f mm (%.4f in), 95 %% between %.3f and %.3f mm", sum.D*1e3, sum.D/units.Inch, sum.Low*1e3, sum.High*1e3))
		limit := fmt.Sprintf("%.3f mm (%.4f in)", sum.Limit*1e3, sum.Limit/units.Inch)
		if sum.Nominal {
			limit += ", nominal"
		} else {
			limit += ", as the reference orifice reads"
		}
		put(&rows, "limit", limit)
		put(&rows, "volume, drift", fmt.Sprintf("%.3g L ± %.2g %%, %+.2g Pa/s", sum.Volume*1e3, t.Setup.VolumeTolerance*100, sum.Drift))
		var b []string
		for _, x := range sum.Budget {
			b = append(b, fmt.Sprintf("%s %.0f %%", x.Source, x.Share*100))
		}
		put(&rows, "what spreads it", strings.Join(b, ", "))
	}
	put(&rows, "gauge", gaugeWords(t.Setup.Instrument))
	put(&rows, "made", t.At.Local().Format("2 Jan 2006, 15:04"))
	w.section(name, rows)
}

// gaugeWords says what a test was read with.
func gaugeWords(in record.Instrument) string {
	gauge := in.Name
	if in.Resolution > 0 {
		gauge += fmt.Sprintf(", resolution %.3g inH2O (%.3g Pa)", in.Resolution/units.InH2O, in.Resolution)
	}
	if in.CalibratedOn != "" {
		gauge += ", calibrated " + in.CalibratedOn
	}
	if in.RigHeld == record.RigHeld {
		gauge += ", rig held by itself"
	}
	return strings.TrimPrefix(gauge, ", ")
}

// end is the complaint tried again, the monitor, and what to beware of.
func (w *paperWriter) end() {
	var tried []report.Row
	for _, x := range w.f.Trials {
		if x.Struck() {
			continue
		}
		came := "came back"
		if x.Gone {
			came = "gone"
		}
		put(&tried, x.At.Local().Format("2 Jan, 15:04"), fmt.Sprintf("%s, %d min: %s", x.How, (x.Seconds+30)/60, came))
	}
	w.section("The complaint tried again", tried)
	w.monitors()
	a, _ := w.s.Archetype(w.f.Vehicle)
	var cautions []string
	for _, k := range a.Cautions {
		cautions = append(cautions, w.s.Book.Caution(k))
	}
	w.section("Cautions", nil, cautions...)
	w.p.Foot = []string{
		"Leaks are stated as the sharp orifice that passes the same air at a discharge coefficient of 0.61. This report advises and does not certify: local rules and the maker's procedure decide what passes an inspection.",
	}
}

// monitors says whether the checks that the repair concerns have run.
func (w *paperWriter) monitors() {
	which := "The monitors concerned"
	if w.car.Car != nil {
		names := MonitorNames(w.car.Monitors(w.f))
		if names == "" {
			return
		}
		which = Upper(names)
	}
	switch w.f.Case.Monitors {
	case record.MonitorsComplete:
		w.section("Monitors", nil, which+": complete.")
	case record.MonitorsIncomplete:
		w.section("Monitors", nil, which+": not complete yet. The car is ready for inspection once that is.")
	}
}

// MonitorNames says some monitors in words.
func MonitorNames(keys []string) string {
	var out []string
	for _, k := range keys {
		out = append(out, map[string]string{"evap": "EVAP monitor", "egr": "EGR monitor", "fuel": "fuel system monitor"}[k])
	}
	return strings.Join(out, ", ")
}

// joined is strings.Join for words of any type.
func joined[S ~string](words []S, by string) string {
	var out []string
	for _, w := range words {
		out = append(out, string(w))
	}
	return strings.Join(out, by)
}

// Export writes a case as a bundle, and returns its number too.
func (s *Shop) Export(ctx context.Context, id string) (data []byte, number string, err error) {
	tx := s.DB.Read(ctx)
	f, err := s.Load(ctx, id)
	if err != nil {
		return nil, "", err
	}
	b := report.Bundle{Vehicle: f.Vehicle, Case: f.Case, Codes: f.Codes, Findings: f.Findings, Repairs: f.Repairs, Trials: f.Trials, Notes: f.Notes, Marks: f.Marks, Results: f.Results, Told: f.Observations, Opened: f.PostMortems, Corrections: f.Corrections, Cards: f.Cards}
	if b.Values, err = store.OfVehicle[record.CarValue](tx, f.Vehicle.ID); err != nil {
		return nil, "", err
	}
	for _, x := range f.Scans {
		b.Scans = append(b.Scans, x.ScanDone)
	}
	for _, t := range slices.Concat(f.Tests, f.Benches) {
		bt := report.BundleTest{Test: t.Test}
		for _, r := range t.Runs {
			if r.EndedAt == nil {
				return nil, "", problem("bundle", "A leg of this case is being read; stop it before the case is exported.")
			}
			l, err := tx.Readings(r.ID)
			if err != nil {
				return nil, "", err
			}
			bt.Runs = append(bt.Runs, report.NewBundleRun(r, l))
		}
		b.Tests = append(b.Tests, bt)
	}
	seen := map[string]bool{}
	var hashes []string
	for _, x := range f.Findings {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Repairs {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Marks {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Notes {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.PostMortems {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Results {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Corrections {
		hashes = append(hashes, x.Photo)
	}
	for _, x := range f.Cards {
		hashes = append(hashes, x.Photo)
	}
	for _, h := range hashes {
		if h == "" || seen[h] {
			continue
		}
		seen[h] = true
		p, err := s.Photo(ctx, h)
		if err != nil {
			return nil, "", err
		}
		b.Photos = append(b.Photos, p)
	}
	data, err = report.WriteBundle(b)
	return data, f.Case.Number, err
}

// CaseID finds a case by its number or id.
func (s *Shop) CaseID(ctx context.Context, name string) (string, error) {
	id, err := s.DB.Read(ctx).CaseID(name)
	if errors.Is(err, ErrNotFound) {
		return "", fmt.Errorf("there is no case %q here", name)
	}
	return id, err
}

// Import reads a bundle into the shop: whole, or not at all. A case that is here
// already is not doubled; a number that is taken is replaced by the next free one;
// a car the shop knows by its plate keeps its own entry.
func (s *Shop) Import(ctx context.Context, data []byte) (string, error) {
	var b report.Bundle
	err := s.InTurn(ctx, func() (err error) { b, err = report.ReadBundle(data); return err })
	if ctx.Err() != nil {
		return "", ctx.Err()
	}
	if err != nil {
		return "", problem("bundle", "%s.", strings.TrimSuffix(Upper(err.Error()), "."))
	}
	for _, x := range b.Codes {
		if c, err := knowledge.FoldCode(x.Code); err != nil || c != x.Code {
			return "", problem("bundle", "The bundle holds %q for a trouble code.", x.Code)
		}
	}
	for _, p := range b.Photos {
		if _, err := ingest.ReadPhoto(p.Data); err != nil {
			return "", problem("bundle", "A photo in the bundle: %v.", err)
		}
	}
	if have, _, err := s.Export(ctx, b.Case.ID); err == nil {
		if bytes.Equal(have, data) {
			return b.Case.ID, nil
		}
		return "", problem("bundle", "Case %s is here already and differs from the bundle; nothing was changed.", b.Case.Number)
	}
	return s.do(ctx, "", func(tx store.Tx) (string, error) {
		v, err := tx.VehicleByPlate(b.Vehicle.PlateKey)
		switch {
		case errors.Is(err, ErrNotFound):
			if err := tx.Add(&b.Vehicle); err != nil {
				return "", err
			}
		case err != nil:
			return "", err
		default:
			b.Case.VehicleID = v.ID
		}
		switch _, err := tx.CaseID(b.Case.Number); {
		case err == nil:
			if b.Case.Number, err = tx.NextNumber(); err != nil {
				return "", err
			}
		case !errors.Is(err, ErrNotFound):
			return "", err
		}
		if err := tx.Add(&b.Case); err != nil {
			return "", err
		}
		for _, p := range b.Photos {
			if err := tx.KeepPhoto(p); err != nil {
				return "", err
			}
		}
		if err := errors.Join(create(tx, b.Codes), create(tx, b.Findings), create(tx, b.Repairs), create(tx, b.Trials), create(tx, b.Scans), create(tx, b.Notes), create(tx, b.Marks), create(tx, b.Results), create(tx, b.Told), create(tx, b.Opened),
			adopt(tx, b.Corrections, func(x *record.Correction) string { x.VehicleID = b.Case.VehicleID; return x.ID }), adopt(tx, b.Cards, func(x *record.AccessCard) string { x.VehicleID = b.Case.VehicleID; return x.ID }),
			adopt(tx, b.Values, func(x *record.CarValue) string { x.VehicleID = b.Case.VehicleID; return x.ID })); err != nil {
			return "", err
		}
		for _, t := range b.Tests {
			t.Key = cmp.Or(t.Key, bench.PressureHold.Key)
			if err := tx.Add(&t.Test); err != nil {
				return "", err
			}
			for _, r := range t.Runs {
				if err := tx.Add(&r.Run); err != nil {
					return "", err
				}
				if err := tx.PutReadings(r.ID, r.Table()); err != nil {
					return "", err
				}
			}
		}
		return b.Case.ID, nil
	})
}

// adopt keeps what is said of the car, under the entry that the shop has of it; what
// came with another case of the car already is not doubled.
func adopt[T any](tx store.Tx, l []T, own func(*T) string) error {
	for i := range l {
		id := own(&l[i])
		switch has, err := store.Has[T](tx, id); {
		case err != nil:
			return err
		case has:
			continue
		}
		if err := tx.Add(&l[i]); err != nil {
			return err
		}
	}
	return nil
}

func create[T any](tx store.Tx, l []T) error {
	if len(l) == 0 {
		return nil
	}
	return tx.Add(&l)
}
