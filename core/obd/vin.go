package obd

import "strings"

// yearLetters are the model years that the tenth sign of a vehicle id stands for, from 1980
// on, again every thirty years: 49 CFR 565.15, table VII, value from memory. ISO 3779 leaves
// that place to the maker, so that a disagreement is a question and no proof.
const (
	yearLetters = "ABCDEFGHJKLMNPRSTVWXY123456789"
	firstYear   = 1980
	yearPlace   = 9 // from 0
	vinLength   = 17
)

// ModelYears are the model years that a vehicle id may mean, up to latest; none where its
// tenth sign names no year.
func ModelYears(vin string, latest int) (years []int) {
	vin = strings.ToUpper(strings.TrimSpace(vin))
	if len(vin) != vinLength {
		return nil
	}
	i := strings.IndexByte(yearLetters, vin[yearPlace])
	if i < 0 {
		return nil
	}
	for y := firstYear + i; y <= latest; y += len(yearLetters) {
		years = append(years, y)
	}
	return years
}
