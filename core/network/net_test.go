package network

import (
	"fmt"
	"math"
	"testing"

	"wexter/core/gas"
)

const (
	baro = gas.StandardPressure
	t20  = 293.15
)

func air(n *Net) int { return n.Add(Node{Name: "air", Volume: 1, Fixed: true}, Gas{Air: 1}, baro, t20) }

func run(t testing.TB, n *Net, dt float64) {
	t.Helper()
	if err := n.Run(dt); err != nil {
		t.Fatal(err)
	}
}

func near(t *testing.T, what string, got, want, rel float64) {
	t.Helper()
	if math.IsNaN(got) || math.Abs(got-want) > rel*math.Abs(want) {
		t.Errorf("%s = %.8g, want %.8g to %g", what, got, want, rel)
	}
}

// The table against the closed formula of NACA Report 1135, 1953 (from memory).
func TestOrificeAgainstTheFormula(t *testing.T) {
	for _, p2 := range []float64{30e3, 53e3, 54e3, 70e3, 95e3, 101e3, 101.2e3} {
		got, d1, d2 := orifice(1e-6, baro, p2, gas.RAir*t20)
		near(t, "flow", got, gas.Orifice(1e-6, 1, baro, t20, p2), 4e-4/math.Max(1, (baro-p2)/100))
		const e = 0.5
		hi, _, _ := orifice(1e-6, baro+e, p2, gas.RAir*t20)
		lo, _, _ := orifice(1e-6, baro-e, p2, gas.RAir*t20)
		near(t, "by p1", d1, (hi-lo)/(2*e), 1e-4)
		hi, _, _ = orifice(1e-6, baro, p2+e, gas.RAir*t20)
		lo, _, _ = orifice(1e-6, baro, p2-e, gas.RAir*t20)
		if d2 != 0 || hi != lo {
			near(t, "by p2", d2, (hi-lo)/(2*e), 1e-3)
		}
	}
}

// Hagen and Poiseuille at a small difference, Darcy and Weisbach at a large one
// (White, Fluid Mechanics, from memory).
func TestPipe(t *testing.T) {
	const bore, long = 8e-3, 1.5
	a, b := coefficients(bore, long)
	rt := gas.RAir * t20
	rho := baro / rt
	m, _, _ := pipe(a, b, baro+0.01, baro, rt)
	near(t, "laminar", m, rho*0.01*math.Pi*math.Pow(bore, 4)/(128*muAir*long), 0.01)
	m, d1, d2 := pipe(a, b, baro+2000, baro, rt)
	v := m / rho / gas.Area(bore)
	near(t, "turbulent", 2000, (0.025*long/bore+1.5)*rho*v*v/2+a*m/rho, 0.02)
	hi, _, _ := pipe(a, b, baro+2001, baro, rt)
	near(t, "by p1", d1, hi-m, 1e-3)
	hi, _, _ = pipe(a, b, baro+2000, baro+1, rt)
	near(t, "by p2", d2, hi-m, 1e-3)
}

func TestLU(t *testing.T) {
	// A ring with a tail, against the residual.
	l := newLU(5, [][2]int{{0, 1}, {1, 2}, {2, 3}, {3, 0}, {3, 4}})
	full := [5][5]float64{}
	k := 1.0
	for ij, s := range l.slot {
		v := math.Sin(float64(3*ij[0] + 7*ij[1]))
		if ij[0] == ij[1] {
			v = 4 + k
		}
		if full[ij[0]][ij[1]] == 0 && (ij[0] == ij[1] || (ij[0]+1)%4 == ij[1] || (ij[1]+1)%4 == ij[0] || ij[0]+ij[1] == 7) {
			l.a[s] = v
			full[ij[0]][ij[1]] = v
		}
	}
	b := []float64{1, 2, 3, 4, 5}
	x := append([]float64(nil), b...)
	l.factor()
	l.solve(x)
	for i := range b {
		sum := 0.0
		for j := range x {
			sum += full[i][j] * x[j]
		}
		near(t, "row", sum, b[i], 1e-12)
	}
}

func leaky(d float64, heat float64) (*Net, int) {
	n := &Net{}
	out := air(n)
	v := n.Add(Node{Name: "tank", Volume: 0.04, HeatTime: heat, Wall: t20}, Gas{Air: 1}, baro, t20)
	n.Join(Edge{Name: "leak", From: v, To: out, Area: gas.NominalCd * gas.Area(d)})
	return n, v
}

