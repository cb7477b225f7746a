package diagnose

import "slices"

// Turn is how one piece of a case's evidence moved the odds: of each suspect, in the order of
// Suspects, before and after it.
type Turn struct {
	ID            string
	Before, After []float64
}

// Trail works out how the odds moved with each record of wanted. order names all records of
// the case by their ids, oldest first: what was seen later than a record, or before another
// repair, is left out of its Turn. Records that say nothing have no Turn.
func (s *State) Trail(order []string, wanted func(id string) bool) ([]Turn, error) {
	rank := map[string]int{}
	for i, id := range order {
		rank[id] = i + 1 // what nobody names was there from the start
	}
	var out []Turn
	for n := range s.history {
		h, epochs := s.history[:n+1], s.epochs[:n+1]
		last := h[n].Evidence
		var ids []string
		for _, e := range last {
			if rank[e.ID] > 0 && wanted(e.ID) && !slices.Contains(ids, e.ID) {
				ids = append(ids, e.ID)
			}
		}
		slices.SortFunc(ids, func(a, b string) int { return rank[a] - rank[b] })
		for _, id := range ids {
			before, err := s.upTo(h, epochs, func(e Evidence) bool { return rank[e.ID] < rank[id] })
			if err != nil {
				return nil, err
			}
			after, err := s.upTo(h, epochs, func(e Evidence) bool { return rank[e.ID] <= rank[id] })
			if err != nil {
				return nil, err
			}
			out = append(out, Turn{id, before, after})
		}
	}
	return out, nil
}

// upTo is the odds of each suspect with that evidence of the last epoch alone which is seen.
func (s *State) upTo(h History, epochs [][]piece, seen func(Evidence) bool) ([]float64, error) {
	skip := map[int]bool{}
	for i, e := range h[len(h)-1].Evidence {
		skip[i] = !seen(e)
	}
	w, _, err := s.run(h, epochs, skip)
	if err != nil {
		return nil, err
	}
	return s.marginals(w), nil
}
