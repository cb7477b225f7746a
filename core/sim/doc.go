// Package sim is the plant: what a simulated car does, from mass and energy alone.
// So far it is one closed volume, the vapour space behind its caps: a leak, heat of
// charging, what the fuel gives off, a wall that warms or cools, a relief valve, and
// the rig's supply.
//
// Equations. Mass m of air in the volume V at temperature T obeys p·V = m·R·T. What
// enters brings its enthalpy, what leaves takes its own, and the wall at Tw gives
// heat with time constant τ:
//
//	dm/dt = Σ in − Σ out
//	d(m·cv·T)/dt = Σ in·cp·Tin − Σ out·cp·T + m·cv·(Tw − T)/τ
//
// Leak and relief are orifices (package gas). Noise is drawn by who reads, never by
// the solver. The same vessel and the same commands give the same run.
package sim
