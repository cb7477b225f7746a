package trim

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"wexter/core/gas"
	"wexter/core/obd"
)

// Reason says why a stretch of a log does not count.
type Reason int

// The reasons. Kept is none.
const (
	Kept Reason = iota
	NothingRead
	NotRunning
	NotWarm
	Overrun
	OpenLoop
	PurgeMoves
	Unsteady
)

// String is the reason in words.
func (r Reason) String() string {
	return [...]string{"counts", "trims or engine speed not read", "engine not running", "not warm", "fuel cut on the overrun", "open loop", "purge moves", "not steady"}[r]
}

var reasonKeys = [...]string{"kept", "nothing-read", "not-running", "not-warm", "overrun", "open-loop", "purge-moves", "unsteady"}

// MarshalText writes the reason's key.
func (r Reason) MarshalText() ([]byte, error) { return []byte(reasonKeys[r]), nil }

// UnmarshalText reads a key.
func (r *Reason) UnmarshalText(b []byte) error {
	i := slices.Index(reasonKeys[:], string(b))
	if i < 0 {
		return fmt.Errorf("there is no reason %q", b)
	}
	*r = Reason(i)
	return nil
}

// Cut is a stretch of the log that does not count.
type Cut struct {
	From float64 `json:"from_s"`
	To   float64 `json:"to_s"`
	Why  Reason  `json:"why"`
}

// Region is where on the engine's map a point lies.
type Region int

// The regions.
const (
	Other  Region = iota
	Idle          // warm, standing
	Fast          // about 2500, without load
	Loaded        // on the road, pulling
)

// Key is the region's as files write it.
func (r Region) Key() string { return [...]string{"other", "idle", "2500", "load"}[r] }

// String is the region in words.
func (r Region) String() string {
	return [...]string{"light load", "idle", "2500 without load", "loaded"}[r]
}

// Bank is what the trims of one bank of cylinders were at a point.
type Bank struct {
	Total float64 `json:"total"` // (1+S)(1+L)−1, share
	SD    float64 `json:"sd"`    // of Total as a mean, share
	Short float64 `json:"short"` // mean, share
	Long  float64 `json:"long"`
	Stop  int     `json:"stop,omitempty"`  // +1 or −1: a trim stood at its stop there
	Bound bool    `json:"bound,omitempty"` // the short trim stood there too: more was needed, and Total is a bound
}

// Point is an operating point: steady stretches at like flow and pressure. What was not
// logged is NaN.
type Point struct {
	Region  Region
	Seconds float64 // of the log that made it
	Visits  int     // stretches, apart from one another
	Banks   []Bank  // one or two

	Speed     float64 // 1/min
	Air       float64 // kg/s, as the control unit reckons
	Pressure  float64 // of the manifold, Pa absolute
	Charge    float64 // before the throttle, Pa absolute
	Load      float64 // share
	Intake    float64 // K
	Barometer float64 // Pa
	Purge     float64 // commanded, share
	EGR       float64 // commanded, share
}

// Stretch is a steady stretch of the log and the point it belongs to.
type Stretch struct {
	From  float64 `json:"from_s"`
	To    float64 `json:"to_s"`
	Point int     `json:"point"`
}

// Points are what of a log counts, and what does not.
type Points struct {
	Points    []Point   `json:"points"`
	Stretches []Stretch `json:"stretches"`
	Cuts      []Cut     `json:"cuts"`
	Warnings  []string  `json:"warnings,omitempty"`
	Stop      float64   `json:"stop"`      // from which share on a trim stands at its stop
	Seconds   float64   `json:"seconds_s"` // that count
}

// WarmFrom is the coolant's temperature, K, from which trims count: control units learn long trims
// from there on (common practice, no source).
const WarmFrom = 343.15

