// Package record holds what a shop writes down about a car: the vehicle, its case,
// codes, tests, findings, repairs and trials of the complaint. The types are plain
// data, stored and bundled as they are; what may be done with them is casework's.
package record

import (
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"wexter/core/decay"
	"wexter/core/obd"
	"wexter/core/trim"
)

// Vehicle is remembered by its plate or shop id.
type Vehicle struct {
	ID            string    `json:"id"`
	Plate         string    `json:"plate"`     // as written
	PlateKey      string    `json:"plate_key"` // folded, unique
	Make          string    `json:"make"`
	Model         string    `json:"model"`
	Year          int       `json:"year"`
	OdometerKM    int       `json:"odometer_km"`
	TankL         float64   `json:"tank_l"`
	Metering      string    `json:"metering"`  // maf, map or unknown
	Archetype     string    `json:"archetype"` // key of how the EVAP system checks itself
	Engine        string    `json:"engine"`    // keys of the other archetypes; empty until somebody said
	Boost         string    `json:"boost"`
	Crankcase     string    `json:"crankcase"`
	Recirculation string    `json:"recirculation"`
	YearKept      string    `json:"year_kept,omitempty"` // vehicle id that names another model year, where the typed one was said to be right
	CreatedAt     time.Time `json:"created_at"`
	Version       int       `json:"-"` // counted up by everything that is changed of the car, its corrections and cards
}

// Name is make and model.
func (v Vehicle) Name() string { return v.Make + " " + v.Model }

// Stage is where a case stands.
type Stage string

// The stages in order.
const (
	Intake Stage = "intake"
	Scan   Stage = "scan"
	Hunt   Stage = "hunt"
	Found  Stage = "found"
	Repair Stage = "repair"
	Proof  Stage = "proof"
	Closed Stage = "closed"
)

// Stages lists them in order.
func Stages() []Stage { return []Stage{Intake, Scan, Hunt, Found, Repair, Proof, Closed} }

// Index is the place of s in the order.
func (s Stage) Index() int {
	for i, t := range Stages() {
		if s == t {
			return i
		}
	}
	return 0
}

// Case is one car's job.
type Case struct {
	ID            string     `json:"id"`
	Number        string     `json:"number"`
	VehicleID     string     `json:"vehicle_id"`
	Stage         Stage      `json:"stage"`
	Complaint     string     `json:"complaint"`
	Circumstances string     `json:"circumstances"`
	RecentWork    string     `json:"recent_work"`
	Deadline      string     `json:"deadline"` // date of inspection, 2006-01-02, or empty
	WaitKind      WaitKind   `json:"wait_kind"`
	WaitNote      string     `json:"wait_note"`
	WaitUntil     *time.Time `json:"wait_until"`
	Monitors      Monitors   `json:"monitors"` // of the EVAP system
	Outcome       Ending     `json:"outcome"`
	Reason        string     `json:"reason"`
	Away          bool       `json:"away,omitempty"` // the car is not here yet
	Who           string     `json:"who,omitempty"`  // works on it: initials, or empty
	OpenedAt      time.Time  `json:"opened_at"`
	ClosedAt      *time.Time `json:"closed_at"`
	Kit           Strings    `json:"kit" gorm:"serializer:json"` // at hand for this case; empty: the shop's
	Version       int        `json:"version"`

	// What was to be done next, and what was left, when the case stood as NextBasis says; worked
	// out again at need. LeftMinutes are of work, LeftDays working days until the part is here, and
	// LeftNight says that its monitor needs a night and a drive before an inspection.
	Next        string  `json:"-"`
	NextMinutes int     `json:"-"`
	NextKit     Strings `json:"-" gorm:"serializer:json"`
	LeftMinutes int     `json:"-"`
	LeftDays    int     `json:"-"`
	LeftNight   bool    `json:"-"`
	NextBasis   string  `json:"-"`
}

// Ending is how a case was closed; empty while it is open.
type Ending string

// The endings.
const (
	Proven   Ending = "proven"
	Unproven Ending = "unproven"
)

