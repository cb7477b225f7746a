package casework

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/report"
)

// Thought is what is to be made of a case: its odds, and what to do next.
type Thought struct {
	State        *diagnose.State
	Explanations []diagnose.Explanation
	Plan         diagnose.Plan
	Clashes      []diagnose.Clash
	Left         []diagnose.Silent // evidence that was left out, and why
	Bay          diagnose.Bay
	Words        string // next, for the Slate
	Minutes      int
}

// thoughts keeps what was worked out last, by case, version and bay.
type thoughts struct {
	mu sync.Mutex
	m  map[string]*Thought
}

// How much a finding weighs: by word, by a test that is on the case already, and what the
// opened part then says of it. Chosen here.
const (
	wordWeighs = 20.0
	testWeighs = 4.0
	opensYes   = 5.0
	opensNo    = 0.05
)

// mostThoughts is how many cases are kept in mind at once.
const mostThoughts = 64

func (c *thoughts) get(key string) *Thought {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.m[key]
}

func (c *thoughts) put(key string, t *Thought) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.m == nil || len(c.m) >= mostThoughts {
		c.m = map[string]*Thought{}
	}
	c.m[key] = t
}

// Think works out what is to be made of a case. It is kept until the case, the bay or the
// shop's ways change.
func (s *Shop) Think(ctx context.Context, f Folder) (*Thought, error) {
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return nil, err
	}
	bay, err := s.Bay(ctx, f)
	if err != nil {
		return nil, err
	}
	ways, _ := json.Marshal(bay)
	key := fmt.Sprint(f.Case.ID, f.Case.Version, len(f.Corrections), f.Vehicle.Archetype, f.Vehicle.Engine, string(ways))
	if t := s.minds.get(key); t != nil {
		return t, nil
	}
	t, err := s.think(f, car, bay)
	if err != nil {
		return nil, err
	}
	s.minds.put(key, t)
	return t, nil
}

func (s *Shop) think(f Folder, car Car, bay diagnose.Bay) (*Thought, error) {
	m, err := s.model(f, car)
	if err != nil {
		return nil, err
	}
	h, left := s.History(f, car)
	// One reading that cannot be weighed (of a part that a correction took away) must not
	// stop the rest: it is left out and named.
	var st *diagnose.State
	for range 50 {
		if st, err = m.Think(h); err == nil {
			break
		}
		n, at := worst(m, h)
		if n < 0 {
			return nil, err
		}
		e := h[n].Evidence[at]
		left = append(left, diagnose.Silent{ID: e.ID, Says: e.Says, Why: strings.TrimPrefix(err.Error(), e.Says+": ")})
		h[n].Evidence = slices.Delete(slices.Clone(h[n].Evidence), at, at+1)
	}
	if st == nil {
		return nil, err
	}
	t := &Thought{State: st, Explanations: st.Explanations(), Left: append(left, st.Silent...), Bay: bay}
	t.Plan = st.Next(bay)
	t.Clashes = st.Clashes()
	if len(t.Plan.Actions) > 0 {
		a := t.Plan.Actions[0]
		t.Words, t.Minutes = strings.ToLower(a.Name[:1])+a.Name[1:], int(math.Round(a.Minutes))
	}
	return t, nil
}

// worst finds a piece of evidence that by itself cannot be weighed.
func worst(m *diagnose.Model, h diagnose.History) (epoch, at int) {
	for n := range h {
		for i := range h[n].Evidence {
			if _, err := m.Think(diagnose.History{{Evidence: h[n].Evidence[i : i+1]}}); err != nil {
				return n, i
			}
		}
	}
	return -1, 0
}

// model is what may be wrong with the car of a case.
func (s *Shop) model(f Folder, car Car) (*diagnose.Model, error) {
	age := 0.0
	if f.Vehicle.Year > 1900 {
		age = math.Max(float64(f.Case.OpenedAt.Year()-f.Vehicle.Year), 0)
	}
	m, err := diagnose.New(s.Book, ingest.Table(), diagnose.Car{Of: car.Combination, Graph: car.Graph, Age: age, Km: f.Vehicle.OdometerKM})
	if err != nil {
		return nil, problem("plumbing", "%s.", Upper(err.Error()))
	}
	return m, nil
}

