package obd

import (
	"fmt"
	"strconv"
)

// DTC returns the trouble code in two bytes: the top two bits choose the letter, the
// next two the first digit, then three hexadecimal digits (SAE J2012, from memory).
func DTC(a, b byte) string {
	return fmt.Sprintf("%c%d%X%02X", "PCBU"[a>>6], a>>4&3, a&15, b)
}

// EncodeDTC is the reverse of DTC; ok is false when code is not of that form.
func EncodeDTC(code string) (a, b byte, ok bool) {
	if len(code) != 5 {
		return 0, 0, false
	}
	var letter byte = 255
	for i := range 4 {
		if code[0] == "PCBU"[i] {
			letter = byte(i)
		}
	}
	rest, err := strconv.ParseUint(code[1:], 16, 16)
	if letter == 255 || err != nil || rest > 0x3FFF {
		return 0, 0, false
	}
	v := uint16(letter)<<14 | uint16(rest)
	return byte(v >> 8), byte(v), true
}

// CodeStatus is how firmly a control unit holds a code.
type CodeStatus string

// The statuses of a code.
const (
	Stored    CodeStatus = "stored"
	Pending   CodeStatus = "pending"
	Permanent CodeStatus = "permanent"
)

// Known reports whether s is one of the statuses.
func (s CodeStatus) Known() bool { return s == Stored || s == Pending || s == Permanent }

// Explain says what a status means and what makes it go. Two-trip logic and
// erasing: 13 CCR 1968.2 and 40 CFR 86.1806 (values from memory).
func (s CodeStatus) Explain() string {
	switch s {
	case Pending:
		return "Failed on one trip; the lamp comes on if the next trip fails as well. Goes by itself when a whole trip passes. After a repair look here first, not at the lamp."
	case Permanent:
		return "Kept where no scan tool can erase it. Goes only when its own monitor has run and passed after the repair."
	}
	return "Failed on two trips, for most monitors; the lamp is on. Three passing trips put the lamp out, some 40 warm-ups without the fault erase the code."
}

// vinWeights and vinValue: 49 CFR 565.15 (value from memory).
var vinWeights = [17]int{8, 7, 6, 5, 4, 3, 2, 10, 0, 9, 8, 7, 6, 5, 4, 3, 2}

func vinValue(c byte) int {
	if c >= '0' && c <= '9' {
		return int(c - '0')
	}
	if c < 'A' || c > 'Z' {
		return -1
	}
	return [26]int{1, 2, 3, 4, 5, 6, 7, 8, -1, 1, 2, 3, 4, 5, -1, 7, -1, 9, 2, 3, 4, 5, 6, 7, 8, 9}[c-'A']
}

// CheckVIN returns a sentence when vin is not of 17 permitted characters, or its
// ninth is not the check digit; empty when it is right.
func CheckVIN(vin string) string {
	if len(vin) != 17 {
		return fmt.Sprintf("The vehicle id %q has %d characters; 17 were expected.", vin, len(vin))
	}
	sum := 0
	for i := range 17 {
		v := vinValue(vin[i])
		if v < 0 {
			return fmt.Sprintf("The vehicle id %q has %q at place %d, which such an id never holds.", vin, vin[i], i+1)
		}
		sum += v * vinWeights[i]
	}
	if want := "0123456789X"[sum%11]; vin[8] != want {
		return fmt.Sprintf("The check digit of the vehicle id %s is %c, by reckoning it would be %c: misread, or of a market that does not use the digit. Compare it with the plate on the car.", vin, vin[8], want)
	}
	return ""
}