// WaitKind is what a case waits for; empty when it does not wait.
type WaitKind string

// What a case can wait for.
const (
	WaitPart     WaitKind = "part"
	WaitSoak     WaitKind = "soak"
	WaitDrive    WaitKind = "drive"
	WaitCustomer WaitKind = "customer"
	WaitMonitors WaitKind = "monitors"
)

var waitWords = map[WaitKind]string{WaitPart: "part on its way", WaitSoak: "cold soak", WaitDrive: "drive",
	WaitCustomer: "customer to call", WaitMonitors: "ready when complete"}

// Words says what is waited for as the rail does; empty for what no case waits for.
func (k WaitKind) Words() string { return waitWords[k] }

// Monitors is whether the EVAP monitor has run; empty when nobody has looked.
type Monitors string

// The states of the EVAP monitor.
const (
	MonitorsIncomplete Monitors = "incomplete"
	MonitorsComplete   Monitors = "complete"
)

// Code is a trouble code tapped in by hand.
type Code struct {
	ID     string         `json:"id"`
	CaseID string         `json:"case_id"`
	Code   string         `json:"code"`
	Status obd.CodeStatus `json:"status"`
	At     time.Time      `json:"at"`
	Strike
	Doubt
}

// Strike is set on an entry that was taken out of the calculation; nothing is deleted.
type Strike struct {
	StruckAt *time.Time `json:"struck_at"`
}

// Struck reports whether the entry was taken out of the calculation.
func (s Strike) Struck() bool { return s.StruckAt != nil }

// Doubt is set on evidence that somebody does not trust: it is kept and shown, and
// proves nothing.
type Doubt struct {
	DoubtedAt *time.Time `json:"doubted_at"`
}

// Doubted reports whether the evidence is not trusted.
func (d Doubt) Doubted() bool { return d.DoubtedAt != nil }

// Test is a pressure or vacuum hold with its set-up, legs and result.
type Test struct {
	ID       string    `json:"id"`
	CaseID   string    `json:"case_id"`
	RepeatOf string    `json:"repeat_of"` // the test this one repeats after a repair
	Setup    Setup     `json:"setup" gorm:"serializer:json"`
	Rules    string    `json:"rules"` // version of the algorithm
	Outcome  Outcome   `json:"outcome"`
	Problem  string    `json:"problem"` // why there is no result yet
	Result   Blob      `json:"result"`  // the Summary, as JSON
	At       time.Time `json:"at"`
	Strike
	Version int `json:"version"`
	Doubt
	Key   string `json:"key,omitempty"`                            // of the Book; empty in what was written before other tests than holds were read live
	Part  string `json:"part,omitempty"`                           // tried by itself, or where smoke went in
	Seats Seats  `json:"seats,omitempty" gorm:"serializer:json"`   // what reads what
	Turns Turns  `json:"drivers,omitempty" gorm:"serializer:json"` // who drove, from when on
}

// Outcome is what came out of a hold: a verdict, or that there was nothing to judge;
// empty while there is no result.
type Outcome string

// The outcomes of a hold.
const (
	NoOutcome        Outcome = ""
	WithinLimit              = Outcome(decay.Within)
	OverLimit                = Outcome(decay.Over)
	CannotTell               = Outcome(decay.Undecided)
	CannotPressurise Outcome = "cannot_pressurise" // the system took all the air the supply gave, and no pressure built
)

// Words says an outcome as the screens do.
func (o Outcome) Words() string {
	switch o {
	case CannotPressurise:
		return "will not build pressure"
	case NoOutcome:
		return "no result yet"
	}
	return decay.Verdict(o).Words()
}

// VolumeHow is how the volume under the gauge is known.
type VolumeHow string

// The ways: from the tank less its fuel, by gas that was metered in, or not at all, since a
// known orifice is added in a leg of its own.
const (
	VolumeByLevel   VolumeHow = "level"
	VolumeMetered   VolumeHow = "metered"
	VolumeNotNeeded VolumeHow = "reference"
)

