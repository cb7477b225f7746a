// Package plumbing describes what is joined to what in a car: the volumes that hold
// gas, the lines between them, and the valves, covers and sensors that sit on them.
//
// A [Part] is one thing a hand can touch. Volumes (a tank, a canister, a manifold)
// pass gas between all their sides; a valve passes it between two sides when it is
// open; a line joins the side of one part to the side of another and may offer a
// plug point at one of its ends. Parts come in archetypes, one for each family (how
// the EVAP system checks itself, how the engine meters its air, how the crankcase
// breathes, how exhaust is led back, how air is charged). A car is a [Combination]
// of archetypes; [Library.Combine] joins their parts into a [Graph], or says why
// such a car cannot be.
//
// The graph answers the questions of a leak hunt: which parts stand under the
// gauge's pressure with these valves shut and these lines plugged ([Graph.Reach]),
// and into which sections the plug points cut the car ([Graph.Sections]).
//
// Pressures are in Pa, lengths in m, volumes in m³. Rest states belong to the
// archetype and never to a valve's name. Sizes are typical of a small car and serve
// as starting values: common practice, no source.
package plumbing
