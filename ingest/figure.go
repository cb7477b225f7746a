package ingest

import (
	"math"
	"strings"

	"wexter/core/units"
)

// ReadFigure reads a typed figure of a test into the Book's unit for it; nothing typed is
// NaN. Quantities take any unit of their kind, others a bare number.
func ReadFigure(typed, unit string) (float64, error) {
	typed = strings.TrimSpace(typed)
	if typed == "" {
		return math.NaN(), nil
	}
	if k, ok := units.KindOf(unit); ok {
		v, err := units.Parse(typed, k, unit)
		if err != nil {
			return 0, err
		}
		return math.Round(units.Must(unit, k).FromSI(v)*1e9) / 1e9, nil
	}
	if unit != "" {
		typed = strings.TrimSpace(strings.TrimSuffix(typed, unit))
	}
	return units.Number(typed)
}
