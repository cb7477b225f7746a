package casework

import (
	"context"

	"wexter/core/diagnose"
	"wexter/evidence"
)

// mostTurns is how many tests and results of a case are shown with the odds before and after
// them: the newest.
const mostTurns = 16

// Trail is how the odds moved with each test and result of a case, by the ids of the records.
// It is worked out once for a thought.
func (s *Shop) Trail(ctx context.Context, f evidence.Folder, t *Thought) (map[string]diagnose.Turn, error) {
	err := s.InTurn(ctx, func() (err error) {
		if t.turns != nil {
			return nil
		}
		order, wanted := f.Order(), map[string]bool{}
		for i := len(order) - 1; i >= 0 && len(wanted) < mostTurns; i-- {
			if order[i].Judged {
				wanted[order[i].ID] = true
			}
		}
		ids := make([]string, len(order))
		for i, o := range order {
			ids[i] = o.ID
		}
		turns, err := t.State.Trail(ids, func(id string) bool { return wanted[id] })
		if err != nil {
			return err
		}
		made := map[string]diagnose.Turn{}
		for _, x := range turns {
			made[x.ID] = x
		}
		t.turns = made
		return nil
	})
	return t.turns, err
}
