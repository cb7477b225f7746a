// Package diagnose holds what the best technician does in the head: what may be wrong,
// how likely each of it is after all that was seen, and what to do next.
//
// A [Model] is made of one car. What may be wrong with it are exclusive explanations: one
// fault, a pair of them, no fault present now, or something that the Book does not
// know. Each fault comes in steps of severity, and all of them on one of a few kinds of
// car (Spread), so that two readings that see the same hole, or the same fuel, are not
// counted twice. Inference is exact: every explanation, step and kind of car is weighed.
//
// Evidence becomes likelihood. What the plant can say is read from a table that the plant
// made ([Table]); what follows from where holes are (a hold, smoke) is worked out from the
// plumbing of this very car; what neither can say is set by hand with its reason (signs of
// the Book). The plant is one car with one control unit: of codes and of what tests show,
// what practice knows of other makers and of hands is mixed with what the plant says. A hold
// enters as a curve over the diameter ([Curve]), a number as a number, a word as the odds of
// that word.
//
// Pairs are put together from their singles: areas of holes add, numbers add what each
// changes, each fault shows its own word. They are never simulated.
//
// Evidence within one epoch may come in any order. A repair ends an epoch: what stood
// before it becomes the prior of what comes after. A unit, a hand and a car that answer as they
// did before are no second witness: see filter, which carries the odds through an epoch and
// tells apart the cars on which its repairs changed something.
//
// [State.Next] ranks what may be done, tests and everything that is no test ([Move]), by the
// expected cost from then on, in minutes and what is worth minutes: two moves deep,
// and from there on by the rule of thumb that always tries what finds most for its cost
// ("Decision-theoretic troubleshooting", Communications of the ACM, March 1995; from memory).
package diagnose
