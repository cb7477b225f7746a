package wexter_test

import (
	"os/exec"
	"strings"
	"testing"
)

// Imports go downwards only: a room may import the rooms listed for it and those
// of core; core imports the standard library, gonum and itself.
func TestImportsGoDownwards(t *testing.T) {
	may := map[string]string{
		"wexter/cmd/wexter":   "web demo live standin instrument casework store report ingest core",
		"wexter/cmd/readings": "ingest core",
		"wexter/web":          "live instrument casework store report ingest core",
		"wexter/demo":         "casework store report ingest core",
		"wexter/live":         "casework store instrument ingest core",
		"wexter/casework":     "store report ingest core",
		"wexter/store":        "ingest core",
		"wexter/report":       "ingest core",
		"wexter/standin":      "instrument core",
		"wexter/instrument":   "ingest core",
		"wexter/ingest":       "core",
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./...").Output()
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		f := strings.Fields(line)
		pkg := f[0]
		if pkg == "wexter" {
			continue
		}
		seen++
		core := strings.HasPrefix(pkg, "wexter/core/")
		allowed, known := may[pkg]
		if !core && !known {
			t.Errorf("%s has no place in the house: add it to docs/architecture.md and here", pkg)
		}
		for _, imp := range f[1:] {
			room := strings.SplitN(strings.TrimPrefix(imp, "wexter/"), "/", 2)[0]
			ours := strings.HasPrefix(imp, "wexter/")
			switch {
			case core && ours && room != "core":
				t.Errorf("%s imports %s: core imports core only", pkg, imp)
			case core && !ours && strings.Contains(imp, ".") && !strings.HasPrefix(imp, "gonum.org/"):
				t.Errorf("%s imports %s: core takes the standard library and gonum only", pkg, imp)
			case core && (imp == "os" || imp == "net/http" || imp == "database/sql" || imp == "html/template"):
				t.Errorf("%s imports %s: core does no input or output", pkg, imp)
			case !core && ours && !strings.Contains(" "+allowed+" ", " "+room+" "):
				t.Errorf("%s imports %s upwards", pkg, imp)
			}
		}
	}
	if seen < 10 {
		t.Errorf("only %d packages were looked at", seen)
	}
}