// Limits of what counts; common practice, no source, unless a source is named.
const (
	runsFrom     = 300.0 // 1/min
	window       = 4     // bins of a second over which a point must stand still
	speedSlack   = 0.08  // of engine speed within the window, share
	speedLeast   = 80.0  // 1/min, hunting at idle
	flowSlack    = 0.16  // of the flow within the window, share
	purgeSlack   = 0.05  // of the duty within the window
	lambdaSlack  = 0.06  // commanded away from one, the trims mean nothing
	shortest     = 4     // bins of a stretch
	longest      = 20    // bins of a stretch: slower drift makes a new one
	mostBins     = 20000
	settlingFlow = 0.12 // ln of the flow: beyond it a stretch has moved on
	walking      = 1.4  // m/s, 5 km/h
	idleLimit    = 1200 // 1/min
	racingLimit  = 1650 // 1/min: a standing engine below it idles, if too fast
)

// Find cuts a log to its operating points.
func Find(l *Log) (Points, error) {
	if err := l.Check(); err != nil {
		return Points{}, err
	}
	b := newBins(l)
	out := Points{Stop: b.stop()}
	out.Warnings = b.missing()
	why := b.judge()
	b.cuts(why, &out)
	b.stretches(why, &out)
	return out, nil
}

// bins are the log by the second (longer for very long logs): mean, least and most of what
// was read, the last value where it is not too old, NaN otherwise.
type bins struct {
	log   *Log
	n     int
	width float64 // s
	mean  [Channels][]float64
	low   [Channels][]float64
	high  [Channels][]float64
	flow  []float64 // relative, for steadiness
}

// old is how long a value stands in for the next, s: temperatures hardly move in a minute.
func old(c Channel) float64 {
	switch c {
	case Barometer:
		return math.Inf(1)
	case Coolant, IntakeAir:
		return 120
	case FuelSystem, Purge, Recirculation, Lambda:
		return 10
	}
	return 4
}

func newBins(l *Log) *bins {
	first, last := l.Time[0], l.Time[len(l.Time)-1]
	b := &bins{log: l, width: math.Max(1, math.Ceil((last-first)/mostBins))}
	b.n = int((last-first)/b.width) + 1
	for c, v := range l.Value {
		if v == nil {
			continue
		}
		m := make([]float64, 3*b.n)
		b.mean[c], b.low[c], b.high[c] = m[:b.n], m[b.n:2*b.n], m[2*b.n:]
		b.fill(Channel(c), v)
	}
	b.flow = b.relativeFlow()
	return b
}

// fill puts one channel's readings into their seconds.
func (b *bins) fill(c Channel, v []float64) {
	mean, low, high := b.mean[c], b.low[c], b.high[c]
	time, first := b.log.Time, b.log.Time[0]
	at, n, read := -1, 0, 0
	var sum, lo, hi, firstAt, lastAt float64
	for i := range low {
		low[i] = math.NaN()
	}
	end := func() {
		if n > 0 {
			mean[at], low[at], high[at] = sum/float64(n), lo, hi
		}
	}
	for i, x := range v {
		if x != x {
			continue
		}
		if k := int((time[i] - first) / b.width); k != at {
			end()
			at, n, sum, lo, hi = k, 0, 0, x, x
		}
		sum += x
		n++
		if x < lo {
			lo = x
		}
		if x > hi {
			hi = x
		}
		if read == 0 {
			firstAt = time[i]
		}
		lastAt = time[i]
		read++
	}
	end()
	// A datum that comes slowly stands until the next.
	limit := old(c)
	if read > 1 {
		limit = math.Max(limit, math.Min(2.5*(lastAt-firstAt)/float64(read-1), 15))
	}
	last, since := math.NaN(), 0.0
	for i := range mean {
		if low[i] == low[i] {
			last, since = mean[i], 0
			continue
		}
		if since += b.width; since > limit {
			last = math.NaN()
		}
		mean[i], low[i], high[i] = last, last, last
	}
}

