package ingest

import (
	"bytes"
	"cmp"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"wexter/core/bench"
	"wexter/core/circuit"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
)

//go:embed book/*.yaml
var bookFiles embed.FS

// bookPage is one file of the Book; a Book is what all its files hold together.
type bookPage struct {
	Fragments  []plumbing.Fragment
	Archetypes []archetypePage
	Codes      []knowledge.Code
	Faults     []knowledge.Fault
	Tests      []knowledge.Test
	Kit        []knowledge.Kit
	Contexts   []knowledge.Word
	Costs      []knowledge.Cost
	Odds       []knowledge.Share
	Signs      []knowledge.Sign
	Groups     []knowledge.CodeGroup
	Frames     []knowledge.Frame
	Sizes      []knowledge.LeakSize
	Readiness  knowledge.Ready
	Misreads   []knowledge.Misread
	Outcomes   []knowledge.Showing
	Firsts     []knowledge.First
	Practice   float64
	Params     []knowledge.Param
	Craft      []knowledge.Craft
	Schools    []knowledge.School
	Cautions   []knowledge.Caution
	Synonyms   [][]string
	Circuits   []*circuit.Circuit
}

// archetypePage is an archetype as a file gives it: its plumbing, or how a vapour
// system is checked and sealed, or both at once.
type archetypePage struct {
	Key, Family, Name, Rest, Note string
	Monitor                       string
	Diesel                        bool
	From, Drop                    []string
	Parts                         []plumbing.Part
	Needs, Refuses                []plumbing.Bond
	Check                         string
	Seal                          []knowledge.Step
	Entry                         string
	Set                           map[string]string
	MaxPa, MaxVacPa               float64
	Cautions                      []string
}

// Page is one file of the Book.
type Page struct {
	Name string // as a person finds it
	Data []byte
}

// shipped returns the pages that ship with the program.
func shipped() ([]Page, error) {
	names, err := fs.Glob(bookFiles, "book/*.yaml")
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	var out []Page
	for _, n := range names {
		data, err := bookFiles.ReadFile(n)
		if err != nil {
			return nil, err
		}
		out = append(out, Page{"ingest/" + n, data})
	}
	return out, nil
}

var shippedBook = sync.OnceValues(func() (knowledge.Book, error) {
	pages, err := shipped()
	if err != nil {
		return knowledge.Book{}, err
	}
	return ReadBook(pages...)
})

// Book returns the Book that ships with the program, for tests and tools of this
// repository; it panics when a page is broken. Programs take [BookWith], which says where.
func Book() knowledge.Book {
	b, err := shippedBook()
	if err != nil {
		panic(err)
	}
	return b
}

// maxBookBytes is the most that one of a shop's own files may hold.
const maxBookBytes = 2 << 20

// BookWith returns the Book with a shop's own pages: the path names one file, or a
// folder whose .yaml files are all read. An entry of theirs with a key of the Book is
// refused, so that nothing is changed silently.
func BookWith(path string) (knowledge.Book, error) {
	if path == "" {
		return shippedBook()
	}
	names := []string{path}
	if st, err := os.Stat(path); err != nil {
		return knowledge.Book{}, fmt.Errorf("the shop's pages: %w", err)
	} else if st.IsDir() {
		if names, err = filepath.Glob(filepath.Join(path, "*.yaml")); err != nil {
			return knowledge.Book{}, err
		}
		slices.Sort(names)
	}
	pages, err := shipped()
	if err != nil {
		return knowledge.Book{}, err
	}
	for _, n := range names {
		data, err := readFile(n)
		if err != nil {
			return knowledge.Book{}, fmt.Errorf("the shop's pages: %w", err)
		}
		pages = append(pages, Page{n, data})
	}
	return ReadBook(pages...)
}

// readFile reads one of a shop's own pages.
func readFile(name string) ([]byte, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, maxBookBytes+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(data) > maxBookBytes {
		return nil, fmt.Errorf("%s: larger than 2 MB; that is no page of a Book", name)
	}
	return data, nil
}

func readPage(data []byte) (bookPage, error) {
	var p bookPage
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&p); err != nil && !errors.Is(err, io.EOF) {
		return p, err
	}
	return p, nil
}

