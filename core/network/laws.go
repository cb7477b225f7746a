package network

import (
	"math"

	"wexter/core/gas"
)

const (
	gamma = gas.Gamma
	hCp   = gamma / (gamma - 1) // of R·T: specific enthalpy
	soft  = 1.0                 // Pa; the root of an orifice is rounded off below it
	muAir = 1.81e-5             // Pa·s, air at 20 °C, value from memory of Incropera, Fundamentals of Heat and Mass Transfer
)

// The flow function squared is ψ² = (1−r)·q(r) with a smooth q: it is tabulated once
// and read by a cubic between knots, to some 1e-9.
const knots = 128

var (
	critical = gas.CriticalRatio(gamma)
	choked   = gas.CriticalFlowFunction(gamma)
	table    = tabulate()
)

func tabulate() (t [knots + 3]float64) {
	h := (1 - critical) / knots
	for i := range t {
		r := critical + h*float64(i-1)
		if 1-r < 1e-9 && r <= 1 {
			r = 1 - 1e-9
		}
		k := (gamma - 1) / gamma
		t[i] = 2 / k * math.Pow(r, 2/gamma) * -math.Expm1(k*math.Log(r)) / (1 - r)
	}
	return t
}

// q returns q(r) and dq/dr for r between the critical ratio and 1.
func q(r float64) (v, d float64) {
	const n = float64(knots)
	w := 1 - critical
	x := (r - critical) / w * n
	i := min(int(x), knots-1)
	s := x - float64(i)
	a, b, c, e := table[i], table[i+1], table[i+2], table[i+3]
	// Catmull-Rom through b and c.
	c1, c2, c3 := (c-a)/2, a-2.5*b+2*c-e/2, (e-a)/2+1.5*(b-c)
	return b + s*(c1+s*(c2+s*c3)), (c1 + s*(2*c2+s*3*c3)) * n / w
}

// orifice returns the flow from 1 to 2 for p1 ≥ p2 through an effective area (area times
// coefficient), with its derivatives by p1 and p2; rt is upstream.
func orifice(area, p1, p2, rt float64) (m, d1, d2 float64) {
	if area <= 0 {
		return 0, 0, 0
	}
	k := area / math.Sqrt(rt)
	r := p2 / p1
	if r <= critical {
		return k * p1 * choked, k * choked, 0
	}
	dp := p1 - p2
	v, dv := q(r)
	// m = k·√(p1·q)·s(dp), s the softened root of dp.
	root := math.Sqrt(p1 * v)
	base := dp*dp + soft*soft
	four := math.Sqrt(math.Sqrt(base))
	s := dp / four
	ds := (dp*dp/2 + soft*soft) / (base * four)
	m = k * root * s
	g1 := (v - r*dv) / (2 * root) // d√(p1·q)/dp1
	g2 := dv / (2 * root)
	return m, k * (g1*s + root*ds), k * (g2*s - root*ds)
}

// pipe returns the flow from 1 to 2 for p1 ≥ p2 through a pipe of the given laminar and
// turbulent coefficients: Δp = (a·m + b·m²)/ρ with the density at the mean pressure.
func pipe(a, b, p1, p2, rt float64) (m, d1, d2 float64) {
	rho := (p1 + p2) / 2 / rt
	dp := p1 - p2
	root := math.Sqrt(a*a + 4*b*rho*dp)
	m = 2 * rho * dp / (a + root)
	// dm/d(ρΔp) = 1/√(a²+4bρΔp)
	g := 1 / root
	return m, g * (rho + dp/(2*rt)), g * (-rho + dp/(2*rt))
}

// coefficients of a pipe of given bore and length (m): laminar by Hagen and Poiseuille,
// turbulent with a friction factor of 0.025 and losses at both ends of 1.5 velocity heads
// (Darcy and Weisbach; values from memory of White, Fluid Mechanics).
func coefficients(bore, length float64) (a, b float64) {
	area := gas.Area(bore)
	return 128 * muAir * max(length, 0.01) / (math.Pi * bore * bore * bore * bore), (0.025*length/bore + 1.5) / (2 * area * area)
}
