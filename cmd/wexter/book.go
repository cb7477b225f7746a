package main

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"

	"wexter/core/drawing"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
	"wexter/report"
)

// vocabularyJSON is what `wexter vocabulary --json` prints: everything that other
// commands take or print by key.
type vocabularyJSON struct {
	Archetypes   []archetypeWord `json:"archetypes"`
	Faults       []faultWord     `json:"faults"`
	Tests        []testWord      `json:"tests"`
	Kit          []word          `json:"kit"`
	Contexts     []word          `json:"contexts"`
	Combinations int             `json:"combinations"`
}

type word struct {
	Key  string `json:"key"`
	Name string `json:"name"`
}

type archetypeWord struct {
	word
	Family string `json:"family"`
}

type faultWord struct {
	word
	Family string   `json:"family"`
	Tests  []string `json:"tests"`
}

type testWord struct {
	word
	Readings []readingWord `json:"readings"`
	Outcomes []outcomeWord `json:"outcomes"`
}

type readingWord struct {
	word
	Unit  string `json:"unit,omitempty"`
	Words []word `json:"words,omitempty"`
}

type outcomeWord struct {
	word
	Means   string `json:"means,omitempty"`
	Singles bool   `json:"singles_out,omitempty"`
	Proves  bool   `json:"proves,omitempty"`
}

func vocabularyOf(b knowledge.Book) vocabularyJSON {
	var v vocabularyJSON
	for _, f := range plumbing.Families {
		for _, a := range b.Plumbing.Family(f) {
			v.Archetypes = append(v.Archetypes, archetypeWord{word{a.Key, a.Name}, f})
		}
	}
	for _, f := range b.Faults {
		v.Faults = append(v.Faults, faultWord{word{f.Key, f.Name}, f.Family, f.Tests})
	}
	for _, t := range b.Tests {
		w := testWord{word: word{t.Key, t.Name}}
		for _, r := range t.Reads {
			x := readingWord{word: word{r.Key, r.Name}, Unit: r.Unit}
			for _, k := range r.Words {
				x.Words = append(x.Words, word{k.Key, k.Name})
			}
			w.Readings = append(w.Readings, x)
		}
		for _, o := range t.Outcomes {
			w.Outcomes = append(w.Outcomes, outcomeWord{word{o.Key, o.Name}, string(o.Means), o.Singles, o.Proves})
		}
		v.Tests = append(v.Tests, w)
	}
	for _, k := range b.Kit {
		v.Kit = append(v.Kit, word{k.Key, k.Name})
	}
	for _, c := range b.Contexts {
		v.Contexts = append(v.Contexts, word{c.Key, c.Name})
	}
	v.Combinations = len(b.Plumbing.Combinations())
	return v
}

// bookOf parses a command that takes flags only, and reads the Book with --book's pages.
func bookOf(fs *flag.FlagSet, args []string, errs io.Writer) (knowledge.Book, error) {
	pages := fs.String("book", "", "a file or folder of the shop's own pages")
	words, err := parse(fs, args, errs)
	if err != nil {
		return knowledge.Book{}, err
	}
	if len(words) > 0 {
		return knowledge.Book{}, usage("%q is not wanted here", words[0])
	}
	return bookWith(*pages, errs)
}

// bookWith is the Book with a shop's own pages; what they leave out is said.
func bookWith(pages string, errs io.Writer) (knowledge.Book, error) {
	b, err := ingest.BookWith(pages)
	for _, w := range b.Warnings {
		fmt.Fprintln(errs, "note:", w)
	}
	return b, err
}

// runVocabulary lists archetypes, faults, tests and outcomes by key.
func runVocabulary(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("vocabulary", flag.ContinueOnError)
	asJSON := fs.Bool("json", false, "print for machines")
	b, err := bookOf(fs, args, errs)
	if err != nil {
		return err
	}
	v := vocabularyOf(b)
	if *asJSON {
		e := json.NewEncoder(out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	}
	family := ""
	for _, a := range v.Archetypes {
		if a.Family != family {
			family = a.Family
			fmt.Fprintf(out, "archetypes, %s\n", family)
		}
		fmt.Fprintf(out, "  %-24s %s\n", a.Key, a.Name)
	}
	for _, family := range knowledge.FaultFamilies() {
		fmt.Fprintf(out, "\nfaults, %s\n", family)
		for _, f := range v.Faults {
			if f.Family == family {
				fmt.Fprintf(out, "  %-24s %s\n", f.Key, f.Name)
			}
		}
	}
	fmt.Fprintln(out, "\ntests and their outcomes")
	for _, t := range v.Tests {
		fmt.Fprintf(out, "  %-24s %s\n", t.Key, t.Name)
		for _, o := range t.Outcomes {
			fmt.Fprintf(out, "    %-22s %s\n", o.Key, o.Name)
		}
	}
	_, err = fmt.Fprintf(out, "\n%d cars are possible\n", v.Combinations)
	return err
}

// runMap writes the map of a combination of archetypes as a picture.
func runMap(args []string, out, errs io.Writer) error {
	fs := flag.NewFlagSet("map", flag.ContinueOnError)
	var c plumbing.Combination
	fs.StringVar(&c.Engine, "engine", "na-maf", "archetype of the engine")
	fs.StringVar(&c.Boost, "boost", "no-boost", "archetype of the charge side")
	fs.StringVar(&c.Crankcase, "crankcase", "fixed-valve", "archetype of the crankcase")
	fs.StringVar(&c.Recirculation, "recirculation", "no-egr", "archetype of the exhaust recirculation")
	fs.StringVar(&c.Vapour, "vapour", "engine-vacuum", "archetype of the EVAP system")
	file := fs.String("out", "", "the file to write; otherwise it is printed")
	b, err := bookOf(fs, args, errs)
	if err != nil {
		return err
	}
	g, err := b.Plumbing.Combine(c)
	if err != nil {
		return usage("%v", err)
	}
	a, _ := b.Plumbing.Find(c.Vapour)
	e, _ := b.Plumbing.Find(c.Engine)
	m := report.Map{Graph: g, Sheet: drawing.Lay(g), Title: e.Name + "; " + a.Name, Alone: true}
	svg := m.SVG() + "\n"
	if *file == "" {
		_, err = io.WriteString(out, svg)
		return err
	}
	if err := os.WriteFile(*file, []byte(svg), 0o644); err != nil {
		return err
	}
	_, err = fmt.Fprintf(out, "the map is in %s\n", *file)
	return err
}
