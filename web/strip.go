package web

import (
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/evidence"
)

// entry is one piece of the strip.
type entry struct {
	At      time.Time
	Kind    record.EntryKind // empty for what cannot be struck out
	ID      string
	What    string
	Figure  string
	Class   string
	Note    string
	Link    string
	Struck  bool
	Doubted bool
	Photo   string
	Small   bool // a leg or a mark, beside its test
	Plot    template.HTML
	Slope   template.HTML // the odds before and after it
}

// strip gathers the evidence in order of time, newest on top.
func (s *server) strip(b knowledge.Book, f evidence.Folder) []entry {
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	out := codeEntries(b, f)
	for _, x := range f.Scans {
		out = append(out, s.scanEntry(x))
	}
	if err == nil { // with an archetype that is gone, what names its parts cannot be said
		out = append(out, s.resultEntries(f, car)...)
	}
	for _, x := range f.PostMortems {
		out = append(out, entry{At: x.At, Kind: record.PostMortemEntry, ID: x.ID, What: "Part opened", Figure: "it " + x.Confirmed.Words(), Note: x.Text, Photo: x.Photo, Struck: x.Struck(), Doubted: x.Doubted()})
	}
	for _, x := range f.Notes {
		out = append(out, entry{At: x.At, Kind: record.NoteEntry, ID: x.ID, What: x.Kind.Words(), Note: x.Text, Figure: x.Subject, Struck: x.Struck(), Doubted: x.Doubted(), Photo: x.Photo})
	}
	for _, t := range f.Tests {
		out = append(out, testEntries(t)...)
	}
	for _, t := range f.Benches {
		out = append(out, s.benchEntries(f, t)...)
	}
	out = append(out, s.markEntries(f)...)
	out = append(out, s.endEntries(f)...)
	out = append(out, entry{At: f.Case.OpenedAt, What: "Complaint", Note: strings.Trim(f.Case.Complaint+" · "+f.Case.Circumstances, " ·")})
	if f.Case.RecentWork != "" {
		out = append(out, entry{At: f.Case.OpenedAt, What: "Worked on lately", Note: f.Case.RecentWork})
	}
	slices.SortStableFunc(out, func(a, b entry) int { return b.At.Compare(a.At) })
	return out
}

// codeEntries puts codes that were tapped in together into one entry.
func codeEntries(b knowledge.Book, f evidence.Folder) (out []entry) {
	type moment struct {
		at     time.Time
		status obd.CodeStatus
		struck bool
	}
	of := func(c record.Code) moment { return moment{c.At.UTC(), c.Status, c.Struck()} }
	byTime := map[moment][]string{}
	var order []record.Code
	for _, c := range f.Codes {
		if byTime[of(c)] == nil {
			order = append(order, c)
		}
		byTime[of(c)] = append(byTime[of(c)], c.Code)
	}
	for _, c := range order {
		codes := byTime[of(c)]
		var says []string
		for _, code := range codes {
			e := b.Explain(code)
			says = append(says, strings.TrimSuffix(code+" "+e.Says+", "+e.Size, ", "))
		}
		e := entry{At: c.At, Kind: record.CodeEntry, ID: c.ID, What: "Codes, " + string(c.Status), Figure: strings.Join(codes, " "), Note: strings.Join(says, " · "), Struck: c.Struck(), Doubted: c.Doubted()}
		if len(codes) > 1 { // several cannot be struck out by one press
			e.Kind = ""
		}
		out = append(out, e)
	}
	return out
}

// resultEntries are results of tests and what was observed.
func (s *server) resultEntries(f evidence.Folder, car casework.Car) (out []entry) {
	for _, x := range f.Results {
		t, _ := s.shop.Book.Test(x.Test)
		o, _ := t.Outcome(x.Outcome)
		e := entry{At: x.At, Kind: record.ResultEntry, ID: x.ID, What: car.ResultName(x), Figure: car.OutcomeName(x.Test, x.Outcome), Struck: x.Struck(), Doubted: x.Doubted(), Class: meaningClass(o.Means), Photo: x.Photo}
		if x.RepeatOf != "" {
			e.What += ", repeated"
		}
		if x.Bench != "" {
			e.Link = "/tests/" + x.Bench + "/live"
			if f.DriveOf(x) != nil {
				e.Link = "/tests/" + x.Bench + "/drive"
			}
		}
		var notes []string
		if x.Says != "" && !x.ByHand() {
			notes = append(notes, both(x.Says))
		}
		for _, l := range slices.Concat(car.Worked(x), car.Lines(x)) {
			notes = append(notes, l.Name+": "+l.Value)
		}
		if x.Measured != "" {
			notes = append(notes, "measured by "+x.Measured)
		}
		if x.Overruled != "" {
			notes = append(notes, "judged "+car.JudgedBy(x))
		}
		e.Note = strings.Join(slices.DeleteFunc(append(notes, x.Note), func(s string) bool { return s == "" }), " · ")
		out = append(out, e)
	}
	for _, x := range f.Observations {
		out = append(out, entry{At: x.At, Kind: record.ObservationEntry, ID: x.ID, What: car.ObservationWords(x), Struck: x.Struck(), Doubted: x.Doubted(), Small: true})
	}
	return out
}

