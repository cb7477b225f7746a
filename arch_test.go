package wexter_test

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

// rooms says which other rooms each may import, besides itself. Imports go downwards
// only; docs/architecture.md tells what each room does.
var rooms = map[string]string{
	"cmd/wexter":   "web demo live standin instrument casework evidence store report ingest core",
	"cmd/readings": "ingest core",
	"cmd/attack":   "demo standin instrument casework store ingest core",
	"web":          "live instrument casework evidence store report ingest core",
	"demo":         "casework evidence report ingest core",
	"live":         "casework instrument ingest core",
	"casework":     "evidence store report ingest core",
	"evidence":     "ingest core",
	"store":        "ingest core",
	"report":       "ingest core",
	"standin":      "instrument core",
	"instrument":   "ingest core",
	"ingest":       "core",
	"core":         "core",
}

// keepers are rooms that alone may import something from outside.
var keepers = map[string]string{
	"gorm.io/":                 "store",
	"database/sql":             "store",
	"modernc.org/":             "store",
	"github.com/pressly/goose": "store",
	"github.com/labstack/echo": "web",
	"html/template":            "web",
	"github.com/go-pdf/":       "report",
	"go.bug.st/":               "instrument",
}

// notInCore is what core does without: it neither reads nor writes.
var notInCore = []string{"os", "net", "net/http", "database/sql", "html/template", "io/fs", "embed"}

// room is the room of one of our packages.
func room(pkg string) string {
	path := strings.TrimPrefix(pkg, "wexter/")
	if _, ok := rooms[path]; ok {
		return path
	}
	return strings.SplitN(path, "/", 2)[0]
}

func TestImportsGoDownwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		f := strings.Fields(line)
		pkg := f[0]
		if pkg == "wexter" {
			continue
		}
		here := room(pkg)
		allowed, known := rooms[here]
		if !known {
			t.Errorf("%s has no place in the house: add it to docs/architecture.md and here", pkg)
			continue
		}
		seen[here] = true
		for _, imp := range f[1:] {
			if why := wrong(here, allowed, imp); why != "" {
				t.Errorf("%s imports %s: %s", pkg, imp, why)
			}
		}
	}
	for name := range rooms {
		if !seen[name] {
			t.Errorf("the room %s is not there", name)
		}
	}
}

// Every package has its line in the table of docs/architecture.md.
func TestTheHouseIsDescribed(t *testing.T) {
	doc, err := os.ReadFile("docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("go", "list", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for _, pkg := range strings.Fields(string(out)) {
		if path := strings.TrimPrefix(pkg, "wexter/"); path != "wexter" && !strings.Contains(string(doc), "| `"+path+"` |") {
			t.Errorf("docs/architecture.md has no line for `%s`", path)
		}
	}
}

// wrong says why a room may not import a package; empty when it may.
func wrong(here, allowed, imp string) string {
	if strings.HasPrefix(imp, "wexter/") {
		if to := room(imp); to != here && !strings.Contains(" "+allowed+" ", " "+to+" ") {
			return "imports go downwards only"
		}
		return ""
	}
	for what, keeper := range keepers {
		if strings.HasPrefix(imp, what) && here != keeper {
			return "that belongs to " + keeper + " alone"
		}
	}
	if here != "core" {
		return ""
	}
	if strings.Contains(imp, ".") && !strings.HasPrefix(imp, "gonum.org/") {
		return "core takes the standard library and gonum only"
	}
	for _, x := range notInCore {
		if imp == x {
			return "core neither reads nor writes"
		}
	}
	return ""
}

// The law itself is held against what it must refuse.
func TestTheLawRefuses(t *testing.T) {
	for _, c := range []struct {
		here, imp string
		refused   bool
	}{
		{"casework", "gorm.io/gorm", true}, {"store", "gorm.io/gorm", false}, {"live", "wexter/store", true}, {"web", "database/sql", true},
		{"core", "wexter/ingest", true}, {"core", "os", true}, {"core", "gonum.org/v1/gonum/stat", false}, {"evidence", "wexter/casework", true},
		{"evidence", "wexter/core/diagnose", false}, {"casework", "wexter/web", true}, {"core", "github.com/google/uuid", true},
	} {
		t.Run(c.here+" "+c.imp, func(t *testing.T) {
			if got := wrong(c.here, rooms[c.here], c.imp) != ""; got != c.refused {
				t.Errorf("refused: %v, want %v", got, c.refused)
			}
		})
	}
}
