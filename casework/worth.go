package casework

import (
	"context"
	"slices"
	"time"

	"wexter/core/diagnose"
)

// worthCases is over how many of its last cases a shop is told what an instrument would save.
const worthCases = 12

// Worth is what an instrument that the shop lacks would have saved over its last cases.
type Worth struct {
	Kit     string
	Minutes float64 // in all of them
	Cases   int     // in how many of them it would have saved anything
	Of      int     // that were looked at
}

// Worth goes back to how the shop's last cases came, before any test, and works out what each
// piece of kit that it lacks would have saved on them. Nothing is lacking until kit was ticked.
func (s *Shop) Worth(ctx context.Context) ([]Worth, error) {
	w, err := s.Ways(ctx)
	if err != nil || w.Kit == nil {
		return nil, err
	}
	ids, err := s.lastCases(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string]*Worth{}
	for _, id := range ids {
		buys, err := s.asItCame(ctx, id, w)
		if err != nil {
			continue // a case whose car cannot be put together says nothing
		}
		for _, b := range buys {
			if by[b.Kit] == nil {
				by[b.Kit] = &Worth{Kit: b.Kit, Of: len(ids)}
			}
			by[b.Kit].Minutes += b.Saves
			by[b.Kit].Cases++
		}
	}
	var out []Worth
	for _, k := range s.Book.Kit {
		if x := by[k.Key]; x != nil {
			out = append(out, *x)
		}
	}
	return out, nil
}

// lastCases are the ids of the newest cases, open and closed.
func (s *Shop) lastCases(ctx context.Context) (ids []string, err error) {
	tx := s.DB.Read(ctx)
	open, err := tx.OpenCases(s.now(), worthCases)
	if err != nil {
		return nil, err
	}
	closed, err := tx.ClosedCases("", worthCases)
	if err != nil {
		return nil, err
	}
	type came struct {
		id string
		at time.Time
	}
	var all []came
	for _, c := range append(open, closed...) {
		all = append(all, came{c.ID, c.OpenedAt})
	}
	slices.SortStableFunc(all, func(a, b came) int { return b.at.Compare(a.at) })
	for _, c := range all[:min(len(all), worthCases)] {
		ids = append(ids, c.id)
	}
	return ids, nil
}

// asItCame is what each missing piece of kit would have saved on a case, with the codes, the
// complaint and the circumstances that it came with.
func (s *Shop) asItCame(ctx context.Context, id string, w Ways) ([]diagnose.Purchase, error) {
	f, err := s.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	car, err := s.Car(f.Vehicle, f.Corrections)
	if err != nil {
		return nil, err
	}
	f.Tests, f.Results, f.Marks, f.Findings, f.Repairs = nil, nil, nil, nil, nil
	st, _, err := s.weigh(s.Book.Given(w.Codes), f, car)
	if err != nil {
		return nil, err
	}
	return st.Next(diagnose.Bay{Kit: w.Kit, Rate: w.Rate, Day: w.Day, Policies: w.Policies, Careful: w.Careful, Currency: w.Currency, Prices: w.Prices}).Buy, nil
}