// at is the mean of a channel in a second; NaN where it was not read or not logged.
func (b *bins) at(c Channel, i int) float64 {
	if b.mean[c] == nil {
		return math.NaN()
	}
	return b.mean[c][i]
}

// relativeFlow is anything that goes with the air flow.
func (b *bins) relativeFlow() []float64 {
	out := make([]float64, b.n)
	for i := range out {
		n := b.at(Speed, i)
		switch {
		case b.mean[MeteredAir] != nil:
			out[i] = b.at(MeteredAir, i)
		case b.mean[ManifoldPressure] != nil:
			out[i] = n * b.at(ManifoldPressure, i)
		case b.mean[Load] != nil:
			out[i] = n * b.at(Load, i)
		default:
			out[i] = n
		}
	}
	return out
}

// stop is from where on a trim stands at its stop: the usual limit, or where the log's own
// trims went furthest beyond it.
func (b *bins) stop() float64 {
	const step = 1 / 128.0 // of a trim, SAE J1979
	most := 0.0
	for _, c := range []Channel{Short1, Long1, Short2, Long2} {
		for _, x := range b.mean[c] {
			if math.Abs(x) > most { // never for NaN
				most = math.Abs(x)
			}
		}
	}
	return math.Max(obd.TrimStop/100, most-step)
}

// missing says what a log does not hold that would have been of use.
func (b *bins) missing() (out []string) {
	for _, x := range []struct {
		c    Channel
		says string
	}{
		{FuelSystem, "The fuel system's state was not logged: closed loop is taken for granted where the engine runs warm and steadily."},
		{Coolant, "The coolant temperature was not logged: the engine is taken as warm."},
		{Long1, "The long trim was not logged: what the control unit has learned is missing from the total."},
		{Short1, "The short trim was not logged: the total is the long trim alone."},
		{Purge, "Commanded purge was not logged: vapour from the canister may stand in every point."},
	} {
		if !b.log.Has(x.c) {
			out = append(out, x.says)
		}
	}
	return
}

// judge says of each second whether it counts.
func (b *bins) judge() []Reason {
	why := make([]Reason, b.n)
	for i := range why {
		why[i] = b.state(i)
	}
	// What moves within the window has not settled; the window looks back, since trims follow.
	speed, flow := newSpan(window+1), newSpan(window+1)
	duty := newSpan(window + 1)
	for i := range why {
		n := b.at(Speed, i)
		a, z := speed.add(i, n)
		c, d := flow.add(i, b.flow[i])
		e, f := duty.add(i, b.at(Purge, i))
		if why[i] != Kept {
			continue
		}
		switch {
		case z-a > math.Max(speedLeast, speedSlack*n) || d-c > flowSlack*math.Max(b.flow[i], 1e-9) || b.throughCut(why, i):
			why[i] = Unsteady
		case f-e > purgeSlack:
			why[i] = PurgeMoves
		}
	}
	return why
}

// throughCut reports whether something within the window before a second did not count for
// another reason than being unsteady: trims have to settle after it.
func (b *bins) throughCut(why []Reason, i int) bool {
	for k := max(i-window, 0); k < i; k++ {
		if why[k] == Overrun || why[k] == OpenLoop || why[k] == NotRunning || why[k] == NothingRead {
			return true
		}
	}
	return false
}

