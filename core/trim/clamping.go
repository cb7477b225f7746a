package trim

import (
	"math"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat/distuv"
)

// Clamping is what all the times at which a hose was clamped at idle changed, taken together.
type Clamping struct {
	Spans int // that count: steady idle before, while and after
	// Share is by what factor less one the fuel trim differs with the hose free: above nought air came
	// in behind the meter, below it fuel. Low and High hold it 95 times of 100.
	Share, Low, High float64
	Air, AirShut     float64 // metered, hose free and clamped, kg/s; NaN: not read
	Pressure         float64 // manifold, hose free, Pa; NaN: not read
	Intake           float64 // K; NaN
	Baro             float64 // Pa; NaN
	Stopped          bool    // a trim stood at its stop: the share is at least so much
	Why              string  // nothing can be told yet; empty: it can
	Pieces           []ClampPiece
}

// ClampPiece is one time at which the hose was free, or clamped.
type ClampPiece struct {
	From, To float64 // s
	Shut     bool
	Total    float64 // total trim, share
	mid, n   float64
	ln, sd   float64 // of ln(1+total)
	stopped  bool
}

// Of a hose that is clamped and freed (chosen): how long the trims take to follow, and how many seconds
// must be left.
const (
	clampSettles = 6.0
	clampLeast   = 6
	// A mean of short trims cannot be known better than this, a share: they come in steps of 1/128, and
	// the mixture wanders from minute to minute.
	clampFloor = 0.002
)

// Clamp works out what clamping a hose changed, over all spans (s from and to) in which it was. The
// mixture may drift meanwhile: with four pieces and more a straight drift is taken out.
func (l *Log) Clamp(spans [][2]float64) Clamping {
	nan := math.NaN()
	out := Clamping{Share: nan, Low: nan, High: nan, Air: nan, AirShut: nan, Pressure: nan, Intake: nan, Baro: nan}
	if err := l.Check(); err != nil {
		out.Why = "Live data with fuel trims and engine speed are needed: " + err.Error() + "."
		return out
	}
	b := newBins(l)
	why := b.judge()
	counts := func(i int) bool {
		return (why[i] == Kept || why[i] == PurgeMoves) && Where(Point{Speed: b.at(Speed, i), Pressure: b.at(ManifoldPressure, i), Load: b.at(Load, i), Barometer: b.at(Barometer, i)}, b.at(RoadSpeed, i)) == Idle
	}
	for _, p := range clampPieces(spans, l.Time[len(l.Time)-1]) {
		if q, ok := b.clampPiece(p, counts); ok {
			out.Pieces = append(out.Pieces, q)
			if q.Shut {
				out.Spans++
			}
		}
	}
	out.Air, out.AirShut = b.over(MeteredAir, out.Pieces, false), b.over(MeteredAir, out.Pieces, true)
	out.Pressure, out.Intake, out.Baro = b.over(ManifoldPressure, out.Pieces, false), b.over(IntakeAir, out.Pieces, false), b.over(Barometer, out.Pieces, false)
	if out.Why = b.clampWhy(out, why); out.Why == "" {
		out.fit()
	}
	return out
}

// clampPieces cuts time at the spans.
func clampPieces(spans [][2]float64, end float64) (out []ClampPiece) {
	from := math.Inf(-1)
	for _, s := range spans {
		out = append(out, ClampPiece{From: from, To: s[0]}, ClampPiece{From: s[0], To: math.Min(s[1], end), Shut: true})
		from = s[1]
	}
	if from < end {
		out = append(out, ClampPiece{From: from, To: end})
	}
	return out
}

