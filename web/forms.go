package web

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"mime/multipart"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/record"
	"wexter/core/units"
)

// form reads typed fields and keeps the first thing that is wrong.
type form struct {
	c   *echo.Context
	err error
}

func (f *form) text(name string) string { return strings.TrimSpace(f.c.FormValue(name)) }

// wrong keeps the first thing that is wrong: the field by its name, and by its label.
func (f *form) wrong(name, label, say string) {
	if f.err == nil {
		f.err = &casework.Problem{Field: name, Sentence: fmt.Sprintf("%s: %s.", label, strings.TrimSuffix(say, "."))}
	}
}

// needed complains when a field is empty; what reads it then takes it for zero.
func (f *form) needed(name, label string) *form {
	if f.text(name) == "" {
		f.wrong(name, label, "this is missing")
	}
	return f
}

// si reads a quantity; empty is zero.
func (f *form) si(name, label string, k units.Kind, bare string) float64 {
	t := f.text(name)
	if t == "" {
		return 0
	}
	v, err := units.Parse(t, k, bare)
	if err != nil {
		f.wrong(name, label, err.Error())
	}
	return v
}

// number reads a bare number; empty is zero.
func (f *form) number(name, label string) float64 {
	t := f.text(name)
	if t == "" {
		return 0
	}
	v, err := units.Number(t)
	if err != nil {
		f.wrong(name, label, err.Error())
	}
	return v
}

func (f *form) whole(name, label string) int {
	v := f.number(name, label)
	if v != math.Trunc(v) || math.Abs(v) > 1e9 {
		f.wrong(name, label, "a whole number was expected")
		return 0
	}
	return int(v)
}

func (f *form) percent(name, label string) float64 {
	t := f.text(name)
	if t == "" {
		return 0
	}
	v, err := units.Percent(t)
	if err != nil {
		f.wrong(name, label, err.Error())
	}
	return v
}

// cents reads money as typed, exactly.
func (f *form) cents(name, label string) int64 {
	t := f.text(name)
	if t == "" {
		return 0
	}
	v, err := units.Number(strings.TrimSpace(strings.Trim(t, "€")))
	if err != nil || math.Abs(v) > 1e7 {
		f.wrong(name, label, "an amount such as 34.50 was expected")
		return 0
	}
	return int64(math.Round(v * 100))
}

// when reads a date and time field of the browser, local time.
func (f *form) when(name, label string) *time.Time {
	t := f.text(name)
	if t == "" {
		return nil
	}
	for _, layout := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", time.DateOnly} {
		if v, err := time.ParseInLocation(layout, t, time.Local); err == nil {
			return &v
		}
	}
	f.wrong(name, label, fmt.Sprintf("%q is not a day and time", t))
	return nil
}

func (f *form) version() int {
	v, err := strconv.Atoi(f.text("version"))
	if err != nil || v < 1 {
		f.wrong("version", "form", "it does not say which version it was made from; load the page again")
	}
	return v
}

// stamp is one of two stamps: the second when the form takes the first one back.
func (f *form) stamp(put, takeBack casework.Stamp) casework.Stamp {
	if f.text("back") != "" {
		return takeBack
	}
	return put
}

// entry is what a form strikes out or doubts.
func (f *form) entry() casework.Entry {
	return casework.Entry{Kind: record.EntryKind(f.text("kind")), ID: f.text("entry")}
}

// key makes sending the same form twice harmless. All forms of a page share the page's key,
// and Back leads to a page that has been sent before. So what is sent counts too: the same
// fields to the same address are one submission, other fields are a new one.
func (f *form) key() string {
	k := f.text("key")
	if k == "" {
		return ""
	}
	r := f.c.Request()
	h := sha256.New()
	fmt.Fprintf(h, "%q %q", k, r.URL.Path)
	for _, name := range slices.Sorted(maps.Keys(r.PostForm)) {
		if name != "csrf" && name != "key" {
			fmt.Fprintf(h, " %q=%q", name, r.PostForm[name])
		}
	}
	if m := r.MultipartForm; m != nil {
		for _, name := range slices.Sorted(maps.Keys(m.File)) {
			for _, file := range m.File[name] {
				fmt.Fprintf(h, " %q=%q %d", name, file.Filename, file.Size)
			}
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// file reads an uploaded file whole; nil when none was chosen.
func (f *form) file(name string, limit int64) (data []byte, filename string) {
	h, err := f.c.FormFile(name)
	if err != nil {
		return nil, ""
	}
	if h.Size > limit {
		f.wrong(name, name, fmt.Sprintf("the file is larger than %d MB", limit>>20))
		return nil, ""
	}
	return f.readAll(h, limit), h.Filename
}

func (f *form) readAll(h *multipart.FileHeader, limit int64) []byte {
	src, err := h.Open()
	if err != nil {
		f.wrong("file", "file", "it could not be opened")
		return nil
	}
	defer src.Close()
	data := make([]byte, min(h.Size, limit))
	if _, err := io.ReadFull(src, data); err != nil {
		f.wrong("file", "file", "it could not be read to its end")
	}
	return data
}

// parsed makes sure the body is whole before anything is read from it.
func parsed(c *echo.Context) error {
	r := c.Request()
	var err error
	if strings.HasPrefix(r.Header.Get("Content-Type"), "multipart/") {
		err = r.ParseMultipartForm(8 << 20)
	} else {
		err = r.ParseForm()
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}
