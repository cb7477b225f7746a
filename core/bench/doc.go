// Package bench is the one home of what a test of the Book is: what it reads, how it is
// run, and what its readings mean. Each test has a file of its own that registers a [Test]
// under the Book's key; the Book keeps the words, minutes, kit and cautions beside it.
//
// A [Channel] is one quantity that a test reads: by an instrument, or by eye. A [Phase] is
// a stretch of a test as data: what is done, how long to wait, what is then read. The page,
// the live engine and the technician on the simulated car all run the same phases.
//
// A test's Reduce turns [Readings] into a [Verdict]: the outcome, the reason in a sentence,
// and figures with their uncertainty. It is the only place where readings become an outcome,
// whether they were typed, tapped, read from an instrument, replayed or simulated. When a
// reading is missing or two contradict each other, the verdict asks for the one that decides
// it and names no outcome. When the readings lie too near to a limit the outcome is
// [CannotTell].
//
// What an outcome means (the part is sound, there is a fault, nothing is clear, the test was
// not done) stands in the Book's data, where an expert may edit it.
//
// To add a test, write one file here and one entry in the Book. [For] gives a test without
// a file: its readings are kept and a person judges it by hand.
package bench