// History turns what is on a case into evidence, epoch by epoch: a repair that was done
// ends one. What was struck out or is doubted is left out; so is, with its reason, what
// says nothing (a sensor that cannot see what it seems to tell).
func (s *Shop) History(f Folder, car Car) (diagnose.History, []diagnose.Silent) {
	var cuts []time.Time
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil && !r.Doubted() {
			cuts = append(cuts, *r.DoneAt)
		}
	}
	slices.SortFunc(cuts, time.Time.Compare)
	h := make(diagnose.History, len(cuts)+1)
	epoch := func(at time.Time) int {
		n := 0
		for n < len(cuts) && at.After(cuts[n]) {
			n++
		}
		return n
	}
	var left []diagnose.Silent
	put := func(at time.Time, e diagnose.Evidence) {
		n := epoch(at)
		h[n].Evidence = append(h[n].Evidence, e)
	}
	// What a repair renewed: what had been found before it and was not renewed yet.
	done := map[string]bool{}
	for n, cut := range cuts {
		for _, x := range f.Findings {
			if x.StruckAt != nil || x.Doubted() || done[x.ID] || x.At.After(cut) {
				continue
			}
			done[x.ID] = true
			if p, ok := s.Book.Fault(x.Part); !ok || p.Family == "other" {
				continue
			}
			r := diagnose.Repair{Fault: x.Part}
			switch x.Cause {
			case record.NoCause:
				r.Cause = diagnose.NoCause
			case "", record.CauseUnknown:
			default:
				r.Cause = x.Cause
			}
			if !s.canHave(car, r.Fault) || r.Cause != "" && r.Cause != diagnose.NoCause && !s.canHave(car, r.Cause) {
				continue
			}
			h[n+1].Repairs = append(h[n+1].Repairs, r)
		}
	}
	if f.Vehicle.Year > 1900 && f.Case.OpenedAt.Year()-f.Vehicle.Year > 12 {
		put(f.Case.OpenedAt, diagnose.Evidence{ID: "age", Kind: diagnose.Context, Key: "age", Says: "More than twelve years old"})
	}
	if f.Vehicle.OdometerKM > 200000 {
		put(f.Case.OpenedAt, diagnose.Evidence{ID: "km", Kind: diagnose.Context, Key: "high-mileage", Says: "More than 200 000 km"})
	}
	for _, x := range f.Observations {
		if x.StruckAt != nil || x.Doubted() {
			continue
		}
		e := diagnose.Evidence{ID: x.ID, Key: x.Key, Part: x.Part, Absent: x.Absent, Says: s.ObservationWords(x, car), Kind: map[string]diagnose.Kind{record.SeenSign: diagnose.Signed, record.SeenContext: diagnose.Context, record.SeenRenewed: diagnose.Renewed, record.SeenMarks: diagnose.Worked}[x.Kind]}
		if (x.Key == "age" || x.Key == "high-mileage") && slices.ContainsFunc(h[0].Evidence, func(o diagnose.Evidence) bool { return o.Key == x.Key }) {
			continue
		}
		put(x.At, e)
	}
	s.scanEvidence(f, car, epoch, put, &left)
	for _, t := range f.Tests {
		if t.StruckAt != nil || t.Doubted() || t.Outcome == "" {
			continue
		}
		entry, set := s.Sealing(car, t.Setup)
		e := diagnose.Evidence{ID: t.ID, Kind: diagnose.Held, Entry: entry, Set: set}
		if sum, ok := t.Summary(); ok {
			e.Curve = diagnose.Measured(sum.D, sum.Low, sum.High)
			e.Suction = len(sum.Legs) > 0 && vacuumOnly(sum)
			e.Says = fmt.Sprintf("Hold: %.2f mm, %.2f to %.2f", sum.D*1e3, sum.Low*1e3, sum.High*1e3)
		} else if t.Outcome == record.CannotPressurise {
			e.Curve, e.Says = diagnose.TooLarge(), "Hold: cannot be charged"
		} else {
			continue
		}
		if n := plugsOf(car, set); n != "" {
			e.Says += ", " + n
		}
		if r := car.Graph.Reach(entry, set, e.Suction); !r.Sealed() {
			left = append(left, diagnose.Silent{ID: t.ID, Says: e.Says, Why: "the system stood open to the air, so it says nothing"})
			continue
		}
		put(t.At, e)
	}
	for _, x := range f.Results {
		if x.StruckAt != nil || x.Doubted() {
			continue
		}
		for _, e := range s.resultEvidence(x, car) {
			put(x.At, e)
		}
	}
	for _, x := range f.Findings {
		if x.StruckAt != nil || x.Doubted() || !s.canHave(car, x.Part) {
			continue
		}
		p, _ := s.Book.Fault(x.Part)
		e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Found, Key: x.Part, Value: wordWeighs, Says: "Found, on the technician's word: " + knowledge.Lower(p.Name)}
		if x.By == record.ByTest { // the test weighs by itself
			e.Value, e.Says = testWeighs, "Found: "+knowledge.Lower(p.Name)
		}
		for _, o := range f.PostMortems {
			if o.StruckAt == nil && !o.Doubted() && o.FindingID == x.ID {
				e.Value *= map[string]float64{"yes": opensYes, "no": opensNo, "unclear": 1}[o.Confirmed]
				e.Says += "; opened, it " + map[string]string{"yes": "shows the failure", "no": "shows nothing", "unclear": "is unclear"}[o.Confirmed]
			}
		}
		put(x.At, e)
	}
	newest := map[string]record.MapMark{}
	for _, x := range f.Marks {
		if x.StruckAt != nil || x.Doubted() {
			continue
		}
		p, _ := car.Graph.Part(x.Part)
		switch x.Kind {
		case record.MarkExit:
			if x.Expected {
				continue
			}
			put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Exit, Part: x.Part, Says: "Exit seen: " + strings.ToLower(p.Name)})
		case record.MarkLooked:
			put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Looked, Part: x.Part, Says: "Looked, nothing found: " + strings.ToLower(p.Name)})
		case record.MarkSuspect:
			newest[x.Part] = x
		}
	}
	for _, x := range f.Marks {
		if y, ok := newest[x.Part]; ok && y.ID == x.ID && x.Odds > 0 {
			p, _ := car.Graph.Part(x.Part)
			put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Thought, Part: x.Part, Value: x.Odds, Says: "Suspected by hand: " + strings.ToLower(p.Name)})
		}
	}
	return h, left
}

