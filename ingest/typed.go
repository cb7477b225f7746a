package ingest

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"wexter/core/bench"
	"wexter/core/knowledge"
)

// mostRepeats is how often one channel of a test may be read.
const mostRepeats = 24

// openWords are what a meter or a person says of a circuit that is open, or of something
// that did not happen at all.
var openWords = regexp.MustCompile(`(?i)^(ol|o\.l\.?|0l|open|open circuit|overload|over range|infinite|∞|inf\.?|no change|none|never)$`)

// countWords is a count of cycles: "4", "4 of 5", "4/5".
var countWords = regexp.MustCompile(`^(\d{1,2})(?:\s*(?:of|/|out of)\s*(\d{1,2}))?$`)

// ReadChannel reads what was typed or tapped for one channel of a test, one text for each
// repetition; a text may itself hold several, with semicolons between. False when nothing was
// typed. The error says in a sentence what cannot be read.
func ReadChannel(c bench.Channel, e knowledge.Reading, typed []string) (bench.Reading, bool, error) {
	if c.Kind == bench.Text {
		return textOf(e, typed)
	}
	var texts []string
	for _, t := range typed {
		for _, x := range strings.FieldsFunc(t, func(r rune) bool { return r == ';' || r == '\n' }) {
			if x = strings.TrimSpace(x); x != "" {
				texts = append(texts, x)
			}
		}
	}
	if len(texts) == 0 {
		return bench.Reading{}, false, nil
	}
	if len(texts) > mostRepeats {
		return bench.Reading{}, false, fmt.Errorf("%q: %d readings; at most %d", e.Name, len(texts), mostRepeats)
	}
	read := map[bench.Kind]func(bench.Channel, knowledge.Reading, []string) (bench.Reading, error){
		bench.Number: numbersOf, bench.Count: numbersOf, bench.Choice: wordsOf, bench.Cycles: cyclesOf, bench.List: listOf}[c.Kind]
	if read == nil {
		return bench.Reading{}, false, fmt.Errorf("%q is not typed", e.Name)
	}
	x, err := read(c, e, texts)
	if err != nil {
		return bench.Reading{}, false, fmt.Errorf("%q: %w", e.Name, err)
	}
	return x, true, nil
}

// mostText is how long a line is that somebody writes, in letters.
const mostText = 120

// textOf is a line that somebody wrote, as it is.
func textOf(e knowledge.Reading, typed []string) (bench.Reading, bool, error) {
	t := strings.Join(strings.Fields(strings.Join(typed, " ")), " ")
	switch {
	case t == "":
		return bench.Reading{}, false, nil
	case !utf8.ValidString(t) || utf8.RuneCountInString(t) > mostText || strings.ContainsFunc(t, func(r rune) bool { return !unicode.IsPrint(r) }):
		return bench.Reading{}, false, fmt.Errorf("%q: one line of at most %d letters", e.Name, mostText)
	}
	return bench.Said(t), true, nil
}

func numbersOf(c bench.Channel, e knowledge.Reading, texts []string) (x bench.Reading, err error) {
	for _, t := range texts {
		v, err := numberOf(c, t)
		if err != nil {
			return x, err
		}
		x.Numbers = append(x.Numbers, v)
	}
	return x, nil
}

// numberOf reads one figure. A meter's overload, and resistances above its range, are an open
// circuit.
func numberOf(c bench.Channel, t string) (float64, error) {
	if openWords.MatchString(t) {
		if !c.Open {
			return 0, fmt.Errorf("%q is no figure", t)
		}
		return math.Inf(1), nil
	}
	t, more := strings.CutPrefix(t, ">")
	t = strings.TrimSpace(t)
	unit, factor := c.Unit, 1.0
	if unit == "ohm" {
		t, factor = ohmsOf(t)
		unit = ""
	}
	v, err := ReadFigure(t, unit)
	if err != nil {
		return 0, err
	}
	v *= factor
	if more {
		if !c.Open || v < 1e5 {
			return 0, fmt.Errorf("more than %g %s is no figure; give what was read, or OL", v, c.Unit)
		}
		return math.Inf(1), nil
	}
	return v, nil
}

// ohmsOf takes the unit off a resistance.
func ohmsOf(t string) (string, float64) {
	low := strings.ToLower(t)
	for _, u := range []struct {
		suffix string
		factor float64
	}{{"mω", 1e6}, {"mohm", 1e6}, {"megohm", 1e6}, {"kω", 1e3}, {"kohm", 1e3}, {"k", 1e3}, {"ohms", 1}, {"ohm", 1}, {"ω", 1}} {
		if s, ok := strings.CutSuffix(low, u.suffix); ok {
			return strings.TrimSpace(s), u.factor
		}
	}
	return t, 1
}

func wordsOf(c bench.Channel, e knowledge.Reading, texts []string) (x bench.Reading, err error) {
	for _, t := range texts {
		k := t
		for _, w := range e.Words {
			if strings.EqualFold(t, w.Name) {
				k = w.Key
			}
		}
		if !slices.Contains(c.Words, k) {
			return x, fmt.Errorf("%q is none of %s", t, strings.Join(c.Words, ", "))
		}
		x.Words = append(x.Words, k)
	}
	return x, nil
}

// cyclesOf reads yes or no for each cycle, or how many of them were a yes.
func cyclesOf(c bench.Channel, e knowledge.Reading, texts []string) (x bench.Reading, err error) {
	if len(texts) == 1 {
		if m := countWords.FindStringSubmatch(texts[0]); m != nil {
			yes, _ := strconv.Atoi(m[1])
			all := max(c.Times, 1)
			if m[2] != "" {
				all, _ = strconv.Atoi(m[2])
			}
			if yes > all || all == 0 || all > mostRepeats {
				return x, fmt.Errorf("%d of %d cycles cannot be", yes, all)
			}
			return bench.CountOf(yes, all), nil
		}
	}
	for _, t := range texts {
		switch w := strings.ToLower(t); w {
		case bench.Yes, bench.No:
			x.Words = append(x.Words, w)
		default:
			return x, fmt.Errorf("%q is neither yes nor no", t)
		}
	}
	return x, nil
}

// listOf reads words with commas between; "none" is an empty list.
func listOf(_ bench.Channel, _ knowledge.Reading, texts []string) (x bench.Reading, err error) {
	for _, t := range texts {
		for _, w := range strings.Split(t, ",") {
			if w = strings.TrimSpace(w); w != "" && !strings.EqualFold(w, "none") {
				x.Words = append(x.Words, w)
			}
		}
	}
	return x, nil
}

// WriteChannel writes a reading as it would be typed: ReadChannel reads it back.
func WriteChannel(r bench.Reading) (out []string) {
	for _, v := range r.Numbers {
		if math.IsInf(v, 1) {
			out = append(out, "OL")
			continue
		}
		out = append(out, strconv.FormatFloat(v, 'g', 5, 64))
	}
	return append(out, r.Words...)
}
