package casework

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/evidence"
	"wexter/store"
)

// Bay is what the shop has and how it works, for one case.
func (s *Shop) Bay(ctx context.Context, f evidence.Folder) (diagnose.Bay, error) {
	w, err := s.Ways(ctx)
	if err != nil {
		return diagnose.Bay{}, err
	}
	b := diagnose.Bay{Kit: w.Kit, Rate: w.Rate, Day: w.Day, Policies: w.Policies, Careful: w.Careful, Currency: w.Currency, Prices: w.Prices, Access: map[string]int{}}
	if len(f.Case.Kit) > 0 {
		b.Kit = f.Case.Kit
	}
	for _, c := range f.Cards { // oldest first: the newest wins
		if c.StruckAt == nil && c.Minutes > 0 {
			b.Access[c.Part] = c.Minutes
		}
	}
	b.Last = s.standing(f)
	return b, nil
}

// standing is the set-up that the last test of today left.
func (s *Shop) standing(f evidence.Folder) string {
	var at time.Time
	last := ""
	for _, t := range f.Tests {
		if t.StruckAt == nil && t.At.After(at) {
			d, _ := s.Book.Test(bench.With(bench.FromHole).Key)
			at, last = t.At, d.Shares
		}
	}
	for _, x := range f.Results {
		if x.StruckAt == nil && x.At.After(at) {
			d, _ := s.Book.Test(x.Test)
			at, last = x.At, d.Shares
		}
	}
	for _, r := range f.Repairs {
		if r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(at) {
			return ""
		}
	}
	if s.now().Sub(at) > 3*time.Hour {
		return ""
	}
	return last
}

// Ways is how the shop works: the kit it has, what an hour and a day are worth, and its
// choice where schools differ. Kit is nil until it was ticked: then all of it is taken.
type Ways struct {
	Kit      []string          `json:"kit"`
	Rate     float64           `json:"rate"`
	Day      float64           `json:"day"`
	Policies map[string]string `json:"policies"`
	Careful  bool              `json:"trained"`
	// Money: its sign, and what the part of a fault costs here where that is not what the Book says.
	Currency string             `json:"currency,omitempty"`
	Prices   map[string]float64 `json:"prices,omitempty"`
	// Makers' codes that the shop has looked up.
	Codes []knowledge.Code `json:"codes,omitempty"`
}

// Ways reads how the shop works.
func (s *Shop) Ways(ctx context.Context) (Ways, error) {
	return waysIn(s.DB.Read(ctx))
}

func waysIn(tx store.Tx) (Ways, error) {
	w := Ways{Policies: map[string]string{}}
	v, ok, err := tx.Setting(store.Ways)
	if err != nil {
		return w, err
	}
	if ok {
		if err := json.Unmarshal([]byte(v), &w); err != nil {
			return w, fmt.Errorf("the shop's settings cannot be read: %w", err)
		}
	}
	if w.Policies == nil {
		w.Policies = map[string]string{}
	}
	return w, nil
}

// SetWays writes how the shop works.
func (s *Shop) SetWays(ctx context.Context, key string, w Ways) error {
	kit, err := s.checkKit(w.Kit)
	if err != nil {
		return err
	}
	w.Kit = kit
	if math.IsNaN(w.Rate) || w.Rate < 0 || w.Rate > 1000 {
		return problem("rate", "an hour of work costs between 0 and 1000")
	}
	if math.IsNaN(w.Day) || w.Day < 0 || w.Day > 2880 {
		return problem("day", "a day of waiting is worth between 0 and 2880 minutes of work")
	}
	if w.Currency, err = text("currency", w.Currency, 4); err != nil {
		return err
	}
	for k, v := range w.Prices {
		f, ok := s.Book.Fault(k)
		if !ok {
			return problem("prices", "there is no fault %q", k)
		}
		if math.IsNaN(v) || v < 0 || v > 1e5 {
			return problem("prices", "%s: a part costs between 0 and 100 000", f.Name)
		}
	}
	for k, v := range w.Policies {
		i := slices.IndexFunc(s.Book.Schools, func(x knowledge.School) bool { return x.Key == k })
		if i < 0 || s.Book.Schools[i].Option(v).Key != v {
			return problem("ways", "%q is no way of working for %q", v, k)
		}
	}
	_, err = s.do(ctx, key, func(tx store.Tx) (string, error) {
		now, err := waysIn(tx)
		if err != nil {
			return "", err
		}
		w.Codes = now.Codes // they are changed by themselves
		data, err := json.Marshal(w)
		if err != nil {
			return "", err
		}
		return string(store.Ways), tx.KeepSetting(store.Ways, string(data))
	})
	return err
}