// Setup is what is known about rig and car in a test, in SI.
type Setup struct {
	Sealed          []string   `json:"sealed"` // steps ticked
	VolumeHow       VolumeHow  `json:"volume_how"`
	Volume          float64    `json:"volume_m3"`
	VolumeTolerance float64    `json:"volume_tolerance"`
	Tank            float64    `json:"tank_m3"`
	Level           float64    `json:"level"`
	Extra           float64    `json:"extra_m3"` // neck, canister, lines
	MeterFlow       float64    `json:"meter_flow_m3_s"`
	MeterTime       float64    `json:"meter_time_s"`
	MeterRise       float64    `json:"meter_rise_pa"`
	Limit           float64    `json:"limit_m"`
	Reference       float64    `json:"reference_m"`
	Barometer       float64    `json:"barometer_pa"`
	Temperature     float64    `json:"temperature_k"`
	Wet             bool       `json:"wet"`
	Entry           string     `json:"entry"` // part at which gauge and supply are joined
	Set             States     `json:"set"`   // parts that do not stand at rest: plugged, powered, open, shut
	Instrument      Instrument `json:"instrument"`
	Displacement    float64    `json:"displacement_m3,omitempty"` // of the engine; of a drive
}

// States are what parts of the Map were made to do, by key.
type States map[string]string

// Instrument is the gauge that was read.
type Instrument struct {
	Name         string   `json:"name"`
	Range        float64  `json:"range_pa"`
	Resolution   float64  `json:"resolution_pa"`
	Zero         float64  `json:"zero_pa"` // what it read open to air
	CalibratedOn string   `json:"calibrated_on"`
	RigHeld      RigCheck `json:"rig_held"`    // the rig plugged by itself
	RigLoss      float64  `json:"rig_loss_pa"` // what it lost in a minute
}

// RigCheck is how the rig did when it was plugged by itself; empty when that was not tried.
type RigCheck string

// How the rig did by itself.
const (
	RigHeld RigCheck = "held"
	RigLost RigCheck = "lost"
)

// Decay returns the set-up as the decay package takes it.
func (s Setup) Decay() decay.Setup {
	v := s.Volume
	if s.VolumeHow == VolumeNotNeeded {
		v = 0
	}
	return decay.Setup{Volume: v, VolumeTolerance: s.VolumeTolerance, Limit: s.Limit, Barometer: s.Barometer,
		Temperature: s.Temperature, Resolution: s.Instrument.Resolution, Wet: s.Wet}
}

// Run is one leg as it was read; its readings are kept in blocks that never change.
type Run struct {
	ID       string    `json:"id"`
	TestID   string    `json:"test_id"`
	Kind     RunKind   `json:"kind"`
	Name     string    `json:"name"` // file name, "typed", or the module's name
	Unit     string    `json:"unit"`
	Notes    Strings   `json:"notes" gorm:"serializer:json"`
	Start    float64   `json:"start_s"` // hold cut by hand; both 0: recognised
	End      float64   `json:"end_s"`
	Readings int       `json:"readings"`
	At       time.Time `json:"at"`
	Strike
	Source  Source     `json:"source" gorm:"serializer:json"` // empty for a file
	Origin  float64    `json:"origin_s"`                      // the module's clock at time 0
	Planned float64    `json:"planned_s"`                     // of hold, when it was watched live
	Watched bool       `json:"watched"`                       // it was ended by somebody who watched the estimate
	Marks   Marks      `json:"marks" gorm:"serializer:json"`
	Gaps    Gaps       `json:"gaps" gorm:"serializer:json"`
	EndedAt *time.Time `json:"ended_at"` // nil while it is being read
	Doubt
	Channels Channels `json:"channels,omitempty" gorm:"serializer:json"` // its columns, and with what they were read; empty of a file: gauge pressure and wall
	Figures  Figures  `json:"figures,omitempty" gorm:"serializer:json"`  // what it gave of the test's readings
	Says     string   `json:"says,omitempty"`                            // what it came to
	Who      string   `json:"who,omitempty"`                             // measured, as far as anybody said
}

