// Package network moves gas through lumped volumes.
//
// A [Net] is nodes that hold gas and edges that carry it. A node keeps the mass of
// each [Species] and its energy; all species share one ratio of specific heats, γ = 1.4,
// so that pressure and energy are one thing: p·V = (γ−1)·U. What enters a node brings
// its enthalpy, what leaves takes the node's own, and the wall gives heat with a time
// constant. A wall may stretch with pressure and does work then.
//
//	dMs/dt = Σ ṁ·ys(upstream)
//	d(pV/(γ−1) + ∫p dV)/dt = Σ ṁ·γ/(γ−1)·(RT)upstream + Q
//
// Edges are orifices in both regimes, pipes, one-way valves, the swallowing of an engine
// and a blower. Time is stepped by the two-stage, stiffly accurate, L-stable SDIRK of
// second order (Alexander, SIAM Journal on Numerical Analysis, 1977, from memory) with
// an embedded error estimate filtered through the implicit operator. Each stage is a
// Newton iteration on the pressures and a donor-cell solve for the masses, whose columns
// sum to zero: what one node loses another gains, to rounding.
//
// Units are SI: Pa absolute, K, m³, kg, s. Nothing here knows what a car is.
package network
