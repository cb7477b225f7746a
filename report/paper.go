package report

import (
	"wexter/core/record"
)

// Paper is what the report says, for the page and for the PDF alike.
type Paper struct {
	Title, Under string
	Verdict      string // proven or not, in one sentence
	Sections     []Section
	Before       *record.Summary
	After        *record.Summary
	Foot         []string
}

// Section is a heading with facts and sentences.
type Section struct {
	Head string
	Rows []Row
	Text []string
	Plot bool // the comparison is drawn here

	Pictures []Picture
}

// Picture is a photo with what it shows.
type Picture struct {
	Hash, Mime, Caption string
	Data                []byte
}

// Row is a fact.
type Row struct{ Name, Value string }