// Isothermal decay: the half-time of a closed volume by quadrature of
// dp/dt = −(R·T/V)·ṁ(p) (package gas).
func TestIsothermalDecay(t *testing.T) {
	const p0 = 3238.0
	n, v := leaky(0.508e-3, 1e-3)
	n.Fill(v, Gas{Air: 1}, baro+p0, t20)
	half := gas.HalfTime(gas.NominalCd*gas.Area(0.508e-3), 0.04, t20, p0, baro)
	run(t, n, half)
	near(t, "pressure at the half-time", n.Nodes[v].Pressure()-baro, p0/2, 2e-3)
}

// Half-times of 13 inH2O in 30 L through 0.020 and 0.040 in: 62 s and 15.5 s; 3 mm at
// 18 inHg of vacuum: 1.03 g/s (compressible orifice, NACA Report 1135, 1953, from memory).
func TestPublishedValues(t *testing.T) {
	const inH2O, inHg = 249.089, 3386.39
	for _, c := range []struct{ d, half float64 }{{0.508e-3, 62}, {1.016e-3, 15.5}} {
		t.Run(fmt.Sprint(c.d), func(t *testing.T) {
			n, v := leaky(c.d, 1e-3)
			n.Nodes[v].Volume = 0.030
			n.Fill(v, Gas{Air: 1}, baro+13*inH2O, t20)
			run(t, n, c.half)
			near(t, "inH2O at the half-time", (n.Nodes[v].Pressure()-baro)/inH2O, 6.5, 0.02)
		})
	}
	n := &Net{}
	out := air(n)
	v := n.Add(Node{Name: "manifold", Volume: 100, HeatTime: 1, Wall: t20}, Gas{Air: 1}, baro-18*inHg, t20)
	n.Join(Edge{Name: "leak", From: out, To: v, Area: gas.NominalCd * gas.Area(3e-3)})
	run(t, n, 0.1)
	near(t, "g/s", n.Edges[0].Flow*1e3, 1.03, 0.01)
}

// A one-way valve passes forward beyond its crack pressure and next to nothing back.
func TestOneWay(t *testing.T) {
	flow := func(p float64) float64 {
		n := &Net{}
		out := air(n)
		v := n.Add(Node{Name: "v", Volume: 10, HeatTime: 1, Wall: t20}, Gas{Air: 1}, baro+p, t20)
		n.Join(Edge{Name: "flap", From: v, To: out, Law: OneWay, Area: 1e-5, Back: 1e-8, Crack: 100})
		run(t, n, 0.01)
		return n.Edges[0].Flow
	}
	full := gas.Orifice(1e-5, 1, baro+2000, t20, baro)
	near(t, "forward", flow(2000), full, 0.01)
	if f := flow(50); f > 0.01*full {
		t.Errorf("below its crack pressure %g kg/s", f)
	}
	near(t, "back", flow(-2000), -gas.Orifice(1e-8, 1, baro, t20, baro-2000), 0.02)
}

// A regulator holds the pressure at its first side between Narrow and Wide, whatever is
// drawn behind it.
func TestThrottling(t *testing.T) {
	n := &Net{}
	low := n.Add(Node{Name: "manifold", Volume: 1, Fixed: true}, Gas{Air: 1}, 30e3, t20)
	v := n.Add(Node{Name: "crankcase", Volume: 8e-3, HeatTime: 1, Wall: t20}, Gas{Air: 1}, baro, t20)
	n.Join(Edge{Name: "regulator", From: v, To: low, Law: Throttling, Area: 8e-5, Wide: baro - 2600, Narrow: baro - 4300})
	for _, flow := range []float64{1e-4, 3e-4, 8e-4} {
		n.Nodes[v].Source, n.Nodes[v].SourceAt = Gas{Air: flow}, t20
		run(t, n, 20)
		if g := n.Nodes[v].Pressure() - baro; g > -2600 || g < -4300 {
			t.Errorf("with %g kg/s it stands at %.0f Pa", flow, g)
		}
	}
}

// A blower lifts the pressure by its ratio when nothing flows, and warms what does.
func TestBlower(t *testing.T) {
	n := &Net{}
	out := air(n)
	v := n.Add(Node{Name: "charge", Volume: 5e-3, HeatTime: 2, Wall: t20}, Gas{Air: 1}, baro, t20)
	n.Join(Edge{Name: "compressor", From: out, To: v, Law: Blower, Bore: 0.04, Length: 0.3, Ratio: 1.6, Warm: 0.2})
	run(t, n, 30)
	near(t, "pressure", n.Nodes[v].Pressure(), 1.6*baro, 1e-4)
	n.Join(Edge{Name: "engine", From: v, To: out, Area: 3e-4})
	n.Nodes[v].HeatTime = 0
	for range 20 {
		run(t, n, 10)
	}
	near(t, "temperature", n.Nodes[v].Temperature(), 1.2*t20, 2e-3)
}