// clampPiece is what the trims were in a piece, once they had followed; false where too little counts.
func (b *bins) clampPiece(p ClampPiece, counts func(int) bool) (ClampPiece, bool) {
	var ln, when mean
	stop := b.stop()
	stopped := 0.0
	for i := range b.n {
		t := b.time(i)
		if t < p.From+clampSettles || t >= p.To || !counts(i) {
			continue
		}
		total := totalOf(b.at(Short1, i), b.at(Long1, i))
		if second := totalOf(b.at(Short2, i), b.at(Long2, i)); second == second {
			total = (total + second) / 2
		}
		if total > -0.9 {
			ln.add(math.Log1p(total))
			if math.Abs(b.at(Short1, i)) >= stop || math.Abs(b.at(Long1, i)) >= stop {
				stopped++
			}
			when.add(t)
		}
	}
	if ln.n < clampLeast {
		return p, false
	}
	p.n, p.mid, p.ln = ln.n, when.of(), ln.of()
	p.sd = math.Hypot(ln.sd(), clampFloor)
	p.Total, p.stopped = math.Expm1(p.ln), stopped > 0.2*ln.n
	return p, true
}

// over is the mean of a channel over all pieces of one kind.
func (b *bins) over(c Channel, pieces []ClampPiece, shut bool) float64 {
	var m mean
	for _, p := range pieces {
		for i := range b.n {
			if t := b.time(i); p.Shut == shut && t >= p.From+clampSettles && t < p.To {
				m.add(b.at(c, i))
			}
		}
	}
	return m.of()
}

// clampWhy says why nothing can be told yet.
func (b *bins) clampWhy(c Clamping, why []Reason) string {
	if c.Spans > 0 && len(c.Pieces) > c.Spans {
		return ""
	}
	var last Reason
	for _, w := range why {
		if w != Kept {
			last = w
		}
	}
	switch last {
	case NotRunning:
		return "The engine does not run."
	case NotWarm:
		return "Not warm yet: trims count from a warm engine on."
	case OpenLoop:
		return "Open loop: trims mean nothing."
	}
	return "Fifteen seconds of steady idle are needed with the hose free, and as many with it clamped."
}

// fit finds the share: each piece's mean is a level, a drift, and what the hose makes.
func (c *Clamping) fit() {
	k, columns := len(c.Pieces), 2
	if k >= 4 {
		columns = 3
	}
	x, y := mat.NewDense(k, columns, nil), mat.NewVecDense(k, nil)
	mid := (c.Pieces[0].mid + c.Pieces[k-1].mid) / 2
	for i, p := range c.Pieces {
		free := 1.0
		if p.Shut {
			free = 0
		}
		row := []float64{1, free, (p.mid - mid) / 100}
		for j := range columns {
			x.Set(i, j, row[j]/p.sd)
		}
		y.SetVec(i, p.ln/p.sd)
	}
	var normal, inverse mat.Dense
	normal.Mul(x.T(), x)
	if inverse.Inverse(&normal) != nil {
		c.Why = "Clamp and free the hose in turn."
		return
	}
	var right, beta, rest mat.VecDense
	right.MulVec(x.T(), y)
	beta.MulVec(&inverse, &right)
	rest.MulVec(x, &beta)
	rest.SubVec(y, &rest)
	// With pieces to spare their own scatter says how far each may be off, but never less than each by itself.
	spare, scale, wide := k-columns, 1.0, 2.0
	if spare > 0 {
		scale = math.Max(mat.Dot(&rest, &rest)/float64(spare), 1)
		wide = distuv.StudentsT{Sigma: 1, Nu: float64(spare) + 4}.Quantile(0.975) // four more for what each piece knows by itself (chosen)
	}
	sd := wide * math.Sqrt(scale*inverse.At(1, 1))
	c.Share, c.Low, c.High = math.Expm1(beta.AtVec(1)), math.Expm1(beta.AtVec(1)-sd), math.Expm1(beta.AtVec(1)+sd)
	for _, p := range c.Pieces { // at its stop a trim would go farther
		c.Stopped = c.Stopped || p.stopped
	}
	switch {
	case c.Stopped && c.Share > 0:
		c.High = 4
	case c.Stopped:
		c.Low = -0.9
	}
}