func (s *Shop) canHave(car Car, fault string) bool { return s.Where(car, fault) != "" }

// plugsOf says what is plugged in a set-up.
func plugsOf(car Car, set plumbing.Settings) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(set)) {
		if p, ok := car.Graph.Part(k); ok && set[k] == plumbing.Plugged && p.Plug != "" && k != "vent-hose" {
			out = append(out, "plugged: "+strings.ToLower(p.Name))
		}
	}
	return strings.Join(out, ", ")
}

// ObservationWords says an observation.
func (s *Shop) ObservationWords(x record.Observation, car Car) string {
	p, _ := car.Graph.Part(x.Part)
	switch x.Kind {
	case record.SeenSign:
		g, _ := s.Book.Sign(x.Key)
		if x.Absent {
			return "Not so: " + knowledge.Lower(g.Name)
		}
		return g.Name
	case record.SeenContext:
		for _, c := range s.Book.Contexts {
			if c.Key == x.Key {
				return c.Name
			}
		}
	case record.SeenRenewed:
		return "Renewed lately: " + knowledge.Lower(p.Name)
	case record.SeenMarks:
		return "Marks of earlier work: " + knowledge.Lower(p.Name)
	}
	return x.Key
}

// resultEvidence turns a result into evidence: several exits are several pieces.
func (s *Shop) resultEvidence(x record.Result, car Car) (out []diagnose.Evidence) {
	t, ok := s.Book.Test(x.Test)
	if !ok {
		return nil
	}
	e := diagnose.Evidence{ID: x.ID, Kind: diagnose.Done, Test: x.Test, Part: x.Part, Outcome: x.Outcome, Says: s.ResultWords(x, car)}
	if x.Test == "decay" { // typed in words, without a log
		return nil
	}
	for i := range t.Reads {
		v := math.NaN()
		for _, f := range x.Figures {
			if f.Name == t.Reads[i].Name && f.Value != nil {
				v = *f.Value
			}
		}
		e.Readings = append(e.Readings, v)
	}
	a, _ := s.Book.Archetype(car.Combination.Vapour)
	if x.Test == "smoke" || x.Test == "make-up-flow" {
		e.Entry, e.Set, e.Part = cmp.Or(x.Part, a.Entry), a.Settings(), ""
	}
	if x.Test == "look" {
		switch {
		case x.Outcome == "marks" && x.Part != "":
			return []diagnose.Evidence{{ID: x.ID, Kind: diagnose.Worked, Part: x.Part, Says: e.Says}}
		case x.Outcome == "seen" && x.Part != "":
			e.Outcome, e.Part = "seen:"+x.Part, ""
		}
	}
	if x.Outcome == "exit" && len(x.Exits) > 0 {
		for i, ex := range x.Exits {
			y := e
			p, _ := car.Graph.Part(ex.Part)
			y.Outcome, y.Says = "exit:"+ex.Part, t.Name+": "+ex.Size+" at the "+knowledge.Lower(p.Name)
			if i > 0 {
				y = diagnose.Evidence{ID: x.ID, Kind: diagnose.Exit, Part: ex.Part, Says: y.Says}
			}
			out = append(out, y)
		}
		return out
	}
	return []diagnose.Evidence{e}
}

// ResultWords says a result in a line.
func (s *Shop) ResultWords(x record.Result, car Car) string {
	return s.ResultName(x, car) + ": " + s.OutcomeName(x.Test, x.Outcome)
}

// ResultName says which test a result is of, and on which part.
func (s *Shop) ResultName(x record.Result, car Car) string {
	t, _ := s.Book.Test(x.Test)
	p, ok := car.Graph.Part(x.Part)
	switch {
	case ok && x.Test == "smoke":
		return t.Name + ", in at the " + knowledge.Lower(p.Name)
	case ok:
		return t.Name + ", " + knowledge.Lower(p.Name)
	}
	return t.Name
}

// OutcomeName says the outcome of a test of the Book.
func (s *Shop) OutcomeName(test, outcome string) string {
	t, _ := s.Book.Test(test)
	for _, o := range t.Outcomes {
		if o.Key == outcome {
			return o.Name
		}
	}
	return outcome
}

