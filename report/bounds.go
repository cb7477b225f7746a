package report

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"

	"wexter/core/record"
)

// How much a bundle may hold before it is taken apart, so that a file of brackets cannot
// fill the memory. All that a shop keeps lies below: see the limits in core/record.
const (
	mostValues = 400_000   // besides readings
	mostText   = 17 << 20  // bytes of one text: a photo
	mostTexts  = 140 << 20 // of all texts
	mostKeys   = 200       // of one object
	mostDepth  = 12
)

// listLimits are how long lists may be, by their name; all others hold record.MostEntries.
var listLimits = map[string]int{"time_s": record.MostReadings, "gauge_pa": record.MostReadings, "wall_k": record.MostReadings, columnName: record.MostReadings, "gaps": record.MostGaps, "runs": record.MostRuns}

// columnName is the list whose readings may be null: there the channel gave nothing.
const columnName = "read"

// mayBeNull are the names of fields that may be left out with null.
var mayBeNull = nullable(reflect.TypeFor[Bundle](), map[string]bool{})

func nullable(t reflect.Type, names map[string]bool) map[string]bool {
	switch t.Kind() {
	case reflect.Pointer, reflect.Slice:
		return nullable(t.Elem(), names)
	case reflect.Struct:
		if t == reflect.TypeFor[time.Time]() {
			return names
		}
		for f := range t.NumField() {
			f := t.Field(f)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if k := f.Type.Kind(); k == reflect.Pointer || k == reflect.Slice || k == reflect.Map || f.Type == reflect.TypeFor[record.Blob]() {
				names[name] = true
			}
			if f.Type == reflect.TypeFor[record.Blob]() {
				nullable(reflect.TypeFor[record.Summary](), names)
			}
			nullable(f.Type, names)
		}
	}
	return names
}

// walker goes over the text of a bundle once, without taking anything apart, and counts.
// What is no JSON it leaves to the decoder, which looks at all of the text before it keeps
// any of it.
type walker struct {
	data   []byte
	at     int
	values int
	texts  int // bytes
	path   []hop
}

// hop is a field of an object, or, without a name, a place in a list.
type hop struct {
	name  []byte
	index int
}

// bounded refuses a bundle that holds more than one may, or nothing where something must
// stand; the error names the place.
func bounded(data []byte) error {
	w := walker{data: data}
	return w.value(nil)
}

// where names the place as in tests[1].runs[0].
func (w *walker) where() string {
	var b strings.Builder
	for i, s := range w.path {
		switch {
		case s.name == nil:
			fmt.Fprintf(&b, "[%d]", s.index)
		case i > 0:
			b.WriteString("." + clip(string(s.name)))
		default:
			b.WriteString(clip(string(s.name)))
		}
	}
	return b.String()
}

// peek is the next byte that is no blank; 0 at the end.
func (w *walker) peek() byte {
	for w.at < len(w.data) {
		switch c := w.data[w.at]; c {
		case ' ', '\t', '\r', '\n':
			w.at++
		default:
			return c
		}
	}
	return 0
}

// value goes over one value, which belongs to the field of a name.
func (w *walker) value(name []byte) error {
	if w.values++; w.values > mostValues {
		return fmt.Errorf("the bundle holds more than %d values; at %s it was given up", mostValues, w.where())
	}
	if len(w.path) > mostDepth {
		return fmt.Errorf("the bundle is nested too deep at %s", w.where())
	}
	switch w.peek() {
	case '{':
		return w.object()
	case '[':
		if most, ok := listLimits[string(name)]; ok && most == record.MostReadings {
			return w.readings(name)
		}
		return w.list(name)
	case '"':
		n := len(w.text())
		if w.texts += n; n > mostText || w.texts > mostTexts {
			return fmt.Errorf("the bundle holds a text of %d MB at %s, and %d MB of texts up to there; it was given up", n>>20, w.where(), w.texts>>20)
		}
		return nil
	}
	return w.word(name)
}

// word goes over a number, true, false or null.
func (w *walker) word(name []byte) error {
	from := w.at
	for w.at < len(w.data) {
		if c := w.data[w.at]; c == ',' || c == ']' || c == '}' || c <= ' ' {
			break
		}
		w.at++
	}
	if w.at == from {
		return nil
	}
	switch c := w.data[w.at-1]; {
	case c >= '0' && c <= '9', c == 'e': // a number, true or false
		return nil
	}
	switch word := strings.ToLower(clip(string(w.data[from:w.at]))); {
	case word == "null" && !mayBeNull[string(name)]:
		return fmt.Errorf("the bundle holds null at %s, where something must stand", w.where())
	case word == "nan", strings.HasSuffix(word, "inf"), strings.HasSuffix(word, "infinity"):
		return fmt.Errorf("the bundle holds %s at %s, which is no number", word, w.where())
	}
	return nil
}

