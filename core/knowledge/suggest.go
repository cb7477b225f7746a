package knowledge

import (
	"cmp"
	"slices"
	"strings"
	"unicode"

	"wexter/core/plumbing"
)

// SuggestionKind is what typed words suggest.
type SuggestionKind string

// The kinds of suggestion.
const (
	SuggestsSign    SuggestionKind = "sign"
	SuggestsContext SuggestionKind = "context"
	SuggestsRenewed SuggestionKind = "renewed" // a part that was replaced lately
)

// Suggestion is an entry that a person may have meant, and the words it was read from. It is
// offered and never taken by itself.
type Suggestion struct {
	Kind SuggestionKind
	Key  string
	Said string
}

// mostSuggested is how many words of a text are looked at: a complaint, not a book.
const mostSuggested = 400

// SuggestSigns reads the words of a complaint: the signs and circumstances they may mean, in
// the order of the Book. A phrase of the Book is met when all its words, or words that the
// trade uses for them, stand in one clause; each may be longer than in the Book ("clicks",
// "clicking"). A clause that denies it ("no smell") suggests nothing.
func (b Book) SuggestSigns(text string) (out []Suggestion) {
	clauses := split(text)
	for _, s := range b.Signs {
		if said := b.met(s.Said, clauses); said != "" {
			out = append(out, Suggestion{SuggestsSign, s.Key, said})
		}
	}
	for _, w := range b.Contexts {
		if said := b.met(w.Said, clauses); said != "" {
			out = append(out, Suggestion{SuggestsContext, w.Key, said})
		}
	}
	return out
}

// SuggestRenewed reads which parts of a car were replaced lately: a clause that names a part
// and says that something is new.
func (b Book) SuggestRenewed(text string, parts []plumbing.Part) (out []Suggestion) {
	for _, c := range split(text) {
		if !slices.ContainsFunc(c, func(w string) bool {
			return slices.ContainsFunc([]string{"new", "replace", "renew", "change", "swap"}, func(v string) bool { return w == v || v != "new" && strings.HasPrefix(w, v) })
		}) {
			continue
		}
		for _, p := range parts {
			words := strings.FieldsFunc(strings.ToLower(p.Name), notWord)
			if len(words) == 0 || slices.ContainsFunc(out, func(x Suggestion) bool { return x.Key == p.Key }) {
				continue
			}
			if b.holds(c, strings.Join(words, " ")) {
				out = append(out, Suggestion{SuggestsRenewed, p.Key, p.Name})
			}
		}
	}
	return out
}

func notWord(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }

// split cuts a text into clauses of lower-case words.
func split(text string) (clauses [][]string) {
	n := 0
	for _, c := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return strings.ContainsRune(".,;:!?\n()–—", r) }) {
		words := strings.FieldsFunc(c, func(r rune) bool { return notWord(r) && r != '\'' })
		if n += len(words); n > mostSuggested {
			return clauses
		}
		if len(words) > 0 {
			clauses = append(clauses, words)
		}
	}
	return clauses
}

// met is the first of the phrases that a clause holds; empty for none.
func (b Book) met(phrases []string, clauses [][]string) string {
	for _, p := range phrases {
		for _, c := range clauses {
			if b.holds(c, p) {
				return p
			}
		}
	}
	return ""
}

// holds reports whether a clause holds every word of a phrase, each by a word of its own, and
// does not deny it.
func (b Book) holds(clause []string, phrase string) bool {
	used := make([]bool, len(clause))
	words := strings.FieldsFunc(strings.ToLower(phrase), notWord)
	saysNo := slices.ContainsFunc(words, denies) // "no power" is what it says
	for _, w := range words {
		at := -1
		for i, t := range clause {
			if used[i] || !begins(t, w) && (at >= 0 || !b.sameWord(t, w)) {
				continue
			}
			if at = i; begins(t, w) { // the very word goes before another that means the same
				break
			}
		}
		if at < 0 || !saysNo && denied(clause[:at]) {
			return false
		}
		used[at] = true
	}
	return true
}

// begins reports whether a word is another with or without an ending: clicks, clicking, click.
func begins(word, stem string) bool {
	stem = cmp.Or(strings.TrimSuffix(stem, "s"), stem)
	return word == stem || word == stem+"s" || len([]rune(stem)) > 3 && strings.HasPrefix(word, stem)
}

func (b Book) sameWord(t, w string) bool {
	return slices.ContainsFunc(b.Synonyms, func(set []string) bool {
		return slices.Contains(set, w) && slices.ContainsFunc(set, func(o string) bool { return begins(t, o) })
	})
}

// denied reports whether one of the last two words before a match says no.
func denied(before []string) bool {
	return slices.ContainsFunc(before[max(0, len(before)-2):], denies)
}

func denies(w string) bool {
	return slices.Contains([]string{"no", "not", "never", "without", "isn't", "doesn't"}, w)
}

// checkSaid refuses words of customers that could never be met.
func checkSaid(kind, key string, said []string) error {
	for _, p := range said {
		if n := len(strings.FieldsFunc(p, notWord)); n == 0 || n > 6 {
			return plumbing.Entry(kind, key, "what customers say is phrases of one to six words, not %q", p)
		}
	}
	return nil
}
