package trim

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// mostPoints keeps the fit quick: an hour on the road has hundreds of steady stretches, at
// few places of the engine's map.
const mostPoints = 40

// gather makes one point of the stretches at like flow, pressure, purge and EGR.
func (b *bins) gather(pieces []piece, out *Points) {
	for wide := 1.0; ; wide *= 1.4 {
		order, groups := group(pieces, wide)
		if len(order) > mostPoints {
			continue
		}
		slices.SortStableFunc(order, func(x, y cell) int { return x.compare(y) })
		for i, c := range order {
			list := groups[c]
			out.Points = append(out.Points, merge(pieces, list, b.width))
			for _, k := range list {
				out.Stretches = append(out.Stretches, Stretch{b.time(pieces[k].from), b.time(pieces[k].to), i})
			}
		}
		break
	}
	slices.SortFunc(out.Stretches, func(x, y Stretch) int { return cmp.Compare(x.From, y.From) })
}

// cell is a place of the engine's map: region, and steps of flow, pressure, purge and EGR.
type cell [6]int

func (c cell) compare(d cell) int { return slices.Compare(c[:], d[:]) }

// group sorts pieces into cells; wide makes those larger.
func group(pieces []piece, wide float64) (order []cell, groups map[cell][]int) {
	groups = map[cell][]int{}
	step := func(x, by float64) int {
		if math.IsNaN(x) {
			return -1000
		}
		return int(math.Floor(x / (by * wide)))
	}
	for i := range pieces {
		p := &pieces[i].point
		flow := firstNumber(p.Air, p.Speed*p.Pressure*1e-9, p.Speed*p.Load*1e-5, p.Speed*1e-6)
		stop := 0
		for _, k := range p.Banks {
			stop = 3*stop + 1
			if k.Bound {
				stop += k.Stop
			}
		}
		c := cell{(int(p.Region) + 3) % 4, step(math.Log(flow), 0.14), step(p.Pressure, 9e3), step(math.Max(p.Purge-0.03, -0.01), 0.15), step(p.EGR, 0.12), stop}
		if len(groups[c]) == 0 {
			order = append(order, c)
		}
		groups[c] = append(groups[c], i)
	}
	return
}

// merge makes one point of some pieces.
func merge(pieces []piece, list []int, width float64) Point {
	out := pieces[list[0]].point
	total := 0.0
	for _, i := range list {
		total += pieces[i].point.Seconds
	}
	mean := func(of func(*Point) float64) float64 {
		sum, w := 0.0, 0.0
		for _, i := range list {
			if x := of(&pieces[i].point); x == x {
				sum += x * pieces[i].point.Seconds
				w += pieces[i].point.Seconds
			}
		}
		return sum / w
	}
	out.Seconds, out.Visits = total, 1
	for n := 1; n < len(list); n++ {
		// Stretches that follow one another are one visit: what wanders has not moved on.
		if float64(pieces[list[n]].from-pieces[list[n-1]].to)*width > 30 {
			out.Visits++
		}
	}
	for _, x := range []struct {
		to *float64
		of func(*Point) float64
	}{
		{&out.Speed, func(p *Point) float64 { return p.Speed }}, {&out.Air, func(p *Point) float64 { return p.Air }}, {&out.Pressure, func(p *Point) float64 { return p.Pressure }},
		{&out.Charge, func(p *Point) float64 { return p.Charge }}, {&out.Load, func(p *Point) float64 { return p.Load }}, {&out.Intake, func(p *Point) float64 { return p.Intake }},
		{&out.Barometer, func(p *Point) float64 { return p.Barometer }}, {&out.Purge, func(p *Point) float64 { return p.Purge }}, {&out.EGR, func(p *Point) float64 { return p.EGR }},
	} {
		*x.to = mean(x.of)
	}
	banks := len(out.Banks)
	for _, i := range list {
		banks = min(banks, len(pieces[i].point.Banks))
	}
	out.Banks = make([]Bank, banks)
	for n := range banks {
		out.Banks[n] = mergeBank(pieces, list, n)
	}
	return out
}

// mergeBank is one bank's trims over some pieces: how far they differ from visit to visit is
// part of the noise of their mean.
func mergeBank(pieces []piece, list []int, n int) Bank {
	var out Bank
	w, own, squares := 0.0, 0.0, 0.0
	for _, i := range list {
		p := &pieces[i].point
		k, s := p.Banks[n], p.Seconds
		w += s
		out.Total += s * k.Total
		out.Short += s * k.Short
		out.Long += s * k.Long
		own += s * s * k.SD * k.SD
		squares += s * k.Total * k.Total
		out.Bound = k.Bound // a cell has no two kinds
		if k.Stop != 0 {
			out.Stop = k.Stop
		}
	}
	out.Total, out.Short, out.Long = out.Total/w, out.Short/w, out.Long/w
	between := math.Max(squares/w-out.Total*out.Total, 0)
	out.SD = math.Sqrt(own/(w*w) + between/float64(len(list)))
	return out
}

// Mean is the total trim of both banks together, its noise, and ±1 where it is a bound.
func (p *Point) Mean() (total, sd float64, bound int) {
	for _, k := range p.Banks {
		total += k.Total / float64(len(p.Banks))
		sd += k.SD * k.SD / float64(len(p.Banks)*len(p.Banks))
		if k.Bound {
			bound = k.Stop
		}
	}
	return total, math.Sqrt(sd), bound
}

// TooLittle says why a log has no point at all.
func (p *Points) TooLittle(l *Log) error {
	if len(p.Points) > 0 {
		return nil
	}
	lost := map[Reason]float64{}
	for _, c := range p.Cuts {
		lost[c.Why] += c.To - c.From
	}
	most := Unsteady
	for _, r := range []Reason{NotRunning, NotWarm, OpenLoop, NothingRead, Overrun, PurgeMoves} {
		if lost[r] > lost[most] {
			most = r
		}
	}
	hottest := math.Inf(-1)
	for _, x := range l.Value[Coolant] {
		if x > hottest {
			hottest = x
		}
	}
	if hottest > 0 && hottest < WarmFrom && lost[NotWarm] > 0 { // whatever else was wrong
		most = NotWarm
	}
	switch most {
	case NotRunning:
		return fmt.Errorf("the engine does not run in this log: trims are read on a warm, running engine")
	case NotWarm:
		if math.IsInf(hottest, -1) {
			return fmt.Errorf("the engine is not warm anywhere in this log: the control unit still runs its cold mixture")
		}
		return fmt.Errorf("the engine is never warm in this log (%.0f °C at most): trims count from %.0f °C on", hottest-273.15, WarmFrom-273.15)
	case OpenLoop:
		return fmt.Errorf("the control unit runs in open loop throughout this log: trims mean nothing there")
	case NothingRead:
		return fmt.Errorf("trims and engine speed were hardly read together in this log: nothing of it can be told")
	}
	return fmt.Errorf("the engine never runs steadily for %d s in this log: hold idle, 2500 rpm and a steady pull for half a minute each", shortest+window)
}