// SetShopKit writes what the shop has, and leaves all else of how it works.
func (s *Shop) SetShopKit(ctx context.Context, key string, kit []string) error {
	w, err := s.Ways(ctx)
	if err != nil {
		return err
	}
	w.Kit = kit
	return s.SetWays(ctx, key, w)
}

// Currency is the sign of the shop's money.
func (s *Shop) Currency(ctx context.Context) string {
	w, err := s.Ways(ctx)
	if err != nil {
		return diagnose.UsualCurrency
	}
	return cmp.Or(w.Currency, diagnose.UsualCurrency)
}

// PartsWays says of each part that was found whether this shop takes it genuine.
func (s *Shop) PartsWays(ctx context.Context, f evidence.Folder, car Car) (out []string, err error) {
	b, err := s.Bay(ctx, f)
	for _, x := range f.Findings {
		fault, _ := s.Book.Fault(x.Part)
		p, ok := car.Graph.Part(car.Where(x.Part))
		if x.StruckAt != nil || !ok {
			continue
		}
		w := "a proven equal will do"
		if b.Genuine(p.Kind) {
			w = "genuine, poor copies come back"
			if b.Policies[knowledge.SchoolParts] == "genuine" {
				w = "genuine, as this shop takes all parts"
			}
		}
		out = append(out, Upper(fault.Order)+": "+w+".")
	}
	return out, err
}

// CodesWays says what becomes of the codes of a case that is being proven: cleared once the
// proof is whole, or left to time out. Nothing is said of a case without codes.
func (s *Shop) CodesWays(ctx context.Context, f evidence.Folder) ([]string, error) {
	w, err := s.Ways(ctx)
	coded := len(f.Codes) > 0 || slices.ContainsFunc(f.Scans, func(x evidence.ScanFolder) bool { return x.StruckAt == nil && len(x.Read.Codes) > 0 })
	if err != nil || !coded || !f.Proof(s.Book).Repaired {
		return nil, err
	}
	for _, n := range f.Notes {
		if n.Kind == record.Cleared && n.StruckAt == nil && !slices.ContainsFunc(f.Repairs, func(r record.RepairDone) bool { return r.StruckAt == nil && r.DoneAt != nil && r.DoneAt.After(n.At) }) {
			return []string{"Cleared after the repair. Readiness starts again: the monitors have to run before an inspection."}, nil
		}
	}
	if w.Policies[knowledge.SchoolCodes] == "wait" {
		// Title 13 California Code of Regulations 1968.2, value from memory.
		return []string{"This shop lets codes time out: the record stays. Three trips that pass put the lamp out, some 40 warm-ups without the fault erase the code. Look at pending codes, not at the lamp."}, nil
	}
	if !f.Proof(s.Book).Whole() {
		return []string{"Cleared once the repair is proven, not before: clearing wipes freeze frame and readiness."}, nil
	}
	return []string{"The repair is proven: clear them now, with the scan kept. Readiness starts again, and the monitors have to run before an inspection."}, nil
}

// checkKit orders a list of kit as the Book does and refuses what it does not know.
func (s *Shop) checkKit(kit []string) ([]string, error) {
	out := []string{}
	for _, k := range s.Book.Kit {
		if slices.Contains(kit, k.Key) {
			out = append(out, k.Key)
		}
	}
	for _, k := range kit {
		if !slices.Contains(out, k) {
			return nil, problem("kit", "there is no kit %q", k)
		}
	}
	return out, nil
}

// SetKit changes the kit at hand for one case; none takes the shop's again.
func (s *Shop) SetKit(ctx context.Context, key, id string, kit []string) error {
	list, err := s.checkKit(kit)
	if err != nil {
		return err
	}
	return s.set(ctx, key, id, func(c *record.Case) { c.Kit = list })
}
