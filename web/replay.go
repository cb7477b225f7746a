package web

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/record"
)

// replayData is a run that was read, to be looked at again at any speed.
type replayData struct {
	Run     record.Run
	Number  string
	Case    string
	Name    string // of the test
	Leg     string
	With    string
	Minutes string
}

func (s *server) replayView(c *echo.Context) error {
	x, err := s.shop.Recorded(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	t := x.Table.Last()
	d := replayData{Run: x.Run, Number: x.Case.Number, Case: x.Case.ID, Name: x.Name(), Leg: x.StretchName(x.Run.Kind), With: casework.MeasuredWith([]record.Run{x.Run}),
		Minutes: fmt.Sprintf("%d:%02d", int(t)/60, int(t)%60)}
	return s.render(c, http.StatusOK, "replay.html", s.page(c, "Replay · "+x.Case.Number, "slate", d))
}

// replayColumn is a column of a replay, in the bay's unit.
type replayColumn struct {
	Name   string        `json:"name"`
	Unit   string        `json:"unit"`
	Digits int           `json:"digits"`
	By     string        `json:"by"`
	Within float64       `json:"within_s"`
	Read   record.Column `json:"read"`
}

// playedState is when the test's own code saw a run come to another state.
type playedState struct {
	T    float64 `json:"t"`
	Word string  `json:"word"`
	Now  string  `json:"now"`
}

// mostReplayed is how many readings are sent of a run: all of an hour at ten a second.
const mostReplayed = 40_000

// replayJSON is a run with what the test's own code makes of it, reading by reading.
func (s *server) replayJSON(c *echo.Context) error {
	x, err := s.shop.Recorded(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	stride := max(1, (x.Table.Len()+mostReplayed-1)/mostReplayed)
	out := struct {
		T       []float64      `json:"t"`
		Stride  int            `json:"stride"` // one reading of so many is sent
		Columns []replayColumn `json:"columns"`
		Marks   record.Marks   `json:"marks"`
		Gaps    record.Gaps    `json:"gaps"`
		Moments []playedState  `json:"moments"`
		Says    string         `json:"says"`
	}{T: []float64{}, Stride: stride, Marks: x.Run.Marks, Gaps: x.Run.Gaps, Moments: []playedState{}, Says: x.Run.Says}
	for i := 0; i < x.Table.Len(); i += stride {
		out.T = append(out.T, round(x.Table.Time[i], 3))
	}
	for k, col := range x.Bay() {
		ch := x.Run.Channels[k]
		unit, to := x.Bench.InBay(ch)
		r := replayColumn{Name: ch.Name, Unit: unit, By: ch.Instrument, Within: ch.Within, Digits: bench.Digits(ch, to), Read: record.Column{}}
		for i := 0; i < len(col); i += stride {
			r.Read = append(r.Read, round(col[i], 4))
		}
		out.Columns = append(out.Columns, r)
	}
	x.Play(func(t float64, st bench.State) {
		out.Moments = append(out.Moments, playedState{round(t, 3), st.Word, st.Now})
	})
	return c.JSON(http.StatusOK, out)
}
