// Package units turns what a person types into SI numbers, and SI numbers into
// what a person reads.
//
// Inside Wexter every number is SI: pascal, metre, cubic metre, kelvin, second.
// At the edges people write "13", "13 inH2O", "3,2 kPa", "0.020 in" or "42L".
// A [Kind] names the dimension a field expects; [Parse] accepts a number with or
// without a unit of that kind, and [Format] writes a value in one unit with a
// second one beside it, because service texts mix inches of water with inches of
// mercury and a lone number is easily misread.
//
//	v, err := units.Parse("13 inH2O", units.Pressure, "inH2O") // 3238.2 (Pa)
//
// Conversion factors: NIST Special Publication 811, Guide for the Use of the
// International System of Units, 2008 (values from memory): inH2O at 4 °C
// 249.089 Pa, inHg at 0 °C 3386.39 Pa, psi 6894.757 Pa.
package units
