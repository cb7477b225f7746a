package web

import (
	"io/fs"
	"regexp"
	"strings"
	"testing"
)

// A template is read by people who change it: one element a line, and no line that has to
// be scrolled sideways.
func TestTemplateLines(t *testing.T) {
	const most = 160
	names, err := fs.Glob(templateFiles, "templates/*.html")
	if err != nil || len(names) == 0 {
		t.Fatalf("%d templates, %v", len(names), err)
	}
	for _, n := range names {
		raw, err := templateFiles.ReadFile(n)
		if err != nil {
			t.Fatal(err)
		}
		for i, line := range strings.Split(string(raw), "\n") {
			if len(line) > most {
				t.Errorf("%s:%d has %d characters; break it at %d", n, i+1, len(line), most)
			}
		}
	}
}

// Every element that is opened is closed: browsers forgive it, and put the rest of the page
// elsewhere.
func TestTemplateElementsAreClosed(t *testing.T) {
	names, err := fs.Glob(templateFiles, "templates/*.html")
	if err != nil || len(names) == 0 {
		t.Fatalf("%d templates, %v", len(names), err)
	}
	for _, n := range names {
		raw, err := templateFiles.ReadFile(n)
		if err != nil {
			t.Fatal(err)
		}
		for _, tag := range strings.Fields("div section aside p ul ol li form fieldset label span a button select details table tbody tr td dl svg") {
			opened := len(regexp.MustCompile("<"+tag+`[\s>]`).FindAll(raw, -1))
			if closed := strings.Count(string(raw), "</"+tag+">"); opened != closed {
				t.Errorf("%s opens %d <%s> and closes %d", n, opened, tag, closed)
			}
		}
	}
}
