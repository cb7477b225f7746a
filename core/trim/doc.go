// Package trim reads what an engine's fuel trims say about its air and its fuel.
//
// # What a trim measures
//
// A control unit that runs in closed loop multiplies the fuel it reckons with by (1+S)(1+L),
// short trim and long trim, until the exhaust is neither rich nor lean. The total
//
//	y = (1+S)(1+L) − 1
//
// therefore says by how much its reckoning misses the fuel that the engine needs. Where air
// enters that was not metered, y = u/M: unmetered over metered air. What else can miss is
// written down in the same way, for each point at which the engine ran steadily:
//
//	ln(1+y) = a − f + base          a: air inhaled over air reckoned with
//	ln(M/D) = breathing − a − e     f: fuel delivered over fuel reckoned with
//
// The second line is the second opinion on the air, where both a meter and manifold pressure
// were logged: M is what the meter says, D what speed and density give (D counts recirculated
// gas as air, which is e). A fault of the air shows in both lines, a fault of the fuel in the
// first alone, recirculated gas in the second alone.
//
// # Points
//
// Find cuts a log to what counts: warm, in closed loop, steady, with purge standing still.
// The rest is kept as cut, with its reason. Steady stretches at like flow and pressure make
// one point, with the noise of its own mean.
//
// # Causes
//
// Each cause says how a and f go with flow and pressure for one size: a hole behind the
// throttle by the orifice at the pressure that was read; a split inlet pipe as a share, since
// the depression that drives it goes with the square of the flow; a meter by its scale and
// how that bends; a pump by what it lacks at the largest flow; vapour or a leaking injector
// as fuel that does not depend on the flow; a charge pipe by an orifice under boost; purge by
// its duty; recirculated gas by an orifice from the exhaust. All share a base trim that every
// healthy car has, a breathing known to ±10 %, and a scatter from point to point.
//
// # Odds
//
// For each cause and size the shared unknowns are found by iterated reweighting under a loss
// that strays do not drag along, and integrated out (Laplace). What is left is a curve over
// the size: its integral against the prior is the cause's marginal likelihood, its profile the
// interval of the size. Causes whose likelihoods differ by less than what one would bet on are
// said to be ambiguous, with what would tell them apart: a meter that reads low and a split
// inlet pipe look alike in every log.
//
// References: J. B. Heywood, Internal Combustion Engine Fundamentals, McGraw-Hill, 1988 (speed
// density, volumetric efficiency); SAE J1979, 2014 (what the data mean); both from memory.
package trim
