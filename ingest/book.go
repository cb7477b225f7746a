package ingest

import (
	"bytes"
	_ "embed"
	"fmt"
	"sync"

	"go.yaml.in/yaml/v3"

	"wexter/core/knowledge"
)

//go:embed book/book.yaml
var bookYAML []byte

// Book returns the Book that ships with the program; it panics when that is
// broken, which a test finds first.
var Book = sync.OnceValue(func() knowledge.Book {
	b, err := ReadBook(bookYAML)
	if err != nil {
		panic(err)
	}
	return b
})

// ReadBook decodes and checks a Book. Unknown fields are errors: a mistyped name
// must not pass for a missing entry.
func ReadBook(data []byte) (knowledge.Book, error) {
	var b knowledge.Book
	d := yaml.NewDecoder(bytes.NewReader(data))
	d.KnownFields(true)
	if err := d.Decode(&b); err != nil {
		return b, fmt.Errorf("the Book: %w", err)
	}
	if err := b.Check(); err != nil {
		return b, fmt.Errorf("the Book: %w", err)
	}
	return b, nil
}
