package gas

import "math"

// Constants of dry air and the standard state.
const (
	Gamma            = 1.4      // ratio of specific heats of air
	RAir             = 287.053  // J/(kg·K), U.S. Standard Atmosphere 1976 (value from memory)
	StandardPressure = 101325.0 // Pa
	NominalCd        = 0.61     // discharge coefficient that defines the equivalent orifice
	linearBelow      = 1.0      // Pa; below this pressure difference the flow is taken as laminar
)

// CriticalRatio returns the pressure ratio p2/p1 at and below which an ideal
// gas with ratio of specific heats gamma is choked.
// Source: NACA Report 1135, Equations, Tables, and Charts for Compressible Flow, 1953.
func CriticalRatio(gamma float64) float64 {
	if gamma == Gamma {
		return criticalAir
	}
	return criticalRatio(gamma)
}

// criticalAir is kept: the flow of air asks for it at every step.
var criticalAir = criticalRatio(Gamma)

func criticalRatio(gamma float64) float64 {
	return math.Pow(2/(gamma+1), gamma/(gamma-1))
}

// CriticalFlowFunction returns ψ* in m = Cd·A·p1·ψ*/√(R·T1) for a choked
// opening. Source: ISO 9300, 2005 (ideal-gas value).
func CriticalFlowFunction(gamma float64) float64 {
	return math.Sqrt(gamma) * math.Pow(2/(gamma+1), (gamma+1)/(2*(gamma-1)))
}

// FlowFunction returns ψ in m = Cd·A·p1·ψ/√(R·T1) at pressure ratio
// r = p2/p1 in (0, 1]; choked below the critical ratio.
// Source: NACA Report 1135, 1953.
func FlowFunction(r, gamma float64) float64 {
	if r >= 1 {
		return 0
	}
	if r <= CriticalRatio(gamma) {
		return CriticalFlowFunction(gamma)
	}
	// (r^(2/γ) − r^((γ+1)/γ)) = r^(2/γ)·(1 − r^((γ−1)/γ)); expm1 keeps the digits near r = 1.
	k, l := (gamma-1)/gamma, math.Log(r)
	return math.Sqrt(2 / k * math.Exp(2/gamma*l) * -math.Expm1(k*l))
}

// Orifice returns the mass flow of air in kg/s from absolute pressure p1 (Pa) at
// temperature t1 (K) to p2 through an opening of area m² with coefficient cd.
// The sign follows p1 − p2; with p2 > p1 the gas comes from side 2 at the same
// temperature. Below 1 Pa the flow is linear in the difference, where a real
// hole is laminar and the root would have an infinite slope.
func Orifice(area, cd, p1, t1, p2 float64) float64 {
	if p2 > p1 {
		return -Orifice(area, cd, p2, t1, p1)
	}
	dp := p1 - p2
	if dp == 0 {
		return 0
	}
	if dp < linearBelow {
		return Orifice(area, cd, p2+linearBelow, t1, p2) * dp / linearBelow
	}
	return cd * area * p1 * FlowFunction(p2/p1, Gamma) / math.Sqrt(RAir*t1)
}

// Area returns the area in m² of a round hole of diameter d (m).
func Area(d float64) float64 { return math.Pi / 4 * d * d }

// Diameter returns the diameter in m of a round hole of the given area; zero
// for a negative area.
func Diameter(area float64) float64 { return math.Sqrt(math.Max(area, 0) * 4 / math.Pi) }

// FreeAir converts a mass flow (kg/s) to a volume flow (m³/s) of air at
// pressure p (Pa) and temperature t (K).
func FreeAir(massFlow, p, t float64) float64 { return massFlow * RAir * t / p }

// AtHeight returns the pressure of the U.S. Standard Atmosphere 1976 at h metres
// (0 to 11 000 m). Source: U.S. Standard Atmosphere, NOAA/NASA/USAF, 1976
// (constants from memory).
func AtHeight(h float64) float64 {
	return StandardPressure * math.Pow(1-0.0065*h/288.15, 5.2559)
}

// GasolineVapour returns the true vapour pressure in Pa of gasoline with Reid
// vapour pressure rvp (Pa) at temperature t (K), for a distillation slope of 3.
// Source: EPA AP-42, section 7.1, Organic Liquid Storage Tanks (formula from
// memory); it agrees with the table there within 3 %.
func GasolineVapour(rvp, t float64) float64 {
	const psi = 6894.757
	const slope = 3.0
	rankine := t * 1.8
	l := math.Log10(rvp / psi)
	root := math.Sqrt(slope)
	return psi * math.Exp((0.7553-413/rankine)*root*l-(1.854-1042/rankine)*root+
		(2416/rankine-2.013)*l-8742/rankine+15.64)
}

// HalfTime returns the time in s in which the gauge pressure of a sealed volume
// (m³) at temperature t (K) falls from p0 to p0/2 (gauge, Pa, either sign)
// through an orifice to the barometer (Pa); effective is Cd·A of the orifice, m². It
// integrates dp/dt = −(R·T/V)·m(p) in the variable √p, in which the integrand is smooth.
func HalfTime(effective, volume, t, p0, barometer float64) float64 {
	const n = 200 // Simpson panels; the integrand is nearly constant
	hi, lo := math.Sqrt(math.Abs(p0)), math.Sqrt(math.Abs(p0)/2)
	h := (hi - lo) / n
	f := func(q float64) float64 {
		p := math.Copysign(q*q, p0)
		m := math.Abs(Orifice(effective, 1, barometer+p, t, barometer))
		return 2 * q * volume / (RAir * t * m)
	}
	sum := f(lo) + f(hi)
	for i := 1; i < n; i++ {
		w := 4.0
		if i%2 == 0 {
			w = 2
		}
		sum += w * f(lo+float64(i)*h)
	}
	return sum * h / 3
}

// Space is what an EVAP system holds that is not fuel, in m³.
type Space struct {
	Tank     float64 // size of the tank
	Level    float64 // share filled with fuel, 0 to 1
	Neck     float64
	Canister float64
	Lines    float64
}

// Vapour returns the vapour space: tank·(1 − level) + neck + canister + lines.
func (s Space) Vapour() float64 {
	return s.Tank*(1-s.Level) + s.Neck + s.Canister + s.Lines
}

// MeteredVolume returns the effective volume in m³ of a tight system from gas
// put in: freeFlow (m³/s at the barometer) for seconds, with a rise of
// pressureRise (Pa) once settled, at the same temperature.
func MeteredVolume(freeFlow, seconds, pressureRise, barometer float64) float64 {
	return freeFlow * seconds * barometer / pressureRise
}

// SmokeTime returns the time in s until the concentration at the far end of an
// open volume (m³) reaches share (0 to 1) when swept by flow (m³/s): well mixed,
// 1 − e^(−Qt/V).
func SmokeTime(volume, flow, share float64) float64 {
	return -volume / flow * math.Log1p(-share)
}
