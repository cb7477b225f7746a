package bench

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"wexter/core/decay"
	"wexter/core/trim"
)

// Kind is what a channel gives.
type Kind int

// The kinds of channel.
const (
	Number Kind = iota // a figure in the channel's unit
	Count              // a whole number
	Choice             // one of the channel's words
	Cycles             // yes or no, once a cycle
	Places             // parts of the car, each with what is there
	List               // words as they are read, such as trouble codes
	Trace              // pressure against time, judged by a bench of its own
	Drive              // a drive's trims and what goes with them
	Text               // a line that somebody writes
)

// Channel is one quantity that a test reads. Its name, words and spread stand in the Book's
// entry of the test, under the same key.
type Channel struct {
	Key      string
	Kind     Kind
	Unit     string  // of the bay, as the Book has it
	Low      float64 // what the quantity can be, in that unit; both 0: anything finite
	High     float64
	Sense    Sense    // the instrument that gives it; empty: only a person can say it
	Words    []string // keys of a choice; of places: what there may be at one
	Times    int      // how often it is read at least; 0 is once
	Fields   int      // how many figures of it a page takes; 0: as often as it is read
	Optional bool     // the verdict can do without it
	Usual    bool     // optional, but an instrument that gives it is chosen unless somebody says otherwise
	Worked   bool     // the bench works it out; nobody types it
	Open     bool     // a meter may show OL: an open circuit, kept as +Inf
}

// Place is a part at which something comes out or is seen.
type Place struct {
	Part     string
	Size     string // one of the channel's words: how much comes out, or what is seen; empty when nobody said
	Expected bool   // it proves nothing there
}

// Reading is what a channel showed: figures or words, one for each repetition, or places.
// A channel that is not in the readings was not read; one that is there and empty was looked
// at and showed nothing.
type Reading struct {
	Numbers []float64
	Words   []string
	Places  []Place
	Legs    []decay.Leg // of a trace
	Drive   *trim.Drive // of a drive
}

// Readings are what a test showed, by the keys of its channels.
type Readings map[string]Reading

// Num is a reading of figures.
func Num(v ...float64) Reading { return Reading{Numbers: v} }

// Said is a reading of words.
func Said(w ...string) Reading { return Reading{Words: w} }

// Has reports whether a channel was read.
func (r Readings) Has(key string) bool { _, ok := r[key]; return ok }

// With are the readings with those of a later stretch, which come before them.
func (r Readings) With(later Readings) Readings {
	out := maps.Clone(r)
	if out == nil {
		out = Readings{}
	}
	maps.Copy(out, later)
	return out
}

// Mean is the mean of a channel's figures.
func (r Readings) Mean(key string) (float64, bool) {
	x := r[key].Numbers
	if len(x) == 0 {
		return math.NaN(), false
	}
	sum := 0.0
	for _, v := range x {
		sum += v
	}
	return sum / float64(len(x)), true
}

// Word is the first word of a channel; empty when it was not read.
func (r Readings) Word(key string) string {
	if w := r[key].Words; len(w) > 0 {
		return w[0]
	}
	return ""
}

// Cycles counts how many cycles of a channel were a yes, and how many there were.
func (r Readings) Cycles(key string) (yes, all int) {
	for _, w := range r[key].Words {
		if all++; w == Yes {
			yes++
		}
	}
	return
}

// The answers of a channel of cycles.
const (
	Yes = "yes"
	No  = "no"
)

// CountOf is a channel of cycles from how many of them were a yes.
func CountOf(yes, all int) Reading {
	w := slices.Repeat([]string{No}, all)
	for i := range min(yes, all) {
		w[i] = Yes
	}
	return Reading{Words: w}
}

// Format writes readings in one line, channel by channel in the test's order: figures and
// words with commas between repetitions, "~" for what was not read, "-" for what was looked
// at without finding anything. [Test.Parse] reads it back.
func (t Test) Format(r Readings) string {
	out := make([]string, len(t.Channels))
	for i, c := range t.Channels {
		x, ok := r[c.Key]
		if !ok {
			out[i] = "~"
			continue
		}
		var w []string
		for _, v := range x.Numbers {
			if math.IsInf(v, 1) {
				w = append(w, "OL")
				continue
			}
			w = append(w, strconv.FormatFloat(v, 'g', 6, 64))
		}
		for _, v := range x.Words {
			w = append(w, strings.ReplaceAll(v, " ", "_"))
		}
		for _, p := range x.Places {
			s := p.Part
			if p.Size != "" {
				s += ":" + p.Size
			}
			if p.Expected {
				s += ":expected"
			}
			w = append(w, s)
		}
		if out[i] = strings.Join(w, ","); out[i] == "" {
			out[i] = "-"
		}
	}
	return strings.Join(out, " ")
}

// Parse reads what Format wrote.
func (t Test) Parse(line string) (Readings, error) {
	fields := strings.Fields(line)
	for i := len(fields); i < len(t.Channels) && t.Channels[i].Optional; i++ {
		fields = append(fields, "~") // a line from before the test had this channel
	}
	if len(fields) != len(t.Channels) {
		return nil, fmt.Errorf("test %q has %d channels, the line %d fields", t.Key, len(t.Channels), len(fields))
	}
	r := Readings{}
	for i, c := range t.Channels {
		switch fields[i] {
		case "~":
			continue
		case "-":
			r[c.Key] = Reading{}
			continue
		}
		var x Reading
		for _, w := range strings.Split(fields[i], ",") {
			switch c.Kind {
			case Number, Count:
				if w == "OL" {
					x.Numbers = append(x.Numbers, math.Inf(1))
					continue
				}
				v, err := strconv.ParseFloat(w, 64)
				if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
					return nil, fmt.Errorf("test %q, channel %q: %q is no number", t.Key, c.Key, w)
				}
				x.Numbers = append(x.Numbers, v)
			case Places:
				p := Place{}
				w, p.Expected = strings.CutSuffix(w, ":expected")
				p.Part, p.Size, _ = strings.Cut(w, ":")
				x.Places = append(x.Places, p)
			default:
				x.Words = append(x.Words, strings.ReplaceAll(w, "_", " "))
			}
		}
		r[c.Key] = x
	}
	return r, nil
}

// check returns what is wrong with a reading of the channel, in a sentence.
func (c Channel) check(name string, x Reading) error {
	for _, v := range x.Numbers {
		switch {
		case math.IsInf(v, 1) && c.Open:
		case math.IsNaN(v) || math.IsInf(v, 0):
			return fmt.Errorf("%s: that is no figure", name)
		case c.Kind == Count && v != math.Trunc(v):
			return fmt.Errorf("%s: %g is no whole number", name, v)
		case (c.Low != 0 || c.High != 0) && (v < c.Low || v > c.High):
			return fmt.Errorf("%s is %g %s; it lies between %g and %g %s. Check the unit", name, v, c.Unit, c.Low, c.High, c.Unit)
		}
	}
	for _, p := range x.Places {
		if p.Size != "" && !slices.Contains(c.Words, p.Size) {
			return fmt.Errorf("%s: %q is none of %s", name, p.Size, strings.Join(c.Words, ", "))
		}
	}
	if x.Drive != nil {
		if err := x.Drive.Check(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	if c.Kind == Choice || c.Kind == Cycles {
		words := c.Words
		if c.Kind == Cycles {
			words = []string{Yes, No}
		}
		for _, w := range x.Words {
			if !slices.Contains(words, w) {
				return fmt.Errorf("%s: %q is none of %s", name, w, strings.Join(words, ", "))
			}
		}
	}
	return nil
}
