package diagnose

import (
	"math"
	"slices"
)

// What is the same on every car, in minutes (common practice, no source).
const (
	Retest  = 15.0 // of the test that failed, after a part was replaced
	Driving = 30.0 // on the road, until a monitor has run
)

// Left is what a case still takes: work in minutes until the car is fixed and tested again, as
// expected with the best test after each outcome, and the working days that its part takes to
// come: that long or longer for half of what may be wrong.
type Left struct {
	Minutes float64
	Days    int
}

// free makes money and days cost nothing, so that a plan counts nothing but work.
const free = 1e-9

// Left works out what a case still takes in this bay. It plans again with work as the only cost:
// what money and waiting are worth in minutes says nothing of when a car is ready. A test that
// needs a night of its own is left out for the same reason.
func (s *State) Left(bay Bay) Left {
	work := bay
	work.Rate, work.Day = math.Inf(1), free
	least := math.Inf(1)
	for _, m := range s.Next(work).Moves {
		if m.Kind == ToWait || m.Kind == ToTest && m.Days > 0 {
			continue
		}
		least = math.Min(least, m.Expect)
	}
	if math.IsInf(least, 1) {
		least = byHand
	}
	return Left{Minutes: least, Days: s.medianDays()}
}

// medianDays is how long the part takes to come: that long or longer for half of the odds.
func (s *State) medianDays() int {
	type wait struct {
		days int
		odds float64
	}
	var waits []wait
	sum := 0.0
	for i, p := range s.Marginals() {
		if s.Suspects[i].Order != "" {
			waits = append(waits, wait{s.days(i), p})
		}
		sum += p
	}
	slices.SortStableFunc(waits, func(a, b wait) int { return b.days - a.days })
	over := 0.0
	for _, w := range waits { // from the longest wait down
		if over += w.odds; over >= sum/2 {
			return w.days
		}
	}
	return 0
}

// Mend is the work of replacing what was found, with the test that failed repeated, and
// the days that its part takes to come; ok is false for a fault that this car cannot have.
func (s *State) Mend(fault string) (l Left, ok bool) {
	i, ok := s.index[fault]
	if !ok {
		return Left{}, false
	}
	return Left{Minutes: float64(s.Suspects[i].Minutes) + Retest, Days: s.days(i)}, true
}
