// Package smoke follows smoke through a sealed EVAP system: how far its front is, and how long
// until it comes to a place.
//
// Every part that holds gas is a mixed cell. While the far end stands open what the rig gives goes
// from the entry to the far end and fills one cell after the other; what branches off stands still.
// Once the far end is shut gas moves only towards leaks: a place then fills as fast as a hole at
// the limit would draw it, and never faster than the rig gives. A place counts as reached from a
// tenth of the smoke that the rig makes on (chosen).
//
// Source: well-mixed volumes in a row, 1 − e^(−Qt/V) each (Levenspiel, Chemical Reaction
// Engineering, 1972, value from memory).
package smoke
