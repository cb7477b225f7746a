package web

import (
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
)

// events is a stream of server-sent events.
type events struct {
	w  http.ResponseWriter
	rc *http.ResponseController
}

// newEvents begins a stream. The server's time limit is for requests; a stream lasts as long
// as somebody looks. One that breaks is asked for again after half a second.
func newEvents(c *echo.Context) events {
	w := c.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no")
	e := events{w, http.NewResponseController(w)}
	_ = e.rc.SetReadDeadline(time.Time{})
	_, _ = fmt.Fprint(w, "retry: 500\n\n") // whoever is gone already is noticed at the first event
	return e
}

// send sends one event; its id, if there is one, says how far the page has come. False when
// nobody takes it any more.
func (e events) send(id string, v any) bool {
	data, err := json.Marshal(v)
	if err != nil {
		return false
	}
	if id != "" {
		id = "id: " + id + "\n"
	}
	_ = e.rc.SetWriteDeadline(time.Now().Add(10 * time.Second))
	if _, err := fmt.Fprintf(e.w, "%sdata: %s\n\n", id, data); err != nil {
		return false
	}
	return e.rc.Flush() == nil
}
