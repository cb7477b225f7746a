// Package circuit is an electrical circuit of a car: how a part is fed, switched and read,
// what a meter shows at each of its points, and which measurement to take next.
//
// A [Circuit] is data: points ([Node]), what joins them ([Link]), what can be measured
// ([Measure]) and where the current can be lost ([Break]). What a meter shows with a break is
// never written down: [Circuit.Reads] solves the network of resistances for it, with the
// connectors apart, the test load joined and the meter's own resistance in place, so that a
// corroded joint reads twelve volts as long as nothing draws current, as it does on a car.
//
//	Σ (Vi − Vk)/R = I   at every point, with a source as the current U/R beside its own R
//
// A reading falls into a [Band] of its measure. A [Tree] knows which band every break shows; what
// was found leaves the breaks that fit, and [Tree.Next] is the measurement that is expected to
// tell most about them:
//
//	H = −Σ p·log2 p,   gain = H − Σ share(band)·H(band)
//
// [Tree.Contradicts] names the reading to take again where none of the breaks fits.
//
// The method is nodal analysis (Ho, Ruehli and Brennan, The modified nodal approach to network
// analysis, IEEE Transactions on Circuits and Systems 22, 1975, value from memory), and the
// greedy choice by information that of diagnostic decision trees (Johnson, Optimum test
// sequencing by information theory, 1960, value from memory).
package circuit
