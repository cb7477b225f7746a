package knowledge

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
)

// Hit is an entry of the Book that a search found.
type Hit struct {
	Kind string // archetype, code, fault, test, craft, school or caution
	Key  string
	Name string
	Text string
	Also string // the other word it was found by; empty for the word itself
	rank int
}

// Search finds the entries that hold every word of a query, or a word the trade uses
// for it; entries that hold the very words come first.
func (b Book) Search(query string) []Hit {
	words := strings.FieldsFunc(strings.ToLower(query), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '-' && r != '.' })
	if len(words) == 0 || len(words) > 12 {
		return nil
	}
	var hits []Hit
	add := func(h Hit, more ...string) {
		name := strings.ToLower(h.Name + " " + h.Key)
		all := name + " " + strings.ToLower(h.Text+" "+strings.Join(more, " "))
		for _, w := range words {
			switch {
			case strings.Contains(name, w):
			case strings.Contains(all, w):
				h.rank++
			default:
				other := b.other(w, all)
				if other == "" {
					return
				}
				h.rank += 10
				h.Also = other
			}
		}
		hits = append(hits, h)
	}
	for _, c := range b.Codes {
		add(Hit{Kind: "code", Key: c.Code, Name: c.Code, Text: c.Says}, c.Size, c.Read)
	}
	for _, f := range b.Faults {
		add(Hit{Kind: "fault", Key: f.Key, Name: f.Name, Text: f.Place}, f.Family, f.Order, f.Seals)
	}
	for _, t := range b.Tests {
		more := []string{t.Access, t.Splits, strings.Join(t.Steps, " "), strings.Join(t.Traps, " ")}
		for _, k := range t.Kit {
			more = append(more, b.KitNamed(k).Name)
		}
		for _, s := range t.Setup {
			more = append(more, s.Do, s.Why)
		}
		add(Hit{Kind: "test", Key: t.Key, Name: t.Name, Text: t.Purpose}, more...)
	}
	for _, a := range b.Archetypes {
		more := []string{a.Rest, a.Note}
		for _, s := range a.Seal {
			more = append(more, s.Do, s.Why)
		}
		add(Hit{Kind: "archetype", Key: a.Key, Name: a.Name, Text: a.Check}, more...)
	}
	for _, a := range b.Plumbing.Archetypes {
		if a.Family != "vapour" {
			add(Hit{Kind: "archetype", Key: a.Key, Name: a.Name, Text: a.Rest}, a.Family, a.Note)
		}
	}
	for _, c := range b.Craft {
		add(Hit{Kind: "craft", Key: c.Key, Name: c.Name, Text: c.Text})
	}
	for _, s := range b.Schools {
		more := []string{}
		for _, o := range s.Options {
			more = append(more, o.Name)
		}
		add(Hit{Kind: "school", Key: s.Key, Name: s.Name, Text: s.Text}, more...)
	}
	for _, c := range b.Cautions {
		add(Hit{Kind: "caution", Key: c.Key, Name: c.Key, Text: c.Text})
	}
	slices.SortStableFunc(hits, func(x, y Hit) int { return cmp.Compare(x.rank, y.rank) })
	return hits
}

// other returns a word that the trade uses for w and that the text holds.
func (b Book) other(w, text string) string {
	for _, set := range b.Synonyms {
		if !slices.Contains(set, w) {
			continue
		}
		for _, o := range set {
			if o != w && strings.Contains(text, o) {
				return o
			}
		}
	}
	return ""
}