// testEntries are a hold and its legs.
func testEntries(t evidence.TestFolder) (out []entry) {
	e := entry{At: t.At, Kind: record.TestEntry, ID: t.ID, What: testName(t), Link: "/tests/" + t.ID, Struck: t.Struck(), Doubted: t.Doubted(), Class: verdictClass(t.Outcome)}
	if sum, ok := t.Summary(); ok {
		e.Figure = fmt.Sprintf("%.3f mm", sum.D*1e3)
		e.Note = fmt.Sprintf("%.3f to %.3f mm, %s", sum.Low*1e3, sum.High*1e3, t.Outcome.Words())
		if sum.Tight {
			e.Note += ", tight on " + t.At.Local().Format("2 Jan")
		}
		e.Plot = template.HTML(sparkline(sum))
	} else {
		e.Figure, e.Note = t.Outcome.Words(), t.Problem
	}
	for _, r := range slices.Backward(t.Runs) { // made within one moment, the later stands above
		out = append(out, runEntries(t, r)...)
	}
	return append(out, e)
}

// markEntries are what was marked on the Map.
func (s *server) markEntries(f evidence.Folder) (out []entry) {
	parts := s.partNames(f)
	for _, x := range f.Marks {
		e := entry{At: x.At, Kind: record.MarkEntry, ID: x.ID, What: x.Kind.Words() + ": " + plumbing.Lower(parts[x.Part]), Note: x.Text, Struck: x.Struck(), Doubted: x.Doubted(), Photo: x.Photo, Link: "/cases/" + f.Case.ID + "?part=" + x.Part + "#part", Small: true}
		switch {
		case x.Kind == record.MarkSuspect:
			e.Figure = fmt.Sprintf("%.0f %%", 100*x.Odds)
		case x.Kind == record.MarkExit && x.Expected:
			e.Figure = string(x.Size) + ", expected"
		case x.Kind == record.MarkExit:
			e.Figure, e.Class = string(x.Size), "over"
		}
		out = append(out, e)
	}
	return out
}

// endEntries are what was found, repaired and tried again.
func (s *server) endEntries(f evidence.Folder) (out []entry) {
	for _, x := range f.Findings {
		p, _ := s.shop.Book.Fault(x.Part)
		out = append(out, entry{At: x.At, Kind: record.FindingEntry, ID: x.ID, What: "Found", Figure: p.Name, Class: "over", Note: foundWords(s, x), Struck: x.Struck(), Doubted: x.Doubted(), Photo: x.Photo})
	}
	for _, x := range f.Repairs {
		e := entry{At: x.At, Kind: record.RepairEntry, ID: x.ID, What: "Repair, " + x.Lasts(), Figure: x.Action, Struck: x.Struck(), Doubted: x.Doubted(), Photo: x.Photo}
		e.Note = strings.Trim(x.Parts+" · "+x.Seals, " ·")
		out = append(out, e)
	}
	for _, x := range f.Trials {
		e := entry{At: x.At, Kind: record.TrialEntry, ID: x.ID, What: "Complaint tried again", Figure: "gone", Note: fmt.Sprintf("%s · %d min", x.How, (x.Seconds+30)/60), Struck: x.Struck(), Doubted: x.Doubted(), Link: "/cases/" + f.Case.ID + "/proof"}
		if !x.Gone {
			e.Figure, e.Class = "came back", "over"
		}
		out = append(out, e)
	}
	return out
}

// foundWords says where, how and on what a finding rests.
func foundWords(s *server, x record.Finding) string {
	w := []string{x.Place}
	if x.How != x.RestsOn {
		w = append(w, x.How)
	}
	if x.By == record.ByTest {
		w = append(w, "rests on: "+x.RestsOn)
	} else {
		w = append(w, x.By.Words(x.RestsOn))
	}
	switch x.Cause {
	case "":
	case record.NoCause:
		w = append(w, "failed on its own")
	case record.CauseUnknown:
		w = append(w, "why is not known")
	default:
		p, _ := s.shop.Book.Fault(x.Cause)
		w = append(w, "victim of: "+plumbing.Lower(p.Name))
	}
	w = append(w, x.Why)
	return strings.Join(slices.DeleteFunc(w, func(x string) bool { return x == "" }), " · ")
}

// meaningClass is the colour of what an outcome means.
func meaningClass(m knowledge.Meaning) string {
	switch m {
	case knowledge.Sound:
		return "within"
	case knowledge.Faulty:
		return "over"
	}
	return "cannot"
}

// partNames are the names of the parts of a case's car.
func (s *server) partNames(f evidence.Folder) map[string]string {
	out := map[string]string{}
	car, err := s.shop.Car(f.Vehicle, nil) // also those that a correction took off
	if err != nil {
		return out
	}
	for _, p := range car.Graph.Parts {
		out[p.Key] = p.Name
	}
	return out
}

