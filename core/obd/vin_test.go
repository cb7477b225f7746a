package obd

import (
	"slices"
	"testing"
)

// 49 CFR 565.15, table VII, value from memory: A is 1980 and 2010, Y is 2000, 1 is 2001, 9 is
// 2009; I, O, Q, U, Z and 0 stand for none. The other signs of these ids are made up.
func TestModelYears(t *testing.T) {
	for _, c := range []struct {
		name, vin string
		latest    int
		want      []int
	}{
		{"A", "XXXXXXXXXAXXXXXXX", 2027, []int{1980, 2010}},
		{"Y", "XXXXXXXXXYXXXXXXX", 2027, []int{2000}},
		{"9", "XXXXXXXXX9XXXXXXX", 2027, []int{2009}},
		{"R, before its second turn", "XXXXXXXXXRXXXXXXX", 2023, []int{1994}},
		{"R, in its second turn", "XXXXXXXXXRXXXXXXX", 2024, []int{1994, 2024}},
		{"small letters and spaces", " xxxxxxxxxkxxxxxxx ", 2027, []int{1989, 2019}},
		{"0 stands for none", "XXXXXXXXX0XXXXXXX", 2027, nil},
		{"U stands for none", "XXXXXXXXXUXXXXXXX", 2027, nil},
		{"too short", "XXXXXXXXXA", 2027, nil},
		{"empty", "", 2027, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := ModelYears(c.vin, c.latest); !slices.Equal(got, c.want) {
				t.Errorf("ModelYears(%q, %d) = %v, want %v", c.vin, c.latest, got, c.want)
			}
		})
	}
}
