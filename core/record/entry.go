package record

// EntryKind is the kind of an entry that can be struck out: what the Strip of a case
// and the Map of a car hold.
type EntryKind string

// The kinds of entry. The last three belong to the car, the others to one case.
const (
	CodeEntry        EntryKind = "code"
	FindingEntry     EntryKind = "finding"
	RepairEntry      EntryKind = "repair"
	TrialEntry       EntryKind = "trial"
	TestEntry        EntryKind = "test"
	RunEntry         EntryKind = "run"
	ScanEntry        EntryKind = "scan"
	NoteEntry        EntryKind = "note"
	MarkEntry        EntryKind = "mark"
	ResultEntry      EntryKind = "result"
	ObservationEntry EntryKind = "observation"
	PostMortemEntry  EntryKind = "post-mortem"
	CorrectionEntry  EntryKind = "correction"
	CardEntry        EntryKind = "card"
	ValueEntry       EntryKind = "value"
)

// OfCar reports whether an entry of the kind belongs to the car and not to one case.
func (k EntryKind) OfCar() bool { return k == CorrectionEntry || k == CardEntry || k == ValueEntry }

// Entry is anything that can be struck out.
type Entry interface{ Struck() bool }

// CarEntry is an entry that belongs to a car.
type CarEntry interface {
	Entry
	Car() string // id of the vehicle
}
