package obd

import "math"

// Limits of fuel trims, common practice, no source: from how many per cent on a trim stands at
// its stop, and from which difference on two banks are no longer alike.
const (
	TrimStop   = 24.0
	BanksApart = 6.0
)

// TotalTrim is the whole fuel trim of a short and a long one, all in percent: (1+S)(1+L)−1,
// since the one multiplies what the other has left.
func TotalTrim(short, long float64) float64 { return 100 * ((1+short/100)*(1+long/100) - 1) }

// TrimAtStop reports whether one of them stands at its stop, so that the total is a bound.
func TrimAtStop(short, long float64) bool {
	return math.Abs(long) >= TrimStop || math.Abs(short) >= TrimStop
}