// state is what a second is by itself.
func (b *bins) state(i int) Reason {
	n := b.at(Speed, i)
	trims := b.at(Short1, i)
	if b.mean[Short1] == nil {
		trims = b.at(Long1, i)
	}
	load, pressure := b.at(Load, i), b.at(ManifoldPressure, i)
	pulled := n > 1100 && (load < 0.14 || pressure < 26e3) // nothing is asked of the engine
	switch {
	case math.IsNaN(n):
		return NothingRead
	case n < runsFrom:
		return NotRunning
	case math.IsNaN(trims):
		return NothingRead
	}
	cold := b.at(Coolant, i) < WarmFrom
	if b.mean[FuelSystem] != nil {
		lo, hi := b.low[FuelSystem][i], b.high[FuelSystem][i]
		closed := func(x float64) bool { return x == closedLoop || x == closedHurt }
		switch {
		case math.IsNaN(lo):
			return NothingRead
		case closed(lo) && closed(hi):
		case cold || lo == openCold:
			return NotWarm
		case pulled && (lo == openLoad || hi == openLoad):
			return Overrun
		default:
			return OpenLoop
		}
	} else if pulled {
		return Overrun
	}
	if cold {
		return NotWarm
	}
	if math.Abs(b.at(Lambda, i)-1) > lambdaSlack {
		return OpenLoop
	}
	return Kept
}

// cuts writes down what does not count, in stretches of one reason.
func (b *bins) cuts(why []Reason, out *Points) {
	for i := 0; i < b.n; {
		k := i
		for k < b.n && why[k] == why[i] {
			k++
		}
		if why[i] != Kept {
			out.Cuts = append(out.Cuts, Cut{b.time(i), b.time(k), why[i]})
		}
		i = k
	}
}

func (b *bins) time(i int) float64 {
	return math.Min(b.log.Time[0]+float64(i)*b.width, b.log.Time[len(b.log.Time)-1])
}

// span is the least and the most of the last few values.
type span struct {
	most         int
	at           []int
	low, high    []float64 // candidates, rising and falling
	atLow, atTop []int
}

func newSpan(n int) *span { return &span{most: n} }

// add takes the value of second i and returns the least and most of the window. Values that
// are not numbers say nothing.
func (s *span) add(i int, x float64) (low, high float64) {
	if x == x {
		for len(s.low) > 0 && s.low[len(s.low)-1] >= x {
			s.low, s.atLow = s.low[:len(s.low)-1], s.atLow[:len(s.atLow)-1]
		}
		s.low, s.atLow = append(s.low, x), append(s.atLow, i)
		for len(s.high) > 0 && s.high[len(s.high)-1] <= x {
			s.high, s.atTop = s.high[:len(s.high)-1], s.atTop[:len(s.atTop)-1]
		}
		s.high, s.atTop = append(s.high, x), append(s.atTop, i)
	}
	for len(s.low) > 0 && s.atLow[0] <= i-s.most {
		s.low, s.atLow = s.low[1:], s.atLow[1:]
	}
	for len(s.high) > 0 && s.atTop[0] <= i-s.most {
		s.high, s.atTop = s.high[1:], s.atTop[1:]
	}
	if len(s.low) == 0 || len(s.high) == 0 {
		return 0, 0
	}
	return s.low[0], s.high[0]
}

// piece is a steady stretch while points are made.
type piece struct {
	from, to int // seconds
	point    Point
}

// stretches makes points of what counts.
func (b *bins) stretches(why []Reason, out *Points) {
	var pieces []piece
	for i := 0; i < b.n; {
		if why[i] != Kept {
			i++
			continue
		}
		k := i + 1
		for k < b.n && why[k] == Kept && k-i < longest && math.Abs(math.Log(b.flow[k]/b.flow[i])) < settlingFlow {
			k++
		}
		if k-i >= shortest {
			pieces = append(pieces, piece{i, k, b.point(i, k, out.Stop)})
			out.Seconds += float64(k-i) * b.width
		} else {
			out.Cuts = append(out.Cuts, Cut{b.time(i), b.time(k), Unsteady})
		}
		i = k
	}
	slices.SortStableFunc(out.Cuts, func(x, y Cut) int { return cmp.Compare(x.From, y.From) })
	b.gather(pieces, out)
}

