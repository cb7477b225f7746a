// Package live reads modules for the benches: one Bench a test, each with its own
// connection, one batched commit every fifth of a second for all of them, and an estimate
// twice a second. Browsers look at a bench by asking for what is new since what they
// have; several may look at one. When the program stops, however it stops, the run
// is in the shop as far as it was written, and is taken up again by Resume.
package live
