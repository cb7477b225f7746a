// Package gas holds the physics of a small leak: flow of air through an orifice
// in both regimes, the closed volume, the atmosphere with height, and the vapour
// pressure of gasoline.
//
// A leak is stated as the diameter of the sharp orifice that would pass the same
// flow at a discharge coefficient of 0.61. Real holes differ: short bores run at
// 0.7 to 0.8 and a sharp orifice rises towards 0.8 when choked, so the number is
// an equivalent, not what a ruler in the hole would read.
//
// All quantities are SI: pressures in Pa, absolute unless the name says gauge,
// temperatures in K, mass flow in kg/s.
package gas