// point is the mean of some seconds.
func (b *bins) point(from, to int, stop float64) Point {
	mean := func(c Channel) float64 {
		sum, n := 0.0, 0
		for i := from; i < to && b.mean[c] != nil; i++ {
			if x := b.mean[c][i]; x == x {
				sum += x
				n++
			}
		}
		return sum / float64(n) // not a number of none
	}
	p := Point{Seconds: float64(to-from) * b.width, Visits: 1, Speed: mean(Speed), Air: mean(MeteredAir), Pressure: mean(ManifoldPressure), Charge: mean(ChargePressure),
		Load: mean(Load), Intake: mean(IntakeAir), Barometer: mean(Barometer), Purge: mean(Purge), EGR: mean(Recirculation)}
	p.Banks = append(p.Banks, b.bank(Short1, Long1, from, to, stop))
	if two := b.bank(Short2, Long2, from, to, stop); !math.IsNaN(two.Total) {
		p.Banks = append(p.Banks, two)
	}
	p.Region = p.region(mean(RoadSpeed))
	return p
}

// bank is the trims of one bank over some seconds. Their noise is that of means over three
// seconds, since the short trim swings about a second or two.
func (b *bins) bank(short, long Channel, from, to int, stop float64) Bank {
	const swing = 3.0
	quantum := 1 / 128.0 / math.Sqrt(12)
	var sum, squares, s, l float64
	n := 0
	var held, learned standing
	for i := from; i < to; i++ {
		x, y := b.at(short, i), b.at(long, i)
		held.add(x)
		learned.add(y)
		total := totalOf(x, y)
		if total != total {
			continue
		}
		x, y = orNought(x), orNought(y)
		sum, squares, s, l = sum+total, squares+total*total, s+x, l+y
		n++
	}
	f := float64(n)
	k := Bank{Total: sum / f, Short: s / f, Long: l / f}
	v := math.Max(squares/f-k.Total*k.Total, 0)
	k.SD = math.Sqrt(v*swing/math.Max(f*b.width, swing) + quantum*quantum)
	k.Stop = held.stop(stop)
	if k.Bound = k.Stop != 0; !k.Bound {
		k.Stop = learned.stop(stop)
		k.Bound = k.Stop != 0 && !held.read
	}
	return k
}

// standing is what a trim did over some seconds: at its stop it stands still there.
type standing struct {
	read      bool
	low, high float64
}

func (s *standing) add(x float64) {
	switch {
	case x != x:
	case !s.read:
		s.read, s.low, s.high = true, x, x
	default:
		s.low, s.high = math.Min(s.low, x), math.Max(s.high, x)
	}
}

// stop is +1 or −1 where a trim stood at its stop, 0 elsewhere.
func (s *standing) stop(from float64) int {
	const step = 1.01 / 128
	switch {
	case !s.read || s.high-s.low > step:
		return 0
	case s.low >= from:
		return 1
	case s.high <= -from:
		return -1
	}
	return 0
}

// Where says where on its map an engine runs, with the road speed, m/s, where that is known.
func Where(p Point, road float64) Region { return p.region(road) }

// region says where a point lies, from its road speed where that was logged.
func (p *Point) region(road float64) Region {
	moves, known := road > walking, !math.IsNaN(road)
	ratio := p.Pressure / firstNumber(p.Barometer, gas.StandardPressure)
	pulls := p.Load >= 0.45 || ratio >= 0.55
	light := p.Load < 0.45 || ratio < 0.5 || math.IsNaN(p.Load) && math.IsNaN(ratio)
	switch {
	case p.Speed < idleLimit && !moves && (known || !pulls), p.Speed < racingLimit && known && !moves && !pulls:
		return Idle
	case p.Speed >= 1800 && p.Speed <= 3300 && !moves && light && (known || !pulls):
		return Fast
	case pulls && p.Speed >= 1000 && (moves || !known):
		return Loaded
	}
	return Other
}

// firstNumber is the first that is a number and not nought: nought stands for what is not known.
func firstNumber(list ...float64) float64 {
	for _, x := range list {
		if !math.IsNaN(x) && x != 0 {
			return x
		}
	}
	return math.NaN()
}
