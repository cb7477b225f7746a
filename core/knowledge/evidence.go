package knowledge

import (
	"math"
	"slices"

	"wexter/core/plumbing"
)

// Cost is a class of parts by what they cost.
type Cost struct {
	Key, Name string
	Price     float64 // typical, in the shop's money
}

// Share is how much of the work a family of faults is, before anything is known.
type Share struct {
	Key   string
	Share float64
}

// Sign is something seen, heard or told that no instrument measures. Its odds are set by
// hand, with the reason.
type Sign struct {
	Key, Name    string
	When         string             // complaint (as the customer met it) or bay (as it stands)
	Base         float64            // odds of it when none of the faults below is there
	Shows        map[string]float64 // odds of it when the fault is there
	Intermittent bool               // speaks for a trouble that is not there now
	Why          string
}

// CodeGroup is codes that say the same thing. Groups without Shows are asked of the plant.
type CodeGroup struct {
	Key, Name string
	Codes     []string
	Monitor   string // readiness that must be complete before their absence means anything
	Base      float64
	Shows     map[string]float64
	Why       string
}

// LeakSize is the codes of one size of leak.
type LeakSize struct {
	Key   string
	Codes []string
}

// Sign finds one by key.
func (b Book) Sign(key string) (Sign, bool) {
	i := slices.IndexFunc(b.Signs, func(s Sign) bool { return s.Key == key })
	if i < 0 {
		return Sign{}, false
	}
	return b.Signs[i], true
}

// CostOf finds a class of cost by key.
func (b Book) CostOf(key string) Cost {
	for _, c := range b.Costs {
		if c.Key == key {
			return c
		}
	}
	return Cost{Key: key}
}

// Option finds what a school can be set to; the first option is the usual one.
func (s School) Option(key string) Option {
	for _, o := range s.Options {
		if o.Key == key {
			return o
		}
	}
	if len(s.Options) == 0 {
		return Option{}
	}
	return s.Options[0]
}

// checkEvidence returns the first sign, group of codes or share that is wrong.
func (b Book) checkEvidence() error {
	faults := map[string]bool{}
	for _, f := range b.Faults {
		faults[f.Key] = true
	}
	shows := func(what, key string, base float64, m map[string]float64, why string) error {
		if math.IsNaN(base) || base < 0 || base >= 1 || len(m) > 0 && (base == 0 || why == "") {
			return plumbing.Entry(what, key, "odds set by hand need a base above 0 and below 1, and a reason (why)")
		}
		for f, p := range m {
			if !faults[f] {
				return plumbing.Entry(what, key, "there is no fault %q", f)
			}
			if !(p > 0 && p < 1) {
				return plumbing.Entry(what, key, "with %q its odds are %g; they lie between 0 and 1", f, p)
			}
		}
		return nil
	}
	seen := map[string]bool{}
	for _, s := range b.Signs {
		if !keyForm.MatchString(s.Key) || seen[s.Key] || s.Name == "" || s.When != "complaint" && s.When != "bay" || len(s.Shows) == 0 {
			return plumbing.Entry("sign", s.Key, "a key of its own, a name, when it is met (complaint or bay) and what shows it are needed")
		}
		if err := shows("sign", s.Key, s.Base, s.Shows, s.Why); err != nil {
			return err
		}
		seen[s.Key] = true
	}
	codes := map[string]bool{}
	own := func(what, key string, list []string) error {
		for _, c := range list {
			if !codeForm.MatchString(c) || codes[c] {
				return plumbing.Entry(what, key, "code %q: a letter and four digits, in one group only", c)
			}
			codes[c] = true
		}
		if len(list) == 0 || !keyForm.MatchString(key) {
			return plumbing.Entry(what, key, "a key and codes are needed")
		}
		return nil
	}
	for _, g := range b.Groups {
		if err := own("group", g.Key, g.Codes); err != nil {
			return err
		}
		if err := shows("group", g.Key, g.Base, g.Shows, g.Why); err != nil {
			return err
		}
	}
	for _, s := range b.Sizes {
		if err := own("size", s.Key, s.Codes); err != nil {
			return err
		}
	}
	for _, o := range b.Odds {
		if !slices.Contains(faultFamilies, o.Key) || !(o.Share > 0 && o.Share <= 1) {
			return plumbing.Entry("odds", o.Key, "a family of faults and its share of the work, above 0 and at most 1")
		}
	}
	return nil
}
