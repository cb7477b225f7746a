package knowledge

import (
	"math"

	"wexter/core/plumbing"
)

// Defects says what a fault of the given severity (0, barely there, to 1, as bad as it
// is met) does to the part of a car that has it. Holes and resistances go by the
// logarithm, the rest evenly, from the end of the range that is nearer to a healthy part
// to the farther one.
func (f Fault) Defects(part string, severity float64) []plumbing.Defect {
	s := math.Min(math.Max(severity, 0), 1)
	var out []plumbing.Defect
	for _, c := range f.Changes {
		well := plumbing.Healthy(c.Param)
		near, far := c.From, c.To
		if math.Abs(far-well) < math.Abs(near-well) {
			near, far = far, near
		}
		if (near-well)*(far-well) < 0 { // health lies inside the range: begin a little away from it
			near = well + 0.15*(far-well)
		}
		v := near + (far-near)*s
		if near > 0 && far > 10*near {
			v = near * math.Pow(far/near, s)
		}
		out = append(out, plumbing.Defect{Part: part, Param: c.Param, Value: v})
	}
	return out
}