// scanEvidence gathers what the car's own computer says: codes and what is missing of
// them, the monitor's numbers, trims of live data and freeze frame.
func (s *Shop) scanEvidence(f Folder, car Car, epoch func(time.Time) int, put func(time.Time, diagnose.Evidence), left *[]diagnose.Silent) {
	scans := make([]ScanFolder, 0, len(f.Scans))
	for _, x := range f.Scans {
		if x.StruckAt == nil && !x.Doubted() && x.Bad == "" {
			scans = append(scans, x)
		}
	}
	type bag struct {
		codes []string
		ran   []string
		at    time.Time
		asked bool
	}
	bags := map[int]*bag{}
	get := func(at time.Time) *bag {
		n := epoch(at)
		if bags[n] == nil {
			bags[n] = &bag{at: at}
		}
		return bags[n]
	}
	doubted := map[string]bool{}
	for _, c := range f.Codes {
		if c.StruckAt == nil && c.Doubted() {
			doubted[c.Code] = true
		}
	}
	var cleared time.Time
	for _, n := range f.Notes {
		if n.Kind == record.Cleared && n.StruckAt == nil {
			cleared = n.At
		}
	}
	for _, l := range f.History() {
		if l.Made || doubted[l.Code] {
			if l.Made {
				*left = append(*left, diagnose.Silent{ID: l.Code, Says: l.Code, Why: "the hunt made it; no weight until it returns"})
			}
			continue
		}
		for _, seen := range l.Seen {
			if seen.Gone || seen.Status == obd.Permanent && epoch(seen.At) > 0 {
				continue // a permanent code stays until its monitor has passed: it says nothing new
			}
			if epoch(seen.At) > 0 && (cleared.IsZero() || seen.At.Before(cleared)) {
				continue // stored before the repair, and never cleared since
			}
			b := get(seen.At)
			if !slices.Contains(b.codes, l.Code) {
				b.codes = append(b.codes, l.Code)
			}
		}
	}
	for _, x := range scans {
		if !x.Read.Asked[obd.Stored] {
			continue
		}
		b := get(x.At)
		b.asked, b.ran, b.at = true, nil, x.At
		for k, st := range x.Read.Readiness {
			if st == obd.Complete {
				b.ran = append(b.ran, k)
			}
		}
	}
	for n, b := range bags {
		if len(b.codes) == 0 && !b.asked || n > 0 && len(b.codes) == 0 && len(b.ran) == 0 {
			continue
		}
		slices.Sort(b.codes)
		says := "Codes " + strings.Join(b.codes, " ")
		if len(b.codes) == 0 {
			says = "No codes"
		}
		put(b.at, diagnose.Evidence{ID: "codes", Kind: diagnose.Scanned, Codes: b.codes, Ran: b.ran, Before: n == 0, Says: says})
	}
	for i, x := range scans {
		if i+1 < len(scans) && epoch(scans[i+1].At) == epoch(x.At) {
			continue // the newest of an epoch counts: numbers of one trip are not two readings
		}
		before := epoch(x.At) == 0
		for _, t := range x.Read.Tests {
			size := map[string]string{"3C": "very-small", "3B": "small", "39": "large", "3A": "large"}[strings.ToUpper(t.Monitor)]
			if size == "" || !t.Ran || !t.HasMax || !(t.Max > 0) || t.Value < 0 {
				continue
			}
			put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Limits, Size: size, Value: math.Min(t.Value/t.Max, 100), Before: before,
				Says: fmt.Sprintf("Monitor's own number, %s: %.0f %% of its limit", t.Name, 100*t.Value/t.Max)})
			break // of one check, its first number
		}
		trim := func(live map[string]obd.Value, what string, past bool) {
			short, ok1 := live["06"]
			long, ok2 := live["07"]
			if !ok1 || !ok2 {
				return
			}
			if m := s.engineOf(car); m.Diesel {
				return
			}
			at := ""
			rpm, load := live["0C"].Value, live["04"].Value
			switch {
			case rpm > 400 && rpm < 1150 && live["0D"].Value < 5:
				at = "idle"
			case rpm >= 1150 && load > 45:
				at = "load"
			case rpm >= 1800 && rpm < 3500 && live["0D"].Value < 5:
				at = "2500"
			default:
				return
			}
			if st, ok := live["03"]; ok && !strings.Contains(strings.ToLower(st.Text), "closed") {
				*left = append(*left, diagnose.Silent{ID: x.ID, Says: "Trims of " + what, Why: "open loop: trims mean nothing"})
				return
			}
			total := 100 * ((1+short.Value/100)*(1+long.Value/100) - 1)
			stop := math.Abs(long.Value) >= 24 || math.Abs(short.Value) >= 24
			says := fmt.Sprintf("Trims of %s, %s: %+.0f %% in all", what, map[string]string{"idle": "at idle", "load": "under load", "2500": "about 2500 rpm"}[at], total)
			if stop {
				says += ", at a stop: a bound"
			}
			put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Trims, Key: at, Value: math.Max(math.Min(total, 100), -100), Stop: stop, Loose: true, Before: past, Says: says})
		}
		trim(x.Read.Live, "live data", false)
		for _, fr := range x.Read.Freeze {
			trim(fr.Data, "the freeze frame", true)
			break
		}
		if _, ok := x.Read.Live["69"]; ok && strings.HasPrefix(car.Combination.Recirculation, "egr-motor") {
			*left = append(*left, diagnose.Silent{ID: x.ID, Says: "Recirculation position", Why: "it is the motor's, not the valve's: it clears nothing"})
		}
	}
}