// Source is the module a run was read from.
type Source struct {
	Address string `json:"address"`
	For     string `json:"for" gorm:"column:for_case"` // number of the case at whose car it is; empty: it is carried around
	Name    string `json:"name"`
	Serial  string `json:"serial"`
	Session string `json:"session"`
}

// Mark is a word at a moment of a run.
type Mark struct {
	Time float64 `json:"t_s"`
	Text string  `json:"text"`
	Key  string  `json:"key,omitempty"` // of what was heard or felt, or Recognised; empty of words
}

// Recognised is the key of marks that the test's own code put down.
const Recognised = "recognised"

// Gap is a stretch of a run without readings; what happened in it is not judged. Many
// that follow close on each other are summed up in one: Times says how many.
type Gap struct {
	From  float64 `json:"from_s" gorm:"column:from_s"`
	To    float64 `json:"to_s" gorm:"column:to_s"`
	Why   string  `json:"why"`
	Times int     `json:"times,omitempty"` // 0 for one
}

// Words says a gap as the screens do.
func (g Gap) Words() string {
	if g.Times > 1 {
		return fmt.Sprintf("nothing was read at %d moments from %.0f to %.0f s", g.Times, g.From, g.To)
	}
	return fmt.Sprintf("nothing was read from %.0f to %.0f s", g.From, g.To)
}

// gapsApart says how far from the last of n gaps the next one must begin to be told apart
// from it: a cable that flickers for hours must not fill the shop.
func gapsApart(n int) float64 {
	switch {
	case n < 20:
		return 0
	case n < 100:
		return 10
	case n < 400:
		return 120
	}
	return 3600
}

// Stretches are the readings between gaps, each from its first place up to, but without, its
// last: nobody knows what happened in a gap. What was read between the moments of one that
// sums up several does not count.
func (gs Gaps) Stretches(t []float64) (out [][2]int) {
	from := 0
	for _, g := range gs {
		if i, _ := slices.BinarySearch(t, g.From+1e-9); i > from {
			out = append(out, [2]int{from, i})
			from = i
		}
		after, _ := slices.BinarySearch(t, g.To-1e-9)
		from = max(from, after)
	}
	if from < len(t) {
		out = append(out, [2]int{from, len(t)})
	}
	return out
}

// With adds a gap that follows the others: close behind the last of many it is summed up
// with it.
func (gs Gaps) With(g Gap) Gaps {
	n := len(gs)
	if n == 0 || g.From-gs[n-1].To >= gapsApart(n) {
		return append(gs, g)
	}
	last := &gs[n-1]
	last.To, last.Times = g.To, max(last.Times, 1)+1
	return gs
}

// Marks and Gaps are kept as lists.
type (
	Marks []Mark
	Gaps  []Gap
)

// RunKind is what is read in a leg of a hold.
type RunKind string

// The legs. The first two look at rig and gauge, the others at the car.
const (
	RunRig       RunKind = "rig"
	RunZero      RunKind = "zero"
	RunDrift     RunKind = "drift"
	RunHold      RunKind = "hold"
	RunVacuum    RunKind = "vacuum"
	RunReference RunKind = "reference"

	RunDrive RunKind = "drive" // of the car, read for its fuel trims
)

var runWords = map[RunKind]string{RunRig: "rig by itself", RunZero: "zero, open to air", RunDrift: "drift, sealed at zero",
	RunHold: "hold", RunVacuum: "vacuum hold", RunReference: "hold with the known orifice", RunDrive: "drive"}

// Words says the kind of leg as the screens do; empty for one that is not known.
func (k RunKind) Words() string { return runWords[k] }

// OfCar reports whether the leg says something about the car, and not only about rig
// and gauge.
func (k RunKind) OfCar() bool { return runWords[k] != "" && k != RunRig && k != RunZero }

// Counts reports whether a run says something about the car, was ended and is not
// struck out.
func (r Run) Counts() bool { return !r.Struck() && r.EndedAt != nil && r.Kind.OfCar() }

// Strings is a list of sentences.
type Strings []string

