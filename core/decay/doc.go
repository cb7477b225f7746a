// Package decay turns the pressure trace of a sealed EVAP system into the
// diameter of its leak, with an interval and a verdict that may be "cannot tell
// yet".
//
// # The model
//
// A test has one or more legs: sealed at zero gauge (the drift leg), held at
// pressure, held at vacuum, and any of these again with a known orifice added.
// All legs are fitted together. In each, with gauge pressure p split into an
// isothermal part q and a thermal part ψ,
//
//	dq/dt = −κ·f(p) + g
//	dψ/dt = (W(t) − ψ)/τ − (γ−1)·(κ·f(p) − g)
//	p     = q + ψ + q·ψ/barometer
//
// where κ = A/V is the leak's area over the volume, f(p) the compressible
// orifice flow per unit area as a volume rate of change of pressure, g the drift
// (vapour that the fuel gives off), W the wall temperature expressed as pressure,
// and τ the time in which the gas takes the temperature of its walls. The second
// line keeps the leak's own cooling: a fast leak expands without time to take heat
// from the wall. The gauge shows p and its zero, the same on every leg.
//
// ψ starts with the heat that charging left in the gas. Where the charging was
// recorded, that heat follows from the recorded pressures and from τ; where it was
// not, it is known roughly. A regulator that holds the pressure before it is shut is
// part of the charging.
//
// # The unknowns
//
// κ (never negative), g, τ, the gauge's zero, a start pressure and a settling
// amplitude for each leg, a small change of drift from leg to leg, the share of the
// measured wall temperature that the gas feels, and how much warmer than the walls
// the gas is that was fed. They are found by Levenberg–Marquardt with sensitivities
// integrated beside the state, on a trace averaged to at most 60 knots a leg, with a
// Huber loss. A fast leak that cools its gas and a slow one in hot gas can look alike:
// the fit is made at several τ, and every valley is kept.
//
// # The noise
//
// Knots scatter by noise correlated over a knot or two, and wander slowly with
// walls that nobody measured. Both are estimated by restricted likelihood, and a
// Kalman filter makes the knots independent.
//
// # Doubts
//
// A trace that no sealed system with a leak can show (clipped, rising, still fed,
// frozen, in the wrong unit, far from any fit) gets a sentence and no firm verdict.
//
// # The interval
//
// The interval of κ is read off the profile of the fit, since near zero or near a
// balance of leak and drift a tangent ellipse is wrong. The volume enters with
// its own tolerance: A = κ·V. What each source contributes is in the budget.
package decay
