package ingest

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

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
	Sizes      []knowledge.LeakSize
	Params     []knowledge.Param
	Craft      []knowledge.Craft
	Schools    []knowledge.School
	Cautions   []knowledge.Caution
	Synonyms   [][]string
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

// shipped returns the texts of the files that ship with the program.
func shipped() [][]byte {
	names, err := fs.Glob(bookFiles, "book/*.yaml")
	if err != nil {
		panic(err)
	}
	slices.Sort(names)
	var out [][]byte
	for _, n := range names {
		data, err := bookFiles.ReadFile(n)
		if err != nil {
			panic(err)
		}
		out = append(out, data)
	}
	return out
}

// Book returns the Book that ships with the program; it panics when that is
// broken, which a test finds first.
var Book = sync.OnceValue(func() knowledge.Book {
	b, err := ReadBook(shipped()...)
	if err != nil {
		panic(err)
	}
	return b
})

// maxBookBytes is the most that one of a shop's own files may hold.
const maxBookBytes = 2 << 20

// BookWith returns the Book with a shop's own pages: the path names one file, or a
// folder whose .yaml files are all read. An entry of theirs with a key of the Book is
// refused, so that nothing is changed silently.
func BookWith(path string) (knowledge.Book, error) {
	if path == "" {
		return Book(), nil
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
	texts := shipped()
	for _, n := range names {
		f, err := os.Open(n)
		if err != nil {
			return knowledge.Book{}, fmt.Errorf("the shop's pages: %w", err)
		}
		data, err := io.ReadAll(io.LimitReader(f, maxBookBytes+1))
		f.Close()
		if err != nil {
			return knowledge.Book{}, fmt.Errorf("%s: %w", n, err)
		}
		if len(data) > maxBookBytes {
			return knowledge.Book{}, fmt.Errorf("%s: larger than 2 MB; that is no page of a Book", n)
		}
		if _, err := readPage(data); err != nil {
			return knowledge.Book{}, fmt.Errorf("%s: %w", n, err)
		}
		texts = append(texts, data)
	}
	b, err := ReadBook(texts...)
	if err != nil {
		return b, fmt.Errorf("with %s: %w", strings.Join(names, ", "), err)
	}
	return b, nil
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

// ReadBook decodes and checks a Book from its files. Unknown fields are errors: a
// mistyped name must not pass for a missing entry.
func ReadBook(files ...[]byte) (knowledge.Book, error) {
	var b knowledge.Book
	for _, data := range files {
		p, err := readPage(data)
		if err != nil {
			return b, fmt.Errorf("the Book: %w", err)
		}
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
		b.Codes = append(b.Codes, p.Codes...)
		b.Faults = append(b.Faults, p.Faults...)
		b.Tests = append(b.Tests, p.Tests...)
		b.Kit = append(b.Kit, p.Kit...)
		b.Contexts = append(b.Contexts, p.Contexts...)
		b.Costs = append(b.Costs, p.Costs...)
		b.Odds, b.Signs = append(b.Odds, p.Odds...), append(b.Signs, p.Signs...)
		b.Groups, b.Sizes = append(b.Groups, p.Groups...), append(b.Sizes, p.Sizes...)
		b.Params = append(b.Params, p.Params...)
		b.Craft = append(b.Craft, p.Craft...)
		b.Schools = append(b.Schools, p.Schools...)
		b.Cautions = append(b.Cautions, p.Cautions...)
		b.Synonyms = append(b.Synonyms, p.Synonyms...)
	}
	if err := b.Check(); err != nil {
		return b, fmt.Errorf("the Book: %w", err)
	}
	b.Join()
	b.Version = fingerprint(files...)
	return b, nil
}