func (s *Shop) engineOf(car Car) plumbing.Archetype {
	a, _ := s.Book.Plumbing.Find(car.Combination.Engine)
	return a
}

// Bay is what the shop has and how it works, for one case.
func (s *Shop) Bay(ctx context.Context, f Folder) (diagnose.Bay, error) {
	w, err := s.Ways(ctx)
	if err != nil {
		return diagnose.Bay{}, err
	}
	b := diagnose.Bay{Kit: w.Kit, Rate: w.Rate, Day: w.Day, Policies: w.Policies, Careful: w.Careful, Access: map[string]int{}}
	if len(f.Case.Kit) > 0 {
		b.Kit = f.Case.Kit
	}
	for _, c := range f.Cards { // oldest first: the newest wins
		if c.StruckAt == nil && c.Minutes > 0 {
			b.Access[c.Part] = c.Minutes
		}
	}
	b.Last = s.standing(f)
	return b, nil
}

// standing is the set-up that the last test of today left.
func (s *Shop) standing(f Folder) string {
	var at time.Time
	last := ""
	for _, t := range f.Tests {
		if t.StruckAt == nil && t.At.After(at) {
			d, _ := s.Book.Test("decay")
			at, last = t.At, d.Shares
		}
	}
	for _, x := range f.Results {
		if x.StruckAt == nil && x.At.After(at) {
			d, _ := s.Book.Test(x.Test)
			at, last = x.At, d.Shares
		}
	}
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(at) {
			return ""
		}
	}
	if s.now().Sub(at) > 3*time.Hour {
		return ""
	}
	return last
}

// Ways is how the shop works: the kit it has, what an hour and a day are worth, and its
// choice where schools differ. Kit is nil until it was ticked: then all of it is taken.
type Ways struct {
	Kit      []string          `json:"kit"`
	Rate     float64           `json:"rate"`
	Day      float64           `json:"day"`
	Policies map[string]string `json:"policies"`
	Careful  bool              `json:"trained"`
}

// Ways reads how the shop works.
func (s *Shop) Ways(ctx context.Context) (Ways, error) {
	w := Ways{Policies: map[string]string{}}
	var v []string
	if err := s.DB.Read(ctx).Table("settings").Where("key = 'ways'").Pluck("value", &v).Error; err != nil {
		return w, err
	}
	if len(v) > 0 {
		if err := json.Unmarshal([]byte(v[0]), &w); err != nil {
			return w, fmt.Errorf("the shop's settings cannot be read: %w", err)
		}
	}
	if w.Policies == nil {
		w.Policies = map[string]string{}
	}
	return w, nil
}

// SetWays writes how the shop works.
func (s *Shop) SetWays(ctx context.Context, key string, w Ways) error {
	kit, err := s.checkKit(w.Kit)
	if err != nil {
		return err
	}
	w.Kit = kit
	if math.IsNaN(w.Rate) || w.Rate < 0 || w.Rate > 1000 {
		return problem("rate", "an hour of work costs between 0 and 1000")
	}
	if math.IsNaN(w.Day) || w.Day < 0 || w.Day > 2880 {
		return problem("day", "a day of waiting is worth between 0 and 2880 minutes of work")
	}
	for k, v := range w.Policies {
		i := slices.IndexFunc(s.Book.Schools, func(x knowledge.School) bool { return x.Key == k })
		if i < 0 || s.Book.Schools[i].Option(v).Key != v {
			return problem("ways", "%q is no way of working for %q", v, k)
		}
	}
	data, err := json.Marshal(w)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		return "ways", tx.Exec("INSERT INTO settings(key, value) VALUES('ways', ?) ON CONFLICT(key) DO UPDATE SET value = excluded.value", string(data)).Error
	})
	return err
}

// SmokeEntries are the places where smoke can be let into a car's vapour system.
func (s *Shop) SmokeEntries(car Car) (out []plumbing.Part) {
	a, _ := s.Book.Archetype(car.Combination.Vapour)
	r := car.Graph.Reach(a.Entry, a.Settings(), false)
	for _, p := range car.Graph.Parts {
		if p.Entry && r.Tests(p.Key) {
			out = append(out, p)
		}
	}
	return out
}

// PartsWays says of each part that was found whether this shop takes it genuine.
func (s *Shop) PartsWays(ctx context.Context, f Folder, car Car) (out []string, err error) {
	b, err := s.Bay(ctx, f)
	for _, x := range f.Findings {
		fault, _ := s.Book.Fault(x.Part)
		p, ok := car.Graph.Part(s.Where(car, x.Part))
		if x.StruckAt != nil || !ok {
			continue
		}
		w := "a proven equal will do"
		if b.Genuine(p.Kind) {
			w = "genuine, poor copies come back"
			if b.Policies["parts"] == "genuine" {
				w = "genuine, as this shop takes all parts"
			}
		}
		out = append(out, Upper(fault.Order)+": "+w+".")
	}
	return out, err
}

