package web

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"wexter/core/calendar"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/evidence"
)

// nightView is a test that wants a night before it: when that can be, what it costs, and what is on the calendar
// already.
type nightView struct {
	Test  string
	Case  string
	Until string // the next morning, as a field takes it
	Costs string
	Set   *time.Time // until when the case waits for one
}

// night is nil for a test that wants none.
func (s *server) night(ctx context.Context, f evidence.Folder, t knowledge.Test) *nightView {
	if t.Days == 0 {
		return nil
	}
	day := 0.0
	if th, err := s.shop.Think(ctx, f); err == nil {
		day = th.Bay.Day
	}
	v := &nightView{Test: t.Name, Case: f.Case.ID, Until: calendar.Usual().Morning(s.shop.Now().Local()).Format("2006-01-02T15:04"),
		Costs: fmt.Sprintf("%.0f min of work", float64(t.Days)*cmp.Or(day, diagnose.UsualDay))}
	if c := f.Case; c.WaitKind == record.WaitSoak && c.WaitUntil != nil && c.WaitUntil.After(s.shop.Now()) {
		v.Set = c.WaitUntil
	}
	return v
}
