package plumbing

// Defect is one quantity of one part put elsewhere than a healthy part has it.
type Defect struct {
	Part  string
	Param string
	Value float64
}

// Healthy returns what a healthy part has of a parameter; zero of one that is not named.
func Healthy(param string) float64 {
	switch param {
	case "opening", "bore", "crack", "switch", "gain", "ring-flow", "supply", "heat":
		return 1
	case "load":
		return 0.35
	}
	return 0
}
