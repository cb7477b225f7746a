// Package evidence reads a case's folder: what was told, scanned, measured, found and
// repaired, as one person after another wrote it down. It says what of that counts for
// the reasoning ([History]), what proves a repair ([Folder.Proof]), how each code came
// and went ([Folder.CodeHistory]), which parts a hold has proven tight ([Car.Tight]) and
// what singles a part out ([Car.RestsOn]).
//
// It is pure: no database, no clock, no context. A [Car] is a vehicle's plumbing beside
// the Book, with everything looked up once that a folder's entries ask for again and
// again.
//
// What was struck out counts for nothing. What is doubted is kept and shown, and counts
// for nothing either until the doubt is taken back. A repair that was done ends an epoch:
// evidence is exchangeable within an epoch, and the repair has a transition of its own.
package evidence

// entry is what can be struck out and doubted.
type entry interface {
	Struck() bool
	Doubted() bool
}

// stands reports whether an entry counts.
func stands(x entry) bool { return !x.Struck() && !x.Doubted() }