// An engine swallows its displacement of whatever density stands before it.
func TestSwallow(t *testing.T) {
	n, v := leaky(6e-3, 0.01)
	sink := n.Add(Node{Name: "cylinders", Volume: 1, Fixed: true}, Gas{Burnt: 1}, baro, t20)
	e := n.Join(Edge{Name: "engine", From: v, To: sink, Law: Swallow, Volume: 6e-3})
	for range 12 {
		run(t, n, 20)
	}
	x := &n.Nodes[v]
	near(t, "flow", n.Edges[e].Flow, 6e-3*x.Pressure()/(gas.RAir*x.Temperature()), 1e-4)
	near(t, "in is out", -n.Edges[0].Flow, n.Edges[e].Flow, 1e-4)
}

// Going back leaves nothing of what was tried.
func TestSaveAndRestore(t *testing.T) {
	n, v := leaky(1e-3, 12)
	n.Fill(v, Gas{Air: 1}, baro+2000, t20)
	run(t, n, 5)
	var s Saved
	n.Save(&s)
	run(t, n, 5)
	a, moved := n.Nodes[v].Pressure(), n.Edges[0].Moved
	n.Restore(&s)
	run(t, n, 5)
	if b := n.Nodes[v].Pressure(); a != b || n.Edges[0].Moved != moved {
		t.Errorf("%.12g and again %.12g", a, b)
	}
}

// Choked blow-down of an adiabatic vessel: T/T0 = (1 + (γ−1)/2·t/τ)^−2 with
// τ = V/(Cd·A·ψ*·√(R·T0)) (textbook closed form, Shapiro, 1953, from memory).
func TestChokedBlowDown(t *testing.T) {
	n, v := leaky(4e-3, 0)
	n.Fill(v, Gas{Air: 1}, 8*baro, t20)
	n.Tolerance = 5
	area := gas.NominalCd * gas.Area(4e-3)
	tau := 0.04 / (area * choked * math.Sqrt(gas.RAir*t20))
	run(t, n, 8)
	k := math.Pow(1+(gamma-1)/2*8/tau, -2)
	near(t, "temperature", n.Nodes[v].Temperature(), t20*k, 1e-3)
	near(t, "pressure", n.Nodes[v].Pressure(), 8*baro*math.Pow(k, gamma/(gamma-1)), 2e-3)
}

// Two volumes equalise at the pressure that keeps mass and energy, U1 + U2 constant.
func TestEqualisation(t *testing.T) {
	n := &Net{}
	a := n.Add(Node{Name: "a", Volume: 0.02}, Gas{Air: 1}, 1.4*baro, 310)
	b := n.Add(Node{Name: "b", Volume: 0.05}, Gas{Air: 1, Fuel: 0.5}, baro, 290)
	n.Join(Edge{Name: "hole", From: a, To: b, Area: 3e-6})
	before := n.Total()
	run(t, n, 300)
	want := (0.02*1.4 + 0.05) / 0.07 * baro
	near(t, "a", n.Nodes[a].Pressure(), want, 1e-6)
	near(t, "b", n.Nodes[b].Pressure(), want, 1e-6)
	for s, m := range n.Total() {
		if math.Abs(m-before[s]) > 1e-9*before.Total() {
			t.Errorf("species %d went from %.12g to %.12g kg", s, before[s], m)
		}
	}
}

// Exponential mixing: a swept volume takes the concentration 1 − e^(−Q·t/V).
func TestMixing(t *testing.T) {
	n, v := leaky(8e-3, 1e-2)
	const flow = 1e-4
	n.Nodes[v].Source, n.Nodes[v].SourceAt = Gas{Smoke: flow}, t20
	run(t, n, 400)
	m := n.Nodes[v].Mass.Total()
	near(t, "smoke", n.Nodes[v].Share(Smoke), -math.Expm1(-flow*400/m), 2e-3)
}

