package web

import (
	"fmt"
	"html/template"
	"io/fs"
	"math"
	"regexp"
	"strconv"
	"strings"
	"time"

	"wexter/casework"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/units"
)

func (s *server) parse() error {
	s.views = map[string]*template.Template{}
	names, err := fs.Glob(templateFiles, "templates/*.html")
	if err != nil {
		return err
	}
	for _, n := range names {
		base := strings.TrimPrefix(n, "templates/")
		if base == "layout.html" {
			continue
		}
		t := template.New(base).Funcs(s.funcs())
		for _, file := range []string{"templates/layout.html", n} {
			if t, err = parseInto(t, file); err != nil {
				return err
			}
		}
		s.views[base] = t
	}
	return nil
}

// indent is the space a template's lines begin with: the browser folds it into one space
// anyway, and leaving it out makes a page a fifth smaller.
var indent = regexp.MustCompile(`\n[ \t]+`)

func parseInto(t *template.Template, file string) (*template.Template, error) {
	raw, err := templateFiles.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return t.New(strings.TrimPrefix(file, "templates/")).Parse(indent.ReplaceAllString(string(raw), "\n"))
}

func (s *server) funcs() template.FuncMap {
	return template.FuncMap{
		"asset":  s.asset,
		"mm":     func(m float64) string { return fmt.Sprintf("%.3f", m*1e3) },
		"inch":   func(m float64) string { return fmt.Sprintf("%.4f", m/units.Inch) },
		"pct":    func(x float64) string { return fmt.Sprintf("%.0f", x*100) },
		"num":    func(n int, x float64) string { return strings.Replace(units.Digits(x, n), "−", "-", 1) },
		"inH2O":  func(p float64) string { return fmt.Sprintf("%.2f", p/units.InH2O) },
		"litres": func(v float64) string { return fmt.Sprintf("%.3g", v*1e3) },
		"class":  verdictClass,
		"traces": traces,
		"clock": func(t time.Time) string {
			if midnight(t.Local()).Equal(midnight(s.shop.Now().Local())) {
				return t.Local().Format("15:04")
			}
			return t.Local().Format("2 Jan")
		},
		"day":     func(t time.Time) string { return t.Local().Format("Mon 2 Jan") },
		"moment":  func(t time.Time) string { return t.Local().Format("Mon 2 Jan 2006, 15:04") },
		"date":    sayDate,
		"explain": s.shop.Book.Explain,
		"part": func(k string) string {
			if p, ok := s.shop.Book.Fault(k); ok {
				return p.Name
			}
			return k
		},
		"caution": func(k string) string { return both(s.shop.Book.Caution(k)) },
		"context": func(k string) string {
			for _, c := range s.shop.Book.Contexts {
				if c.Key == k {
					return plumbing.Lower(c.Name)
				}
			}
			return k
		},
		"testname": func(k string) string { t, _ := s.shop.Book.Test(k); return t.Name },
		"deref":    func(p *float64) float64 { return *p },
		"has": func(list []string, s string) bool {
			for _, x := range list {
				if x == s {
					return true
				}
			}
			return false
		},
		"quantity":  quantity,
		"rooms":     func() []room { return rooms },
		"navrooms":  navRooms,
		"room":      roomNamed,
		"shortcuts": func() []shortcut { return shortcuts },
		"lower":     plumbing.Lower,
		"join":      func(of []string) string { return strings.Join(of, "; ") },
		"upper":     casework.Upper,
		"kitname":   func(k string) string { return s.shop.Book.KitNamed(k).Name },
		"both":      both,
		"inc":       func(i int) int { return i + 1 },
		"times": func(i int) string { // which repetition a field is for
			if i == 0 {
				return ""
			}
			return fmt.Sprintf(", time %d", i+1)
		},
		"second": func(unit string) string {
			return map[string]string{"inH2O": "kPa", "inHg": "kPa", "psi": "kPa", "hPa": "inHg", "kPa": "inHg", "°C": "°F", "L/min": "ft³/h"}[unit]
		},
		"list": func(of ...any) []any { return of },
		"dict": func(kv ...any) map[string]any {
			m := map[string]any{}
			for i := 0; i+1 < len(kv); i += 2 {
				m[fmt.Sprint(kv[i])] = kv[i+1]
			}
			return m
		},
	}
}

// quantityField is a field with its unit beside it and a second one under it.
type quantityField struct {
	Name, Label string
	Kind, Bare  string // what it measures, and the unit of a bare number
	Value       string
	Beside      string // the value in its second unit
	Units       string // that it may be tapped in, between spaces; empty where there is but one
}

// mostUnits is how many units a field offers to the finger.
const mostUnits = 5

// quantity makes a field of a kind by its name.
func quantity(name, label, kind, bare, value string) quantityField {
	q := quantityField{Name: name, Label: label, Kind: kind, Bare: bare, Value: value}
	if k, ok := kindOf(kind); ok {
		q.Beside, _ = units.Beside(value, k, bare)
		offered := []string{bare}
		for _, u := range units.Symbols(k) {
			if u != bare && !strings.Contains(u, " ") && len(offered) < mostUnits {
				offered = append(offered, u)
			}
		}
		q.Units = strings.Join(offered, " ")
	}
	return q
}

// kindOf is the kind of quantity that a field names.
func kindOf(name string) (units.Kind, bool) {
	for k, n := range kindNames {
		if n == name {
			return k, true
		}
	}
	return 0, false
}

// pressures are figures in the trade's units inside a sentence.
var pressures = regexp.MustCompile(`([−-]?\d+(?:\.\d+)?)( to (\d+(?:\.\d+)?))? (inH2O|inHg|psi)`)

// both puts the second unit behind every pressure of a sentence that has none yet:
// service texts mix inches of water and of mercury.
func both(s string) string {
	var b strings.Builder
	last := 0
	for _, m := range pressures.FindAllStringSubmatchIndex(s, -1) {
		b.WriteString(s[last:m[1]])
		last = m[1]
		if strings.HasPrefix(s[last:], " (") {
			continue
		}
		u := units.Must(s[m[8]:m[9]], units.Pressure)
		kPa := func(from, to int) string {
			x, err := strconv.ParseFloat(strings.Replace(s[from:to], "−", "-", 1), 64)
			if err != nil {
				return "?"
			}
			return units.Digits(u.ToSI(x)/1e3, 2)
		}
		b.WriteString(" (" + kPa(m[2], m[3]))
		if m[6] >= 0 {
			b.WriteString(" to " + kPa(m[6], m[7]))
		}
		b.WriteString(" kPa)")
	}
	b.WriteString(s[last:])
	return b.String()
}

// verdictClass is the colour of an outcome: within the limit is not the colour of
// tight, which it is not.
func verdictClass(outcome record.Outcome) string {
	switch outcome {
	case record.OverLimit, record.CannotPressurise:
		return "over"
	case record.CannotTell:
		return "cannot"
	}
	return "within"
}

func sayDate(s string) string {
	if t, err := time.Parse(time.DateOnly, s); err == nil {
		return t.Format("Mon 2 Jan 2006")
	}
	return s
}

// inUnit writes an SI value in a unit for a field; empty when zero and optional.
func inUnit(si float64, k units.Kind, symbol string, digits int) string {
	if si == 0 || math.IsNaN(si) {
		return ""
	}
	return strconv.FormatFloat(units.Must(symbol, k).FromSI(si), 'g', digits, 64)
}
