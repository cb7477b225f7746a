package evidence

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/record"
)

// Words that figures keep for what is no figure.
const (
	openCircuit = "OL"
	nothing     = "none"
)

// Figures keeps readings as a result has them, one figure for each reading of the Book; the
// places of the channel that names the test's outcome are returned apart.
func Figures(t knowledge.Test, r bench.Readings) (out record.Figures, exits record.ExitsSeen) {
	b := bench.For(t)
	out, exits = record.Figures{}, record.ExitsSeen{}
	for _, e := range t.Reads {
		f := record.Figure{Key: e.Key, Name: e.Name, Unit: e.Unit}
		c, _ := b.Channel(e.Key)
		if c.Kind == bench.Drive {
			continue // it is kept with the bench that read it
		}
		x, ok := r[e.Key]
		switch {
		case !ok:
		case c.Kind == bench.Places && c.Key == b.PlaceChannel():
			for _, p := range x.Places {
				exits = append(exits, record.ExitSeen{Part: p.Part, Size: record.ExitSize(p.Size), Expected: p.Expected})
			}
			if len(x.Places) == 0 {
				f.Words = []string{nothing}
			}
		case c.Kind == bench.Places:
			for _, p := range x.Places {
				f.Words = append(f.Words, p.Part)
			}
		case len(x.Numbers) > 0:
			f.Value, f.Values, f.Words = kept(x.Numbers)
		default:
			f.Words = slices.Clone(x.Words)
		}
		if ok && f.Value == nil && len(f.Words) == 0 && c.Key != b.PlaceChannel() {
			f.Words = []string{nothing}
		}
		out = append(out, f)
	}
	return out, exits
}

// RunFigures keeps what a stretch of a test gave, places and all: a run has nothing but figures.
func RunFigures(t knowledge.Test, r bench.Readings) record.Figures {
	out, exits := Figures(t, r)
	for i := range out {
		if out[i].Key != bench.For(t).PlaceChannel() || len(exits) == 0 {
			continue
		}
		for _, x := range exits {
			w := x.Part + ":" + string(x.Size)
			if x.Expected {
				w += ":" + expectedOnly
			}
			out[i].Words = append(out[i].Words, w)
		}
	}
	return slices.DeleteFunc(out, func(f record.Figure) bool { return f.Value == nil && len(f.Words) == 0 })
}

// kept are figures as JSON can hold them: an open circuit among them makes all of them words.
func kept(x []float64) (mean *float64, each []float64, words []string) {
	if slices.ContainsFunc(x, func(v float64) bool { return math.IsInf(v, 0) }) {
		for _, v := range x {
			if math.IsInf(v, 0) {
				words = append(words, openCircuit)
				continue
			}
			words = append(words, number(v))
		}
		return nil, nil, words
	}
	sum := 0.0
	for _, v := range x {
		sum += v
	}
	sum /= float64(len(x))
	if len(x) > 1 {
		each = slices.Clone(x)
	}
	return &sum, each, nil
}

// Readings are what a result holds, by channel. Results of before are read too: their
// figures go by name, and cycles were counted.
func Readings(t knowledge.Test, x record.Result) bench.Readings {
	b, out := bench.For(t), bench.Readings{}
	for _, f := range x.Figures {
		for _, e := range t.Reads {
			c, known := b.Channel(e.Key)
			if !known || f.Key != e.Key && (f.Key != "" || f.Name != e.Name) {
				continue
			}
			if r, ok := readingOf(c, f); ok {
				out[c.Key] = r
			}
		}
	}
	at := b.PlaceChannel()
	if at == "" || len(x.Exits) == 0 && (x.Part == "" || x.Outcome != b.ByPlace) {
		return out
	}
	var r bench.Reading
	for _, e := range x.Exits {
		r.Places = append(r.Places, bench.Place{Part: e.Part, Size: string(e.Size), Expected: e.Expected || x.Outcome == expectedOnly})
	}
	if len(x.Exits) == 0 {
		r.Places = []bench.Place{{Part: x.Part}}
	}
	out[at] = r
	return out
}

// expectedOnly is the outcome under which older results kept exits that prove nothing.
const expectedOnly = "expected"

func readingOf(c bench.Channel, f record.Figure) (r bench.Reading, ok bool) {
	switch {
	case len(f.Words) == 1 && f.Words[0] == nothing && (c.Kind == bench.Places || c.Kind == bench.List):
		return r, true
	case c.Kind == bench.Places:
		for _, w := range f.Words {
			part, rest, _ := strings.Cut(w, ":")
			size, expected, _ := strings.Cut(rest, ":")
			r.Places = append(r.Places, bench.Place{Part: part, Size: size, Expected: expected == expectedOnly})
		}
		return r, len(f.Words) > 0
	case c.Kind == bench.Cycles && f.Value != nil && len(f.Words) == 0:
		all := max(c.Times, int(*f.Value))
		return bench.CountOf(int(math.Min(math.Max(*f.Value, 0), 24)), min(all, 24)), true
	case c.Kind == bench.Number || c.Kind == bench.Count:
		for _, w := range f.Words {
			v, err := parse(w)
			if err != nil {
				continue
			}
			r.Numbers = append(r.Numbers, v)
		}
		if len(f.Values) > 0 {
			r.Numbers = slices.Clone(f.Values)
		} else if f.Value != nil {
			r.Numbers = []float64{*f.Value}
		}
		return r, len(r.Numbers) > 0
	}
	r.Words = slices.Clone(f.Words)
	return r, len(r.Words) > 0
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

// parse reads a word that stands for a figure.
func parse(w string) (float64, error) {
	if w == openCircuit {
		return math.Inf(1), nil
	}
	return strconv.ParseFloat(w, 64)
}