// A closed far end: smoke pressed into a row of volumes hardly moves its front; with
// the end open it comes through.
func TestSmokeFront(t *testing.T) {
	last := func(open bool) float64 {
		n := &Net{}
		out := air(n)
		rig := n.Add(Node{Name: "rig", Volume: 1, Fixed: true}, Gas{Smoke: 1}, baro+3000, t20)
		at := rig
		for range 8 {
			v := n.Add(Node{Name: "row", Volume: 5e-3, HeatTime: 10, Wall: t20}, Gas{Air: 1}, baro, t20)
			n.Join(Edge{Name: "hose", From: at, To: v, Law: Pipe, Bore: 6e-3, Length: 0.5})
			at = v
		}
		n.Join(Edge{Name: "end", From: at, To: out, Area: 2e-5, Shut: !open})
		run(t, n, 600)
		return n.Nodes[at].Share(Smoke)
	}
	if shut, open := last(false), last(true); shut > 1e-3 || open < 0.99 {
		t.Errorf("at the far end: %.4f of smoke with the end shut, %.4f with it open", shut, open)
	}
}

// Vapour comes to its equilibrium density with the time constant V/K.
func TestExchange(t *testing.T) {
	n, v := leaky(5e-3, 10)
	x := &n.Nodes[v]
	x.Exchange, x.Density, x.ExchangeAt = 1e-4, 0.9, t20
	before := n.Total()[Fuel] + n.Nodes[v].Given
	run(t, n, 20000)
	lost := n.Edges[0].Moved[Fuel]
	if math.Abs(x.Mass[Fuel]+lost-x.Given-before) > 1e-9*x.Given {
		t.Errorf("given %.9g kg, inside %.9g and gone %.9g", x.Given, x.Mass[Fuel], lost)
	}
	near(t, "density", x.Mass[Fuel]/0.04, 0.9, 0.02)
}

// Mass is kept: what is inside and what the edges carried out is what there was.
func TestMassIsKept(t *testing.T) {
	n, v := leaky(2e-3, 12)
	n.Nodes[v].Stretch = 0.04 * 0.05 / baro
	n.Nodes[v].Source, n.Nodes[v].SourceAt = Gas{Air: 2e-5, Smoke: 1e-5}, 300
	before := n.Total()
	put := 0.0
	for i := range 500 {
		n.Nodes[v].Wall = t20 + 3*math.Sin(float64(i)/9)
		run(t, n, 0.7)
		put += 0.7
	}
	g := n.Total()
	in := before.Total() + put*3e-5 - n.Edges[0].Moved.Total()
	near(t, "mass", g.Total(), in, 1e-9)
	near(t, "smoke", g[Smoke], put*1e-5-n.Edges[0].Moved[Smoke], 1e-8)
}

// A quarter of the tolerance moves the answer by less than the tolerance.
func TestTolerance(t *testing.T) {
	end := func(tol float64) float64 {
		n, v := leaky(1e-3, 12)
		n.Tolerance = tol
		n.Fill(v, Gas{Air: 1}, baro+3000, t20)
		run(t, n, 30)
		return n.Nodes[v].Pressure()
	}
	exact := end(0.005)
	if a, b := math.Abs(end(2)-exact), math.Abs(end(0.5)-exact); b > 2 || b > a+0.1 {
		t.Errorf("off by %.3g Pa at a tolerance of 2 Pa and %.3g at 0.5", a, b)
	}
}

// A tank whose wall gives is a larger volume: V·(1 + s·p/…) for the same gas put in.
func TestStretch(t *testing.T) {
	const s = 0.04 * 0.1 / baro
	n := &Net{}
	v := n.Add(Node{Name: "tank", Volume: 0.04, Stretch: s, HeatTime: 1e-2, Wall: t20}, Gas{Air: 1}, baro, t20)
	n.Nodes[v].Source, n.Nodes[v].SourceAt = Gas{Air: 1e-5}, t20
	run(t, n, 100)
	p := n.Nodes[v].Pressure()
	// m·R·T = p·(V + s·(p − p0)), solved for p.
	m := baro*0.04/(gas.RAir*t20) + 1e-3
	b := 0.04 - s*baro
	want := (-b + math.Sqrt(b*b+4*s*m*gas.RAir*t20)) / (2 * s)
	near(t, "pressure", p-baro, want-baro, 2e-3)
}

func TestRefusals(t *testing.T) {
	n := &Net{}
	n.Add(Node{Name: "nothing"}, Gas{}, baro, t20)
	if err := n.Run(1); err == nil {
		t.Error("a node without a volume is taken")
	}
	n = &Net{}
	v := air(n)
	n.Join(Edge{Name: "self", From: v, To: v})
	if err := n.Run(1); err == nil {
		t.Error("an edge from a node to itself is taken")
	}
}

func BenchmarkDecay(b *testing.B) {
	for b.Loop() {
		n, v := leaky(1e-3, 12)
		n.Fill(v, Gas{Air: 1}, baro+3000, t20)
		run(b, n, 120)
	}
}