// Finding is a part that was found to leak or stick.
type Finding struct {
	ID      string    `json:"id"`
	CaseID  string    `json:"case_id"`
	Part    string    `json:"part"`
	Place   string    `json:"place"`
	How     string    `json:"how"`
	Photo   string    `json:"photo"` // hash, or empty
	By      Ground    `json:"by"`
	RestsOn string    `json:"rests_on"`
	Odds    float64   `json:"odds"`  // that it was this one, when it was written down
	Cause   string    `json:"cause"` // a fault of which it is the victim, NoCause, CauseUnknown; empty: not asked yet
	Why     string    `json:"why" gorm:"column:cause_text"`
	At      time.Time `json:"at"`
	Strike
	Doubt
}

// Ground is what a finding rests on.
type Ground string

// The grounds: a test or an exit that singles the part out, that the rest was cleared, or the
// technician's judgement.
const (
	ByTest        Ground = "test"
	ByElimination Ground = "elimination"
	ByWord        Ground = "word"
)

// Words says what a finding rests on, in a report.
func (g Ground) Words(on string) string {
	switch {
	case g == ByElimination:
		return "by elimination; cleared: " + on
	case g == ByTest && on != "":
		return on
	}
	return "the technician's judgement"
}

// Answers to why a part failed that name no fault.
const (
	NoCause      = "none"
	CauseUnknown = "unknown"
)

// Result is a test of the Book with what was read and what that came to.
type Result struct {
	ID        string    `json:"id"`
	CaseID    string    `json:"case_id"`
	Test      string    `json:"test"`
	Part      string    `json:"part"`      // tried by itself, looked at, or where smoke went in
	Outcome   string    `json:"outcome"`   // key of the one that counts
	Judged    string    `json:"judged"`    // key of the one that the readings name; empty when they name none
	Says      string    `json:"says"`      // why they do
	Overruled string    `json:"overruled"` // why a person names another
	RepeatOf  string    `json:"repeat_of"` // the result that this one repeats after a repair
	Figures   Figures   `json:"figures" gorm:"serializer:json"`
	Exits     ExitsSeen `json:"exits" gorm:"serializer:json"`
	Photo     string    `json:"photo"` // hash, or empty
	Note      string    `json:"note"`
	At        time.Time `json:"at"`
	Strike
	Doubt
	Bench    string `json:"bench,omitempty"`    // id of the test as it was read live
	Measured string `json:"measured,omitempty"` // by whom and with what then, calibrated when
}

// ByHand reports whether a person named the outcome, and not the readings.
func (r Result) ByHand() bool { return r.Judged != r.Outcome }

// Figure is one reading of a test, in the unit of the Book; Value is nil when it was left out
// or is no figure. Of repeated readings it is the mean, and Values holds each. Words are
// readings that are words: choices, yes or no by cycle, parts, codes; "none" alone is an empty
// list, and "OL" an open circuit.
type Figure struct {
	Key    string    `json:"key,omitempty"`
	Name   string    `json:"name"`
	Unit   string    `json:"unit"`
	Value  *float64  `json:"value"`
	Values []float64 `json:"values,omitempty"`
	Words  []string  `json:"words,omitempty"`
}

// ExitSeen is a place where smoke or air came out, or where something was seen damaged or missing.
type ExitSeen struct {
	Part     string   `json:"part"`
	Size     ExitSize `json:"size"`
	Expected bool     `json:"expected,omitempty"` // it proves nothing
}

// Figures and ExitsSeen are kept as lists.
type (
	Figures   []Figure
	ExitsSeen []ExitSeen
)

// Observation is something told, seen or known of a car's past, tapped on the case.
type Observation struct {
	ID     string    `json:"id"`
	CaseID string    `json:"case_id"`
	Kind   SeenKind  `json:"kind"`
	Key    string    `json:"key"`    // of a sign or a circumstance of the Book
	Part   string    `json:"part"`   // renewed, or with marks on it
	Absent bool      `json:"absent"` // looked for and not there
	At     time.Time `json:"at"`
	Strike
	Doubt
}

