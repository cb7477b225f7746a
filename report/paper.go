package report

import (
	"wexter/core/record"
)

// Paper is what the report says, for the page and for the PDF alike.
type Paper struct {
	Title, Under string
	Verdict      string // proven or not, in one sentence
	Sections     []Section
	Foot         []string
}

// Section is a heading with facts and sentences.
type Section struct {
	Head string
	Rows []Row
	Text []string
	// Holds that are drawn on one plot here; nil: none.
	Before, After *record.Summary

	Pictures []Picture
}

// Plot reports whether there is a hold to draw.
func (s Section) Plot() bool { return s.Before != nil || s.After != nil }

// Picture is a photo with what it shows.
type Picture struct {
	Hash, Mime, Caption string
	Data                []byte
}

// Row is a fact.
type Row struct{ Name, Value string }
