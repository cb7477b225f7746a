// Package sim is the plant: what a simulated car does, from mass and energy alone, and
// what its control unit makes of it.
//
// A [Car] is built by [NewCar] from the plumbing that the Map is drawn from. Volumes,
// joints and the sides of valves become nodes of a gas network (package network), lines
// and valves its edges; tank, carbon, engine, turbocharger and control unit stand on top.
// It is driven ([Car.Drive]), left alone ([Car.Run]), commanded by a tool
// ([Car.Command]), worked on by hand ([Car.Set], [Car.Connect], [Car.Refuel]) and
// measured; [Try] does a test of the Book on it as a technician would.
//
// What a fault does is a list of quantities put elsewhere ([Car.Apply]). Nothing here
// knows a fault by name. Parts say by their role what they are, and by their data what
// moves them.
//
// The control unit ([Unit]) reads sensors, never the truth. Noise is drawn by who reads,
// never by the solver. The same car, seed and commands give the same run.
//
// A [Plant] is the simplest thing to put a gauge on: one closed volume with a leak, heat
// of charging, drift and a relief, for a pressure module that needs no car behind it.
//
//	dm/dt = Σ in − Σ out
//	d(m·cv·T)/dt = Σ in·cp·Tin − Σ out·cp·T + m·cv·(Tw − T)/τ
package sim
