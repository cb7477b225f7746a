// Package knowledge is the Book: how EVAP systems check themselves, what codes
// mean in our own words, the parts that leak, how a system is sealed for a hold,
// and the cautions that go with it. The entries are data, written in a file that a
// shop's expert may edit; this package says what they must hold and finds what is
// wrong with them by name.
package knowledge

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wexter/core/plumbing"
)

// Book is everything that is looked up.
type Book struct {
	Version    string      // changes whenever anything in the Book does
	Archetypes []Archetype // how EVAP systems check themselves
	Plumbing   plumbing.Library
	Codes      []Code
	Faults     []Fault
	Tests      []Test
	Kit        []Kit
	Contexts   []Word
	Costs      []Cost
	Odds       []Share     // of the families
	Signs      []Sign      // odds set by hand
	Groups     []CodeGroup // of codes
	Frames     []Frame     // what freeze frames say
	Sizes      []LeakSize  // smallest first
	Readiness  Ready       // what it says that the EVAP monitor has not run
	Misreads   []Misread   // by test
	Showings   []Showing   // what practice knows of tests better than the plant
	Firsts     []First     // what a hand does first
	Practice   float64     // share of control units that go by practice, not by the plant
	Params     []Param
	Craft      []Craft
	Schools    []School
	Cautions   []Caution
	Synonyms   [][]string // words that the trade uses one for the other
	Warnings   []string   `yaml:"-"` // what a shop's own pages leave out
}

// Archetype is a way in which an EVAP system checks itself. Its name and rest states
// are those of the plumbing of the same key.
type Archetype struct {
	Key      string
	Name     string            `yaml:"-"`
	Rest     string            `yaml:"-"`
	Check    string            // how the leak check works
	Seal     []Step            // how to seal it for a hold
	Entry    string            // part at which gauge and supply are joined for a hold
	Set      map[string]string // what sealing it does to parts of the plumbing
	MaxPa    float64           // permitted pressure, Pa gauge
	MaxVacPa float64           // permitted vacuum, Pa below the barometer
	Note     string            // what is particular
	Cautions []string          // keys
}

// Step is one line of a set-up.
type Step struct {
	Do  string
	Why string
}

// Code is what a generic trouble code says, in our own words.
type Code struct {
	Code string
	Says string
	Size string // leak size it stands for, or empty
	Read string // how to read it
	// Of a maker's own code: the group that it weighs like, and where its meaning is from.
	Group, Source string
}

// Caution is a danger, said where the hand needs it.
type Caution struct {
	Key  string
	Text string
}

var (
	keyForm  = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)
	codeForm = regexp.MustCompile(`^[PCBU][0-3][0-9A-F]{3}$`)
)