// SeenKind is the kind of an observation.
type SeenKind string

// The kinds of observation.
const (
	SeenSign    SeenKind = "sign"
	SeenContext SeenKind = "context"
	SeenRenewed SeenKind = "renewed"
	SeenMarks   SeenKind = "marks"
)

// Known reports whether k is one of the kinds.
func (k SeenKind) Known() bool {
	return k == SeenSign || k == SeenContext || k == SeenRenewed || k == SeenMarks
}

// PostMortem is what the part looked like when it was opened.
type PostMortem struct {
	ID        string    `json:"id"`
	CaseID    string    `json:"case_id"`
	FindingID string    `json:"finding_id"`
	Confirmed Confirmed `json:"confirmed"`
	Text      string    `json:"text"`
	Photo     string    `json:"photo"`
	At        time.Time `json:"at"`
	Strike
	Doubt
}

// Confirmed is whether an opened part shows the failure.
type Confirmed string

// What an opened part shows.
const (
	ConfirmedYes     Confirmed = "yes"
	ConfirmedNo      Confirmed = "no"
	ConfirmedUnclear Confirmed = "unclear"
)

// Known reports whether c is one of the answers.
func (c Confirmed) Known() bool {
	return c == ConfirmedYes || c == ConfirmedNo || c == ConfirmedUnclear
}

// Words says what the opened part shows.
func (c Confirmed) Words() string {
	switch c {
	case ConfirmedYes:
		return "shows the failure"
	case ConfirmedNo:
		return "shows no failure"
	}
	return "is unclear"
}

// RepairDone is a repair, ordered or done.
type RepairDone struct {
	ID        string     `json:"id"`
	CaseID    string     `json:"case_id"`
	Action    string     `json:"action"`
	Parts     string     `json:"parts"`
	Seals     string     `json:"seals"`
	CostCents int64      `json:"cost_cents"`
	Minutes   int        `json:"minutes"`
	Torque    float64    `json:"torque_nm"`
	Lasting   bool       `json:"lasting"`
	Photo     string     `json:"photo,omitempty"` // hash, or empty
	DoneAt    *time.Time `json:"done_at"`         // nil while a part is waited for
	At        time.Time  `json:"at"`
	Strike
	Doubt
}

// Lasts says how long a repair is meant to last, or that it waits for its part.
func (r RepairDone) Lasts() string {
	switch {
	case r.DoneAt == nil:
		return "waits for its part"
	case r.Lasting:
		return "lasting"
	}
	return "temporary"
}

// TableName keeps the plain word for the table.
func (RepairDone) TableName() string { return "repairs" }

// Trial is the complaint tried again as the customer met it.
type Trial struct {
	ID      string    `json:"id"`
	CaseID  string    `json:"case_id"`
	How     string    `json:"how"`
	Seconds int       `json:"seconds"`
	Gone    bool      `json:"gone"`
	At      time.Time `json:"at"`
	Strike
	Doubt
}

// ScanDone is what a car's control units answered, as it was read. It is decoded from
// its text whenever it is shown.
type ScanDone struct {
	ID     string    `json:"id"`
	CaseID string    `json:"case_id"`
	Source string    `json:"source"` // pasted, a file's name, or an adapter's address
	Raw    string    `json:"raw"`
	At     time.Time `json:"at"`
	Strike
	Doubt
}

// TableName keeps the plain word for the table.
func (ScanDone) TableName() string { return "scans" }

// Note is something written down beside the measurements.
type Note struct {
	ID      string    `json:"id"`
	CaseID  string    `json:"case_id"`
	Kind    NoteKind  `json:"kind"`
	Subject string    `json:"subject"` // a code, for self-made ones
	Text    string    `json:"text"`
	Photo   string    `json:"photo"` // hash, or empty
	At      time.Time `json:"at"`
	Strike
	Doubt
}