// ReadBook decodes and checks a Book from its pages. Unknown fields are errors: a
// mistyped name must not pass for a missing entry. What is wrong is said with the page,
// the line and the entry.
func ReadBook(pages ...Page) (knowledge.Book, error) {
	var b knowledge.Book
	read, err := readPages(pages)
	if err != nil {
		return b, err
	}
	for _, p := range read {
		b.Plumbing.Fragments = append(b.Plumbing.Fragments, p.Fragments...)
		for _, a := range p.Archetypes {
			if a.Family != "" {
				b.Plumbing.Archetypes = append(b.Plumbing.Archetypes, plumbing.Archetype{Key: a.Key, Family: a.Family, Name: a.Name, Rest: a.Rest, Note: a.Note,
					From: a.From, Drop: a.Drop, Parts: a.Parts, Needs: a.Needs, Refuses: a.Refuses, Monitor: a.Monitor, Diesel: a.Diesel})
			}
			if a.Check != "" || a.Seal != nil || a.Family == "" {
				b.Archetypes = append(b.Archetypes, knowledge.Archetype{Key: a.Key, Check: a.Check, Seal: a.Seal, Entry: a.Entry, Set: a.Set, MaxPa: a.MaxPa, MaxVacPa: a.MaxVacPa, Note: a.Note, Cautions: a.Cautions})
			}
		}
		b.Plumbing.Circuits = append(b.Plumbing.Circuits, p.Circuits...)
		b.Codes = append(b.Codes, p.Codes...)
		b.Faults = append(b.Faults, p.Faults...)
		b.Tests = append(b.Tests, p.Tests...)
		b.Kit = append(b.Kit, p.Kit...)
		b.Contexts = append(b.Contexts, p.Contexts...)
		b.Costs = append(b.Costs, p.Costs...)
		b.Odds, b.Signs = append(b.Odds, p.Odds...), append(b.Signs, p.Signs...)
		b.Groups, b.Frames, b.Sizes = append(b.Groups, p.Groups...), append(b.Frames, p.Frames...), append(b.Sizes, p.Sizes...)
		b.Misreads, b.Showings = append(b.Misreads, p.Misreads...), append(b.Showings, p.Outcomes...)
		b.Firsts, b.Practice = append(b.Firsts, p.Firsts...), cmp.Or(p.Practice, b.Practice)
		if p.Readiness.Shows != nil {
			b.Readiness = p.Readiness
		}
		b.Params = append(b.Params, p.Params...)
		b.Craft = append(b.Craft, p.Craft...)
		b.Schools = append(b.Schools, p.Schools...)
		b.Cautions = append(b.Cautions, p.Cautions...)
		b.Synonyms = append(b.Synonyms, p.Synonyms...)
	}
	b.Warnings = complete(b.Tests)
	if err := cmp.Or(b.Plumbing.Wire(), b.Check(), bench.Check(b)); err != nil {
		return b, fmt.Errorf("%s%w", where(pages, err), err)
	}
	b.Join()
	for _, p := range pages {
		b.Version += string(p.Data)
	}
	b.Version = fingerprint([]byte(b.Version))
	return b, nil
}

// complete gives readings without a key one by their name, as pages had them before tests
// had rules of their own, and says which tests do not say what their outcomes mean.
func complete(tests []knowledge.Test) (warnings []string) {
	for _, t := range tests {
		for i, r := range t.Reads {
			if r.Key == "" {
				t.Reads[i].Key = slug(r.Name)
			}
		}
		if slices.ContainsFunc(t.Outcomes, func(o knowledge.Outcome) bool { return o.Means == "" }) {
			warnings = append(warnings, fmt.Sprintf("test %q does not say what its outcomes mean (means: sound, fault, unclear or not-done): they are shown as unclear and prove nothing", t.Key))
		}
	}
	return warnings
}

// slug makes a key of a name.
func slug(name string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return (r < 'a' || r > 'z') && (r < '0' || r > '9') }), "-")
}

// readPages decodes pages, several at once.
func readPages(pages []Page) ([]bookPage, error) {
	out, errs := make([]bookPage, len(pages)), make([]error, len(pages))
	var g sync.WaitGroup
	for i, p := range pages {
		g.Go(func() {
			if out[i], errs[i] = readPage(p.Data); errs[i] != nil {
				says := strings.TrimPrefix(strings.Join(strings.Fields(errs[i].Error()), " "), "yaml: ")
				errs[i] = fmt.Errorf("%s: %s", p.Name, strings.TrimPrefix(says, "unmarshal errors: "))
			}
		})
	}
	g.Wait()
	return out, cmp.Or(errs...)
}

// sections are the parts of a page by the kind of their entries, where they do not have
// the kind's name with an s.
var sections = map[string]string{"kit": "kit", "craft": "craft", "odds": "odds", "synonyms": "synonyms"}

// where says in which page and line the entry stands with which an error is; empty when
// that is not to be found. Of two entries of one key it is the later one.
func where(pages []Page, err error) string {
	var e *plumbing.EntryError
	if !errors.As(err, &e) {
		return ""
	}
	section, ok := sections[e.Kind]
	if !ok {
		section = e.Kind + "s"
	}
	for _, p := range slices.Backward(pages) {
		var doc yaml.Node
		if yaml.Unmarshal(p.Data, &doc) != nil || len(doc.Content) == 0 {
			continue
		}
		top := doc.Content[0]
		for i := 0; i+1 < len(top.Content); i += 2 {
			if top.Content[i].Value != section {
				continue
			}
			for n, x := range slices.Backward(top.Content[i+1].Content) {
				if named(x, e.Key) || section == "synonyms" && strconv.Itoa(n+1) == e.Key {
					return fmt.Sprintf("%s, line %d: ", p.Name, x.Line)
				}
			}
		}
	}
	return ""
}

// named reports whether an entry has the key.
func named(entry *yaml.Node, key string) bool {
	for i := 0; i+1 < len(entry.Content); i += 2 {
		switch entry.Content[i].Value {
		case "key", "code", "fragment":
			if entry.Content[i+1].Value == key {
				return true
			}
		}
	}
	return false
}
