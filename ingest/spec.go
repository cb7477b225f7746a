package ingest

import (
	"fmt"
	"math"
	"regexp"
	"strings"

	"wexter/core/units"
)

// Spec is a value as a book states it, in the unit that was asked for: one figure, with
// Low and High alike, or a stretch. Half is half of the last place written: what the book
// rounded away.
type Spec struct{ Low, High, Half float64 }

// Meets reports whether two values can both be true, rounded as they are.
func (s Spec) Meets(o Spec) bool {
	return s.Low-s.Half <= o.High+o.Half && o.Low-o.Half <= s.High+s.Half
}

// Holds reports whether a measured value can be what is stated.
func (s Spec) Holds(x float64) bool { return s.Low-s.Half <= x && x <= s.High+s.Half }

var (
	figurePart = regexp.MustCompile(`^([+\-−]?[0-9][0-9.,   ]*)(.*)$`)
	stretch    = regexp.MustCompile(`^(.*?[0-9][^0-9]*?)\s*(?:\bto\b|–|—|\.\.+|-)\s*([0-9+].*)$`)
	around     = regexp.MustCompile(`^(.*[0-9].*?)\s*(?:±|\+/-|\+-)\s*([0-9].*)$`)
)

// ReadSpec reads a value as books state it: "0.020 in", "20 to 26 ohm", "24 ± 2 ohm". A
// unit with dimensions must be written; other figures may do without theirs.
func ReadSpec(text, unit string) (Spec, error) {
	text = strings.TrimSpace(strings.NewReplacer("Ω", "ohm", "Ω", "ohm").Replace(text))
	if text == "" {
		return Spec{}, fmt.Errorf("the value is missing")
	}
	if m := around.FindStringSubmatch(text); m != nil {
		spread, half, err := stated(m[2], m[2], unit)
		if err != nil {
			return Spec{}, err
		}
		middle, _, err := stated(m[1], m[2], unit)
		if err != nil {
			return Spec{}, err
		}
		// The spread is a difference: what its unit adds at zero is taken off.
		zero, _, err := stated("0", m[2], unit)
		if err != nil {
			return Spec{}, err
		}
		spread -= zero
		return Spec{middle - spread, middle + spread, half}, nil
	}
	if m := stretch.FindStringSubmatch(text); m != nil {
		high, half, err := stated(m[2], m[2], unit)
		if err != nil {
			return Spec{}, err
		}
		low, _, err := stated(m[1], m[2], unit)
		if err != nil {
			return Spec{}, err
		}
		if low > high {
			return Spec{}, fmt.Errorf("%q begins above its end", clip(text))
		}
		return Spec{low, high, half}, nil
	}
	v, half, err := stated(text, text, unit)
	return Spec{v, v, half}, err
}

// stated reads one figure; the unit stands behind it or, in a stretch, behind the last one.
func stated(text, last, unit string) (v, half float64, err error) {
	text = strings.TrimSpace(text)
	m := figurePart.FindStringSubmatch(text)
	if m == nil {
		return 0, 0, fmt.Errorf("%q has no number; write for example \"24 %s\"", clip(text), unit)
	}
	suffix := strings.TrimSpace(m[2])
	if suffix == "" {
		if l := figurePart.FindStringSubmatch(strings.TrimSpace(last)); l != nil {
			suffix = strings.TrimSpace(l[2])
		}
	}
	figure := strings.TrimSpace(m[1])
	read := func(figure string) (float64, error) {
		if k, ok := units.KindOf(unit); ok {
			if suffix == "" {
				return 0, fmt.Errorf("%q has no unit; books differ in theirs, so write it down", clip(text))
			}
			si, err := units.Parse(figure+" "+suffix, k, "")
			if err != nil {
				return 0, err
			}
			return units.Must(unit, k).FromSI(si), nil
		}
		if suffix != "" && !strings.EqualFold(strings.ReplaceAll(suffix, " ", ""), unit) {
			return 0, fmt.Errorf("%q is stated in %s here, not in %q", clip(text), unit, clip(suffix))
		}
		return units.Number(figure)
	}
	if v, err = read(figure); err != nil {
		return 0, 0, err
	}
	places := 0
	if i := strings.LastIndexAny(figure, ".,"); i >= 0 {
		places = len(figure) - i - 1
	}
	one, err := read("1")
	if err != nil {
		return 0, 0, err
	}
	nought, err := read("0")
	if err != nil {
		return 0, 0, err
	}
	return math.Round(v*1e9) / 1e9, 0.5 * math.Pow(10, -float64(places)) * math.Abs(one-nought), nil
}