// text goes over a string and returns it as it is written.
func (w *walker) text() []byte {
	from := w.at + 1
	for w.at++; w.at < len(w.data) && w.data[w.at] != '"'; w.at++ {
		if w.data[w.at] == '\\' {
			w.at++
		}
	}
	to := min(w.at, len(w.data))
	w.at = min(w.at+1, len(w.data))
	return w.data[min(from, to):to]
}

func (w *walker) object() error {
	w.at++
	for keys := 0; w.peek() == '"'; keys++ {
		if keys >= mostKeys {
			return fmt.Errorf("the bundle has more than %d fields at %s", mostKeys, w.where())
		}
		name := w.text()
		if w.peek() != ':' {
			return nil
		}
		w.at++
		w.path = append(w.path, hop{name: name})
		if err := w.value(name); err != nil {
			return err
		}
		w.path = w.path[:len(w.path)-1]
		if w.peek() != ',' {
			break
		}
		w.at++
	}
	if w.peek() == '}' {
		w.at++
	}
	return nil
}

// list goes over a list.
func (w *walker) list(name []byte) error {
	most := record.MostEntries
	if own, ok := listLimits[string(name)]; ok {
		most = own
	}
	w.at++
	for n := 0; ; n++ {
		if c := w.peek(); c == ']' || c == 0 {
			break
		}
		if n >= most {
			return fmt.Errorf("the bundle has more than %d entries in %s", most, w.where())
		}
		w.path = append(w.path, hop{index: n})
		if err := w.value(nil); err != nil {
			return err
		}
		w.path = w.path[:len(w.path)-1]
		if w.peek() != ',' {
			break
		}
		w.at++
	}
	if w.peek() == ']' {
		w.at++
	}
	return nil
}

// readings goes over a list of numbers; they are counted by themselves.
func (w *walker) readings(name []byte) error {
	if string(name) != columnName {
		name = nil // nothing in it may be null
	}
	w.at++
	for n := 0; ; n++ {
		switch w.peek() {
		case ']':
			w.at++
			return nil
		case 0, '{', '[', '"': // left to the decoder
			return nil
		}
		if n >= record.MostReadings {
			return fmt.Errorf("the bundle has more than %d entries in %s", record.MostReadings, w.where())
		}
		w.path = append(w.path, hop{index: n})
		if err := w.word(name); err != nil {
			return err
		}
		w.path = w.path[:len(w.path)-1]
		switch w.peek() {
		case ',':
			w.at++
		case ']':
		default:
			return nil
		}
	}
}

// Numbers and moments that a bundle may hold: wider than anything that is checked by name.
const (
	mostNumber = 1e12 // a module's clock may show the seconds since 1970
	firstYear  = 1970
	lastYear   = 2200
)

// sane refuses numbers and moments that cannot be, wherever they stand.
func sane(b Bundle) error { return saneValue(reflect.ValueOf(b), "") }

func saneValue(v reflect.Value, at string) error {
	switch v.Kind() {
	case reflect.Float64:
		if x := v.Float(); !(x >= -mostNumber && x <= mostNumber) {
			return fmt.Errorf("the bundle holds %g at %s; that cannot be", x, strings.TrimPrefix(at, "."))
		}
	case reflect.Int, reflect.Int64:
		if x := v.Int(); x < -mostNumber || x > mostNumber {
			return fmt.Errorf("the bundle holds %d at %s; that cannot be", x, strings.TrimPrefix(at, "."))
		}
	case reflect.Pointer:
		if !v.IsNil() {
			return saneValue(v.Elem(), at)
		}
	case reflect.Slice:
		return saneList(v, at)
	case reflect.Struct:
		if t, ok := v.Interface().(time.Time); ok {
			if y := t.Year(); y < firstYear || y >= lastYear {
				return fmt.Errorf("the bundle holds a moment of the year %d at %s; that cannot be", y, strings.TrimPrefix(at, "."))
			}
			return nil
		}
		for i := range v.NumField() {
			f := v.Type().Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if f.Anonymous {
				name = ""
			} else if name == "" || name == "-" {
				continue
			} else {
				name = "." + name
			}
			if err := saneValue(v.Field(i), at+name); err != nil {
				return err
			}
		}
	}
	return nil
}

func saneList(v reflect.Value, at string) error {
	if v.Type().Elem().Kind() == reflect.Uint8 || v.Type().Elem().Kind() == reflect.String {
		return nil
	}
	holes := v.Type() == reflect.TypeFor[record.Column]()
	for i := range v.Len() {
		if holes && math.IsNaN(v.Index(i).Float()) {
			continue
		}
		if err := saneValue(v.Index(i), at+"["+strconv.Itoa(i)+"]"); err != nil {
			return err
		}
	}
	return nil
}

// blobSane is sane for a result that is kept as JSON.
func blobSane(x record.Blob, at string) error {
	if x == "" {
		return nil
	}
	var s record.Summary
	if err := json.Unmarshal([]byte(x), &s); err != nil {
		return fmt.Errorf("the result at %s in the bundle cannot be read", at)
	}
	return saneValue(reflect.ValueOf(s), at)
}
