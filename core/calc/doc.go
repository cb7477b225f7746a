// Package calc is the arithmetic of the trade as calculators: what is asked for, in
// which unit, and what comes out, with the source of the formula. A calculator takes
// what was typed and answers in lines, each value with a second unit beside it.
package calc