// CodesWays says what becomes of the codes of a case that is being proven: cleared once the
// proof is whole, or left to time out. Nothing is said of a case without codes.
func (s *Shop) CodesWays(ctx context.Context, f Folder) ([]string, error) {
	w, err := s.Ways(ctx)
	coded := len(f.Codes) > 0 || slices.ContainsFunc(f.Scans, func(x ScanFolder) bool { return x.StruckAt == nil && len(x.Read.Codes) > 0 })
	if err != nil || !coded || !f.Proof().Repaired {
		return nil, err
	}
	for _, n := range f.Notes {
		if n.Kind == record.Cleared && n.StruckAt == nil && !slices.ContainsFunc(f.Repairs, func(r record.RepairDone) bool { return r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(n.At) }) {
			return []string{"Cleared after the repair. Readiness starts anew: the monitors have to run before an inspection."}, nil
		}
	}
	if w.Policies["codes"] == "wait" {
		// Title 13 California Code of Regulations 1968.2, value from memory.
		return []string{"This shop lets them time out: the record stays. Three trips that pass put the lamp out, some 40 warm-ups without the fault erase the code. Look at pending codes, not at the lamp."}, nil
	}
	if !f.Proof().Whole() {
		return []string{"Cleared once the repair is proven, not before: clearing wipes freeze frame and readiness."}, nil
	}
	return []string{"The repair is proven: clear them now, with the scan kept. Readiness starts anew, and the monitors have to run before an inspection."}, nil
}

// checkKit orders a list of kit as the Book does and refuses what it does not know.
func (s *Shop) checkKit(kit []string) ([]string, error) {
	out := []string{}
	for _, k := range s.Book.Kit {
		if slices.Contains(kit, k.Key) {
			out = append(out, k.Key)
		}
	}
	for _, k := range kit {
		if !slices.Contains(out, k) {
			return nil, problem("kit", "there is no kit %q", k)
		}
	}
	return out, nil
}

// SetKit changes the kit at hand for one case; none takes the shop's again.
func (s *Shop) SetKit(ctx context.Context, key, id string, kit []string) error {
	list, err := s.checkKit(kit)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, id, 0)
		if err != nil {
			return "", err
		}
		c.Kit = list
		return id, advance(tx, c, c.Stage)
	})
	return err
}

// NewObservation is something told or seen, by one tap.
type NewObservation struct {
	Kind, Key, Part string
	Absent          bool
}