// MapMark is what somebody marked on a part of the Map.
type MapMark struct {
	ID       string    `json:"id"`
	CaseID   string    `json:"case_id"`
	Kind     MarkKind  `json:"kind"`
	Part     string    `json:"part"`     // of the plumbing
	Odds     float64   `json:"odds"`     // of a suspect set by hand; 0 takes it back
	Size     ExitSize  `json:"size"`     // of an exit
	Expected bool      `json:"expected"` // an exit that proves nothing
	Text     string    `json:"text"`
	Photo    string    `json:"photo,omitempty"` // hash, or empty
	At       time.Time `json:"at"`
	Strike
	Doubt
}

// MarkKind is the kind of a mark on the Map.
type MarkKind string

// The kinds of mark.
const (
	MarkExit    MarkKind = "exit"
	MarkLooked  MarkKind = "looked"
	MarkSuspect MarkKind = "suspect"
	MarkSmelt   MarkKind = "smelt"
)

var markWords = map[MarkKind]string{MarkExit: "Exit seen", MarkLooked: "Looked, nothing found", MarkSuspect: "Suspected by hand", MarkSmelt: "Smells of fuel here"}

// Words says the kind as the screens do; empty for one that is not known.
func (k MarkKind) Words() string { return markWords[k] }

// ExitSize is how much comes out at an exit.
type ExitSize string

// ExitSizes lists the sizes, the weakest first.
func ExitSizes() []ExitSize { return []ExitSize{"wisp", "stream", "billow"} }

// Known reports whether s is one of the sizes.
func (s ExitSize) Known() bool { return slices.Contains(ExitSizes(), s) }

// Seen reports whether s says what eyes find at a place where nothing comes out.
func (s ExitSize) Seen() bool { return s == "damaged" || s == "missing" || s == "" }

// Correction is where one car's plumbing differs from its archetype.
type Correction struct {
	ID        string    `json:"id"`
	VehicleID string    `json:"vehicle_id"`
	Kind      string    `json:"kind"` // gone, runs or note
	Part      string    `json:"part"`
	From      string    `json:"from" gorm:"column:runs_from"` // of a line that runs otherwise: the parts it joins
	To        string    `json:"to" gorm:"column:runs_to"`
	Text      string    `json:"text"`
	Photo     string    `json:"photo"`
	At        time.Time `json:"at"`
	Strike
}

// AccessCard says how a part of one car is reached; the newest of a part counts.
type AccessCard struct {
	ID        string    `json:"id"`
	VehicleID string    `json:"vehicle_id"`
	Part      string    `json:"part"`
	Place     string    `json:"place"`
	First     string    `json:"first" gorm:"column:first_off"` // what comes off first
	Fasteners string    `json:"fasteners"`
	Locks     string    `json:"locks"`
	Breaks    string    `json:"breaks"`
	Minutes   int       `json:"minutes"`
	Photo     string    `json:"photo"`
	At        time.Time `json:"at"`
	Strike
}

// CarValue is a value of a car as a source states it, in the source's own unit. Sources that
// contradict each other all stay.
type CarValue struct {
	ID        string    `json:"id"`
	VehicleID string    `json:"vehicle_id"`
	What      string    `json:"what"`   // key of a quantity
	Part      string    `json:"part"`   // of the plumbing; empty for the whole car
	Said      string    `json:"said"`   // as written, with its unit
	Source    string    `json:"source"` // title, publisher and year
	At        time.Time `json:"at"`
	Strike
}

// Car is the id of the vehicle to which the value belongs.
func (v CarValue) Car() string { return v.VehicleID }

// Car is the id of the vehicle to which the correction belongs.
func (c Correction) Car() string { return c.VehicleID }

// Car is the id of the vehicle to which the card belongs.
func (c AccessCard) Car() string { return c.VehicleID }

// NoteKind is the kind of a note.
type NoteKind string

// The kinds of note.
const (
	Noted     NoteKind = "note"
	Unplugged NoteKind = "unplugged" // something was unplugged with the key on
	Cleared   NoteKind = "cleared"   // codes were cleared
	SelfMade  NoteKind = "self-made" // a code that the hunt itself made
	TakenOut  NoteKind = "taken-out" // what a test left on the car is off again
)

