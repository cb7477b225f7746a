package plumbing

// Defect is one quantity of one part put elsewhere than a healthy part has it.
type Defect struct {
	Part  string
	Param string
	Value float64
}

// healthy is what a part that has nothing has, by parameter; nought when not named.
var healthy = map[string]float64{"opening": 1, "bore": 1, "crack": 1, "switch": 1, "gain": 1, "ring-flow": 1, "supply": 1, "heat": 1, "load": 0.35}

// Healthy returns what a healthy part has of a parameter.
func Healthy(param string) float64 { return healthy[param] }