// scanEntry is a scan in one line: its codes, and what the counters tell.
func (s *server) scanEntry(x evidence.ScanFolder) entry {
	e := entry{At: x.At, Kind: record.ScanEntry, ID: x.ID, What: "Scan", Link: "/scans/" + x.ID, Struck: x.StruckAt != nil, Doubted: x.Doubted()}
	var codes []string
	for _, c := range x.Read.Codes {
		if !slices.Contains(codes, c.Code) {
			codes = append(codes, c.Code)
		}
	}
	e.Figure = strings.Join(codes, " ")
	if len(codes) == 0 {
		e.Figure = "no codes"
		if !x.Read.Asked[obd.Stored] {
			e.Figure = "codes not asked for"
		}
	}
	var notes []string
	if st := x.Read.Readiness["evap"]; st != "" && st != obd.Unsupported {
		notes = append(notes, "EVAP monitor "+map[string]string{obd.Complete: "complete", obd.Incomplete: "not complete"}[st])
	}
	for _, k := range []string{"06", "07"} {
		if v, ok := x.Read.Live[k]; ok {
			notes = append(notes, fmt.Sprintf("%s trim %+.1f %%", map[string]string{"06": "short", "07": "long"}[k], v.Value))
		}
	}
	if c := x.Read.Since(x.At.Local()); c.Known && c.Warmups >= 0 {
		notes = append(notes, fmt.Sprintf("%.0f warm-ups since clearing", c.Warmups))
	}
	e.Note = strings.Join(append(notes, x.Source), " · ")
	return e
}

// runEntries is a leg in one line, and each of its marks in one.
func runEntries(t evidence.TestFolder, r record.Run) []entry {
	link := "/tests/" + t.ID + "?leg=" + r.ID
	e := entry{At: r.At, Kind: record.RunEntry, ID: r.ID, What: casework.Upper(r.Kind.Words()), Link: link, Struck: r.StruckAt != nil, Doubted: r.Doubted(), Small: true}
	switch {
	case r.EndedAt == nil:
		e.Kind, e.Note, e.Link = "", "being read now", "/tests/"+t.ID+"/live"
	case r.Source.Name != "":
		e.Note = fmt.Sprintf("read live, %d readings, %s", r.Readings, r.Source.Name)
	default:
		e.Note = fmt.Sprintf("%d readings, %s", r.Readings, r.Name)
	}
	for _, g := range r.Gaps {
		e.Note += " · " + g.Words()
	}
	out := []entry{e}
	for _, m := range r.Marks {
		out = append(out, entry{At: r.At.Add(time.Duration(m.Time * float64(time.Second))), What: "Mark", Note: m.Text, Link: link, Struck: r.StruckAt != nil, Small: true})
	}
	return out
}

// benchEntries are the legs of a test that was read live; what they came to is its result.
func (s *server) benchEntries(f evidence.Folder, t evidence.TestFolder) (out []entry) {
	e, _ := s.shop.Book.Test(t.Key)
	d, driven := t.Drive()
	if driven && len(t.Runs) == 0 { // it was typed
		out = append(out, entry{At: t.At, What: e.Name + ", typed", Link: "/tests/" + t.ID + "/drive", Small: true})
	}
	for i, r := range t.Runs {
		for _, x := range runEntries(t, r) {
			if x.Kind == record.RunEntry {
				x.What, x.Link = fmt.Sprintf("%s, leg %d", e.Name, i+1), "/runs/"+r.ID+"/replay"
			}
			if r.Kind == record.RunDrive && x.Kind == record.RunEntry {
				x.What, x.Link = e.Name+", "+r.Name, "/tests/"+t.ID+"/drive"
				says := t.Problem
				if driven {
					says = fmt.Sprintf("%.0f s count, at %d points", d.Points.Seconds, len(d.Points.Points))
					if !slices.ContainsFunc(f.Results, func(y record.Result) bool { return y.Bench == t.ID && !y.Struck() }) {
						says += "; not written down as a result yet"
					}
				}
				x.Note = strings.Trim(says+" · "+x.Note, " ·")
			}
			if x.What == "" {
				x.What = e.Name
			}
			out = append(out, x)
		}
	}
	return out
}

func testName(t evidence.TestFolder) string {
	name := "Leak-down test"
	if sum, ok := t.Summary(); ok {
		switch {
		case sum.Pressure != nil && sum.Vacuum != nil:
			name = "Leak-down test, pressure and vacuum"
		case len(sum.Legs) > 0 && holdIsVacuum(sum):
			name = "Leak-down test, vacuum"
		}
	}
	if t.RepeatOf != "" {
		name += ", repeated"
	}
	return name
}

func holdIsVacuum(sum record.Summary) bool {
	low := 0.0
	high := 0.0
	for _, l := range sum.Legs {
		for _, p := range l.Measured {
			low, high = min(low, p), max(high, p)
		}
	}
	return -low > high
}