// Observe writes an observation down. What was said before of the same thing is struck
// out: the newest counts. Tapped again as it stands, it is taken back.
func (s *Shop) Observe(ctx context.Context, key, caseID string, n NewObservation) error {
	switch n.Kind {
	case record.SeenSign:
		if _, ok := s.Book.Sign(n.Key); !ok {
			return problem("sign", "there is no sign %q", n.Key)
		}
		n.Part = ""
	case record.SeenContext:
		if !slices.ContainsFunc(s.Book.Contexts, func(w knowledge.Word) bool { return w.Key == n.Key }) {
			return problem("circumstance", "there is no circumstance %q", n.Key)
		}
		n.Part, n.Absent = "", false
	case record.SeenRenewed, record.SeenMarks:
		n.Key, n.Absent = "", false
	default:
		return problem("observation", "a sign, a circumstance, a part renewed, or marks of earlier work")
	}
	_, err := s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		if n.Part != "" || n.Kind == record.SeenRenewed || n.Kind == record.SeenMarks {
			car, err := s.carOf(tx, v)
			if err != nil {
				return "", err
			}
			if _, err := car.part(n.Part); err != nil {
				return "", err
			}
		}
		var same []record.Observation
		if err := tx.Where("case_id = ? AND kind = ? AND key = ? AND part = ? AND struck_at IS NULL", caseID, n.Kind, n.Key, n.Part).Find(&same).Error; err != nil {
			return "", err
		}
		at, again := s.now(), false
		for _, x := range same {
			again = again || x.Absent == n.Absent
			if err := tx.Model(&record.Observation{}).Where("id = ?", x.ID).Update("struck_at", at).Error; err != nil {
				return "", err
			}
		}
		if again {
			return caseID, advance(tx, c, c.Stage)
		}
		x := record.Observation{ID: newID(), CaseID: caseID, Kind: n.Kind, Key: n.Key, Part: n.Part, Absent: n.Absent, At: at}
		if err := tx.Create(&x).Error; err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

// NewResult is what came out of a test.
type NewResult struct {
	Test, Part, Outcome, Note string
	Readings                  []float64 // in the Book's units; NaN where nothing was read
	Exits                     []record.ExitSeen
}

// AddResult writes the result of a test of the Book down. It is tried on the car first:
// what cannot be is refused in a sentence, and nothing is kept.
func (s *Shop) AddResult(ctx context.Context, key, caseID string, n NewResult) (string, error) {
	t, ok := s.Book.Test(n.Test)
	if !ok {
		return "", problem("test", "there is no test %q", n.Test)
	}
	var err error
	if n.Note, err = text("note", n.Note, 2000); err != nil {
		return "", err
	}
	if n.Outcome == "" {
		return "", problem("outcome", "say what came out")
	}
	for _, e := range n.Exits {
		if !slices.Contains(record.ExitSizes, e.Size) {
			return "", problem("exits", "an exit is a wisp, a stream or a billow")
		}
	}
	if n.Outcome == "exit" && len(n.Exits) == 0 && !diagnose.PartTest(n.Test) {
		return "", problem("exits", "say where it came out: the place is what this test tells")
	}
	if n.Outcome != "exit" {
		n.Exits = nil
	}
	if len(n.Exits) > 12 {
		return "", problem("exits", "more than twelve exits: write the strongest down")
	}
	if n.Test == "look" && (n.Outcome == "seen" || n.Outcome == "marks") && n.Part == "" {
		return "", problem("part", "say on which part")
	}
	x := record.Result{ID: newID(), CaseID: caseID, Test: n.Test, Part: n.Part, Outcome: n.Outcome, Note: n.Note, Figures: record.Figures{}, Exits: append(record.ExitsSeen{}, n.Exits...)}
	for i, r := range t.Reads {
		fig := record.Figure{Name: r.Name, Unit: r.Unit}
		if i < len(n.Readings) && !math.IsNaN(n.Readings[i]) {
			v := n.Readings[i]
			fig.Value = &v
		}
		x.Figures = append(x.Figures, fig)
	}
	return s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := open(tx, caseID, 0)
		if err != nil {
			return "", err
		}
		f, err := load(tx, caseID)
		if err != nil {
			return "", err
		}
		car, err := s.carOf(tx, f.Vehicle)
		if err != nil {
			return "", err
		}
		if x.Part != "" {
			if _, err := car.part(x.Part); err != nil {
				return "", err
			}
		}
		if x.Test == "smoke" && x.Part != "" && !slices.ContainsFunc(s.SmokeEntries(car), func(p plumbing.Part) bool { return p.Key == x.Part }) {
			return "", problem("part", "smoke cannot be let into this car's vapour system there")
		}
		for _, e := range x.Exits {
			if _, err := car.part(e.Part); err != nil {
				return "", err
			}
		}
		m, err := s.model(f, car)
		if err != nil {
			return "", err
		}
		if _, err := m.Think(diagnose.History{{Evidence: s.resultEvidence(x, car)}}); err != nil {
			msg := err.Error()
			if _, rest, ok := strings.Cut(msg, s.ResultWords(x, car)+": "); ok {
				msg = rest
			}
			return "", problem("result", "%s.", Upper(msg))
		}
		x.At = s.now()
		if err := tx.Create(&x).Error; err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, record.Hunt)
	})
}

// singles are tests that try one part: with a bad outcome they single it out.
func singles(test, outcome string) bool {
	return diagnose.PartTest(test) && !slices.Contains([]string{"holds", "none", "good", "true"}, outcome)
}

// RestsOn says what singles a fault out on a case, in words: a test of that very part, an
// exit or damage seen there. Empty: nothing does, it is the technician's word.
func (s *Shop) RestsOn(f Folder, car Car, fault string) []string {
	part := s.Where(car, fault)
	fa, _ := s.Book.Fault(fault)
	if part == "" {
		return nil
	}
	var out []string
	var since time.Time
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(since) {
			since = *r.DoneAt
		}
	}
	at := func(p string) bool {
		x, _ := car.Graph.Part(part)
		return p == part || p != "" && x.On == p
	}
	for _, x := range f.Results {
		if x.StruckAt != nil || x.Doubted() || x.At.Before(since) {
			continue
		}
		words := s.ResultWords(x, car)
		target := diagnose.Target(car.Graph, fa, part, x.Test)
		switch {
		case singles(x.Test, x.Outcome) && (at(x.Part) || target != "" && target == x.Part):
			out = append(out, words)
		case x.Test == "look" && x.Outcome == "seen" && at(x.Part):
			out = append(out, words)
		default:
			for _, e := range x.Exits {
				if at(e.Part) {
					out = append(out, words+", at this part")
				}
			}
		}
		if slices.Contains(fa.Tests, x.Test) && slices.Contains([]string{"torn", "no-flow", "flows-shut", "blocked", "pull", "both", "crankcase"}, x.Outcome) && !diagnose.PartTest(x.Test) {
			if st, err := s.Think(context.Background(), f); err == nil && st.State.Odds(fault) > 0.8 {
				out = append(out, words)
			}
		}
	}
	for _, x := range f.Marks {
		if x.StruckAt == nil && !x.Doubted() && x.Kind == record.MarkExit && !x.Expected && at(x.Part) && !x.At.Before(since) {
			out = append(out, "exit seen there")
		}
	}
	return out
}

