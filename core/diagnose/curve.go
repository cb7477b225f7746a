package diagnose

import "math"

// Curve is how well each diameter agrees with a reading: a likelihood over the logarithm
// of the diameter of the equivalent orifice.
type Curve struct {
	at  [curvePoints]float64
	sum [curvePoints]float64 // integral from the first point
}

const (
	curvePoints = 160
	curveLow    = 0.03e-3 // m; what is smaller reads as tight
	curveHigh   = 40e-3
	// A sound system leaks too: up to this much is no fault (chosen here).
	soundHole = 0.12e-3
	// Share of readings that have nothing to do with the car: a hose off, a wrong
	// line read. Chosen here; it is what keeps one reading from ruling a fault out.
	stray = 0.02
)

var curveStep = math.Log(curveHigh/curveLow) / (curvePoints - 1)

// newCurve makes a curve of a density over ln d.
func newCurve(density func(lnD float64) float64) *Curve {
	c := &Curve{}
	for i := range c.at {
		c.at[i] = density(math.Log(curveLow) + float64(i)*curveStep)
		if i > 0 {
			c.sum[i] = c.sum[i-1] + curveStep*(c.at[i]+c.at[i-1])/2
		}
	}
	return c
}

// Measured is the curve of a diameter d with its 95 % interval, all m. A lower end near
// nothing leaves every smaller diameter open.
func Measured(d, low, high float64) *Curve {
	d = math.Max(d, curveLow)
	up := math.Max(math.Log(math.Max(high, d*1.01)/d)/1.96, 0.02)
	down := up
	open := low < 0.1e-3
	if !open {
		down = math.Max(math.Log(d/math.Min(low, d*0.99))/1.96, 0.02)
	}
	// What a fit leaves out beside its interval: the hole is no sharp orifice, fuel breathes.
	const beside = 0.05
	up, down = math.Hypot(up, beside), math.Hypot(down, beside)
	flat := 1 / math.Log(curveHigh/curveLow)
	ln := math.Log(d)
	return newCurve(func(x float64) float64 {
		s := up
		if x < ln {
			s = down
			if open {
				return (1-stray)/(up*math.Sqrt(2*math.Pi)) + stray*flat
			}
		}
		z := (x - ln) / s
		return (1-stray)*math.Exp(-z*z/2)/((up+down)/2*math.Sqrt(2*math.Pi)) + stray*flat
	})
}

// within is the curve of a reading that falls between two diameters, read with a spread
// of sigma in the logarithm; zero and +Inf leave an end open.
func within(low, high, sigma float64) *Curve {
	return newCurve(func(x float64) float64 {
		p := 1.0
		if !math.IsInf(high, 1) {
			p = phi((math.Log(high) - x) / sigma)
		}
		if low > 0 {
			p -= phi((math.Log(low) - x) / sigma)
		}
		return (1-stray)*math.Max(p, 0) + stray/5
	})
}

// tooLarge is the diameter beyond which a usual supply cannot bring a system up (common
// practice, no source), and how sharply.
const (
	tooLarge      = 3.6e-3
	tooLargeSigma = 0.35
)

// TooLarge is the curve of a system that cannot be brought to its pressure.
func TooLarge() *Curve { return within(tooLarge, math.Inf(1), tooLargeSigma) }

// phi is the standard normal distribution.
func phi(z float64) float64 { return 0.5 * math.Erfc(-z/math.Sqrt2) }

// mean is the mean likelihood of diameters between the square roots of two squared
// diameters (m²), even in the logarithm; both zero is a system without a fault.
func (c *Curve) mean(low2, high2 float64) float64 {
	if high2 <= soundHole*soundHole {
		return (c.integral(lnSound) - c.integral(lnLow)) / (lnSound - lnLow)
	}
	a, b := 0.5*quickLog(math.Max(low2, curveLow*curveLow)), 0.5*quickLog(high2)
	if b-a < 0.02 {
		a, b = (a+b)/2-0.01, (a+b)/2+0.01
	}
	return (c.integral(b) - c.integral(a)) / (b - a)
}

// quickLog is the natural logarithm of a positive number to some 1e-7: the exponent from the
// number's own bits, the rest from a table. It is asked for in every pair of suspects.
func quickLog(x float64) float64 {
	const bits = 11
	b := math.Float64bits(x)
	m := b & (1<<52 - 1)
	i := m >> (52 - bits)
	f := float64(m&(1<<(52-bits)-1)) / (1 << (52 - bits))
	return float64(int(b>>52)-1023)*math.Ln2 + logs[i] + f*(logs[i+1]-logs[i])
}

var logs = func() (t [1<<11 + 1]float64) {
	for i := range t {
		t[i] = math.Log1p(float64(i) / (1 << 11))
	}
	return
}()

var (
	lnLow   = math.Log(curveLow)
	lnSound = math.Log(soundHole)
)

func (c *Curve) integral(lnD float64) float64 {
	x := (lnD - lnLow) / curveStep
	switch {
	case x <= 0:
		return c.at[0] * x * curveStep
	case x >= curvePoints-1:
		return c.sum[curvePoints-1] + c.at[curvePoints-1]*(x-(curvePoints-1))*curveStep
	}
	i := int(x)
	f := x - float64(i)
	return c.sum[i] + curveStep*(c.at[i]*f+(c.at[i+1]-c.at[i])*f*f/2)
}
