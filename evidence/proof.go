package evidence

import (
	"strings"
	"time"

	"wexter/core/record"
)

// Proof is what stands for a repair.
type Proof struct {
	Before, After *TestFolder // the test that failed and its passing or failing repeat
	Repaired      bool
	Repeat        bool // the repeat passed
	Trial         *record.Trial
	Complaint     bool // the complaint is gone
}

// Whole reports whether the repair counts as proven.
func (p Proof) Whole() bool { return p.Repaired && p.Repeat && p.Complaint }

// Missing says what is missing, in sentences.
func (p Proof) Missing() string {
	var m []string
	if !p.Repaired {
		m = append(m, "No repair is written down as done.")
	}
	switch {
	case p.After == nil:
		m = append(m, "The test has not been repeated.")
	case p.After.Doubted():
		m = append(m, "The repeat is doubted; make it again, or take the doubt back.")
	case !p.Repeat:
		m = append(m, "The repeat does not pass: "+p.After.Outcome.Words()+".")
	}
	switch {
	case p.Trial == nil:
		m = append(m, "The complaint has not been tried again.")
	case p.Trial.Doubted():
		m = append(m, "The trial of the complaint is doubted.")
	case !p.Complaint:
		m = append(m, "The complaint came back when it was tried.")
	}
	return strings.Join(m, " ")
}

// Proof gathers what stands for the repair: the newest repeat made after the last
// repair, and the newest trial made after it.
func (f Folder) Proof() (p Proof) {
	var repaired time.Time
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil {
			p.Repaired = true
			if r.DoneAt.After(repaired) {
				repaired = *r.DoneAt
			}
		}
	}
	for i := range f.Tests {
		t := &f.Tests[i]
		if t.StruckAt != nil {
			continue
		}
		if t.RepeatOf != "" {
			if p.Repaired && !t.At.Before(repaired) {
				p.After = t
				p.Repeat = t.Outcome == record.WithinLimit && !t.Doubted()
			}
		} else if t.Outcome != record.NoOutcome && (t.Outcome != record.WithinLimit || p.Before == nil || p.Before.Outcome == record.WithinLimit) {
			p.Before = t // the test that failed; a section that held says nothing of the repair
		}
	}
	if p.After != nil {
		if b, ok := f.Test(p.After.RepeatOf); ok {
			p.Before = &b
		}
	}
	for i := range f.Trials {
		t := &f.Trials[i]
		if t.StruckAt == nil && p.Repaired && !t.At.Before(repaired) {
			p.Trial, p.Complaint = t, t.Gone && !t.Doubted()
		}
	}
	return p
}