// SetCause answers why a part failed, before the new one goes on.
func (s *Shop) SetCause(ctx context.Context, key, caseID, findingID, cause, why string) error {
	why, err := text("why", why, 1000)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, v, err := caseAndCar(tx, caseID)
		if err != nil {
			return "", err
		}
		x, err := find[record.Finding](tx, findingID)
		if err != nil || x.CaseID != caseID {
			return "", ErrNotFound
		}
		if err := s.checkCause(tx, v, x.Part, cause); err != nil {
			return "", err
		}
		x.Cause, x.Why = cause, why
		if err := tx.Save(&x).Error; err != nil {
			return "", err
		}
		return x.ID, advance(tx, c, c.Stage)
	})
	return err
}

func (s *Shop) checkCause(tx *gorm.DB, v record.Vehicle, fault, cause string) error {
	switch cause {
	case "":
		return problem("cause", "say why it failed: of itself, because of another trouble, or that nobody knows")
	case record.NoCause, record.CauseUnknown:
		return nil
	}
	car, err := s.carOf(tx, v)
	if err != nil {
		return err
	}
	if _, ok := s.Book.Fault(cause); !ok || cause == fault || !s.canHave(car, cause) {
		return problem("cause", "this car cannot have %q as a cause of it", cause)
	}
	return nil
}

// NewPostMortem is what a failed part looked like when it was opened.
type NewPostMortem struct {
	Finding, Confirmed, Text string
	Photo                    *record.Photo
}

// Open writes the post-mortem of a part down; a closed case still takes it, for parts are
// opened when there is time.
func (s *Shop) Open(ctx context.Context, key, caseID string, n NewPostMortem) error {
	if !slices.Contains([]string{"yes", "no", "unclear"}, n.Confirmed) {
		return problem("confirmed", "say whether the part shows the failure: yes, no, or unclear")
	}
	var err error
	if n.Text, err = text("what was seen", n.Text, 2000); err != nil {
		return err
	}
	if n.Text == "" && n.Photo == nil {
		return problem("what was seen", "say what the opened part looks like, or take a photo of it")
	}
	_, err = s.do(ctx, key, func(tx *gorm.DB) (string, error) {
		c, err := find[record.Case](tx, caseID)
		if err != nil {
			return "", err
		}
		x, err := find[record.Finding](tx, n.Finding)
		if err != nil || x.CaseID != caseID {
			return "", ErrNotFound
		}
		p := record.PostMortem{ID: newID(), CaseID: caseID, FindingID: n.Finding, Confirmed: n.Confirmed, Text: n.Text, At: s.now()}
		if p.Photo, err = hashOf(tx, n.Photo); err != nil {
			return "", err
		}
		if err := tx.Create(&p).Error; err != nil {
			return "", err
		}
		return p.ID, advance(tx, c, c.Stage)
	})
	return err
}

// KeepNext remembers what is to be done next, for the Slate.
func (s *Shop) KeepNext(ctx context.Context, f Folder, t *Thought) error {
	if f.Case.NextVersion == f.Case.Version || f.Case.Stage == record.Closed {
		return nil
	}
	words := t.Words
	if len(f.Scans)+len(f.Codes) == 0 || !slices.Contains([]record.Stage{record.Intake, record.Scan, record.Hunt}, f.Case.Stage) {
		words = "" // the order of the work says what is next
	}
	return s.DB.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&record.Case{}).Where("id = ? AND version = ?", f.Case.ID, f.Case.Version).
			Updates(map[string]any{"next": words, "next_minutes": t.Minutes, "next_version": f.Case.Version}).Error
	})
}

// CaseVersion is counted up by everything that is done to a case.
func (s *Shop) CaseVersion(ctx context.Context, id string) (int, error) {
	var v []int
	if err := s.DB.Read(ctx).Model(&record.Case{}).Where("id = ?", id).Pluck("version", &v).Error; err != nil {
		return 0, err
	}
	if len(v) == 0 {
		return 0, ErrNotFound
	}
	return v[0], nil
}

// ThinkOfBundle works out what is to be made of a case as its bundle holds it, without a
// shop: the state, the kit the case had at hand, and what was left out.
func (s *Shop) ThinkOfBundle(b report.Bundle) (*diagnose.State, []string, []diagnose.Silent, error) {
	f := Folder{Case: b.Case, Vehicle: b.Vehicle, Codes: b.Codes, Findings: b.Findings, Repairs: b.Repairs, Trials: b.Trials, Notes: b.Notes, Marks: b.Marks, Results: b.Results,
		Observations: b.Told, PostMortems: b.Opened, Corrections: b.Corrections, Cards: b.Cards}
	for _, x := range b.Scans {
		f.Scans = append(f.Scans, readScan(x))
	}
	for _, t := range b.Tests {
		tf := TestFolder{Test: t.Test}
		for _, r := range t.Runs {
			tf.Runs = append(tf.Runs, r.Run)
		}
		f.Tests = append(f.Tests, tf)
	}
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return nil, nil, nil, err
	}
	t, err := s.think(f, car, diagnose.Bay{Kit: f.Case.Kit})
	if err != nil {
		return nil, nil, nil, err
	}
	return t.State, f.Case.Kit, t.Left, nil
}