// Check returns the first thing that is wrong, with the entry's name.
func (b Book) Check() error {
	cautions := map[string]bool{}
	for _, c := range b.Cautions {
		if !keyForm.MatchString(c.Key) || cautions[c.Key] || c.Text == "" {
			return plumbing.Entry("caution", c.Key, "a key of its own and a text are needed")
		}
		cautions[c.Key] = true
	}
	seen := map[string]bool{}
	for _, a := range b.Archetypes {
		switch {
		case !keyForm.MatchString(a.Key) || seen[a.Key]:
			return plumbing.Entry("archetype", a.Key, "the key must be its own, in lower case with dashes")
		case a.Check == "":
			return plumbing.Entry("archetype", a.Key, "how it checks itself is needed")
		case len(a.Seal) == 0:
			return plumbing.Entry("archetype", a.Key, "say how it is sealed for a hold")
		case !(a.MaxPa > 0) || a.MaxPa > 6895:
			return plumbing.Entry("archetype", a.Key, "the permitted pressure is %g Pa; it must lie above 0 and at most at 1 psi (6895 Pa)", a.MaxPa)
		case !(a.MaxVacPa > 0) || a.MaxVacPa > 4982:
			return plumbing.Entry("archetype", a.Key, "the permitted vacuum is %g Pa; it must lie above 0 and at most at 20 inH2O (4982 Pa)", a.MaxVacPa)
		case len(a.Cautions) == 0:
			return plumbing.Entry("archetype", a.Key, "a procedure without its caution")
		}
		for _, c := range a.Cautions {
			if !cautions[c] {
				return plumbing.Entry("archetype", a.Key, "there is no caution %q", c)
			}
		}
		for _, s := range a.Seal {
			if s.Do == "" {
				return plumbing.Entry("archetype", a.Key, "a step without words")
			}
		}
		seen[a.Key] = true
	}
	for _, c := range b.Codes {
		if !codeForm.MatchString(c.Code) || seen[c.Code] {
			return plumbing.Entry("code", c.Code, "a letter of P C B U and four digits, once")
		}
		if c.Says == "" {
			return plumbing.Entry("code", c.Code, "no words")
		}
		seen[c.Code] = true
	}
	cars, err := b.checkPlumbing()
	if err != nil {
		return err
	}
	if err := b.checkTests(cautions); err != nil {
		return err
	}
	if err := b.checkFaults(cars); err != nil {
		return err
	}
	if err := b.checkEvidence(); err != nil {
		return err
	}
	for i, set := range b.Synonyms {
		if len(set) < 2 {
			return plumbing.Entry("synonyms", strconv.Itoa(i+1), "a set has at least two words")
		}
		for _, w := range set {
			if w == "" || w != strings.ToLower(strings.TrimSpace(w)) {
				return plumbing.Entry("synonyms", strconv.Itoa(i+1), "%q: words are written in lower case", w)
			}
		}
	}
	return nil
}

// Archetype finds one by key.
func (b Book) Archetype(key string) (Archetype, bool) {
	for _, a := range b.Archetypes {
		if a.Key == key {
			return a, true
		}
	}
	return Archetype{}, false
}

// Caution finds a text by key.
func (b Book) Caution(key string) string {
	for _, c := range b.Cautions {
		if c.Key == key {
			return c.Text
		}
	}
	return ""
}

// FoldCode writes a typed code in its one form: "p 0455" is P0455.
func FoldCode(s string) (string, error) {
	s = strings.ToUpper(strings.NewReplacer(" ", "", "-", "", "\t", "").Replace(s))
	if len(s) == 4 && strings.Trim(s, "0123456789ABCDEF") == "" {
		s = "P" + s
	}
	if !codeForm.MatchString(s) {
		return "", fmt.Errorf("%q is not a trouble code; write P, B, C or U, then 0 to 3, then three more, for example P0456 or P053A", s)
	}
	return s, nil
}

// MakersOwn reports whether the maker gives a code its meaning, and no standard.
// Numbering: SAE J2012 / ISO 15031-6 (from memory).
func MakersOwn(code string) bool {
	return codeForm.MatchString(code) && (code[1] == '1' || code[0] != 'P' && code[1] != '0' || code[0] == 'P' && code[1] == '3' && code[2] < '4')
}

// Given is the Book with makers' codes that a shop has looked up.
func (b Book) Given(codes []Code) Book {
	if len(codes) > 0 {
		b.Codes = slices.Concat(b.Codes, codes)
		b.Version = fmt.Sprint(b.Version, codes)
	}
	return b
}

// Explain says what a code means. A maker's own code is never guessed.
// Numbering: SAE J2012 / ISO 15031-6 (from memory).
func (b Book) Explain(code string) Code {
	for _, c := range b.Codes {
		if c.Code == code {
			return c
		}
	}
	if MakersOwn(code) {
		return Code{Code: code, Says: "maker's code", Read: "The maker gives this number its meaning; look it up in the maker's own list."}
	}
	return Code{Code: code, Says: "not in the Book", Read: "A generic code outside vapour, air and EGR."}
}