var noteWords = map[NoteKind]string{Noted: "Note", Unplugged: "Unplugged with the key on", Cleared: "Codes cleared", SelfMade: "Self-made code", TakenOut: "Taken out again"}

// Words says the kind as the screens do; empty for one that is not known.
func (k NoteKind) Words() string { return noteWords[k] }

// Photo is kept by the hash of its bytes, without location data.
type Photo struct {
	Hash   string `json:"hash" gorm:"primaryKey"`
	Mime   string `json:"mime"`
	Width  int    `json:"width"`
	Height int    `json:"height"`
	Data   []byte `json:"data"`
}

// Blob is JSON kept as it is.
type Blob string

// MarshalJSON writes the kept JSON, or null.
func (b Blob) MarshalJSON() ([]byte, error) {
	if b == "" {
		return []byte("null"), nil
	}
	return []byte(b), nil
}

// UnmarshalJSON keeps the JSON in canonical form: a Summary, or the drive of a test of fuel trims.
func (b *Blob) UnmarshalJSON(data []byte) error {
	if string(data) == "null" {
		*b = ""
		return nil
	}
	var drive struct{ Engine, Points *json.RawMessage }
	if err := json.Unmarshal(data, &drive); err != nil {
		return err
	}
	if drive.Engine != nil && drive.Points != nil {
		return canonical(b, data, &trim.Drive{})
	}
	return canonical(b, data, &Summary{})
}

// canonical keeps JSON as the type it is read into writes it.
func canonical(b *Blob, data []byte, as any) error {
	if err := json.Unmarshal(data, as); err != nil {
		return err
	}
	out, err := json.Marshal(as)
	*b = Blob(out)
	return err
}

// Summary is a test's result as kept and shown, in SI. HoldMore is nil when the
// verdict is firm or no hold would settle it.
type Summary struct {
	Rules    string         `json:"rules"`
	D        float64        `json:"d_m"`
	Low      float64        `json:"low_m"`
	High     float64        `json:"high_m"`
	Limit    float64        `json:"limit_m"`
	Nominal  bool           `json:"limit_nominal"`
	Verdict  decay.Verdict  `json:"verdict"`
	HoldMore *float64       `json:"hold_more_s"`
	Drift    float64        `json:"drift_pa_per_s"`
	Settle   float64        `json:"settle_pa"`
	Tau      float64        `json:"tau_s"`
	Volume   float64        `json:"volume_m3"`
	Residual float64        `json:"residual_pa"`
	Tight    bool           `json:"tight"`
	Pressure *decay.Size    `json:"pressure"`
	Vacuum   *decay.Size    `json:"vacuum"`
	Differ   bool           `json:"differ"`
	Budget   []decay.Source `json:"budget"`
	Warnings []string       `json:"warnings"`
	Sharper  string         `json:"sharper"`
	Legs     []SummaryLeg   `json:"legs"`
}

// SummaryLeg is what is drawn of a leg.
type SummaryLeg struct {
	Run      string    `json:"run"`
	Start    float64   `json:"start_s"`
	End      float64   `json:"end_s"`
	CutStart bool      `json:"cut_start"`
	CutEnd   bool      `json:"cut_end"`
	Spikes   int       `json:"spikes"`
	Time     []float64 `json:"t_s"`
	Measured []float64 `json:"measured_pa"`
	Fitted   []float64 `json:"fitted_pa"`
	AtLimit  []float64 `json:"at_limit_pa"`
}

// Summary reads a test's result; ok is false when there is none.
func (t Test) Summary() (s Summary, ok bool) {
	if t.Result == "" || json.Unmarshal([]byte(t.Result), &s) != nil {
		return Summary{}, false
	}
	return s, true
}

// Drive is the drive of a test of fuel trims; false while there is none that can be judged.
func (t Test) Drive() (d trim.Drive, ok bool) {
	if t.Result == "" || json.Unmarshal([]byte(t.Result), &d) != nil || d.Check() != nil {
		return trim.Drive{}, false
	}
	return d, true
}
