package web

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/obd"
	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/ingest"
	"wexter/instrument"
)

// carPage is a case's car, live: what its adapter says, and commands to its valves.
type carPage struct {
	mapPage
	Adapters  []record.Device
	Adapter   record.Device
	About     instrument.AdapterAbout
	Failed    string
	Commands  []commandView
	Simulated bool
	Cautions  []string
	Drawn     string // how the valves stand on the drawing, as JSON
	Volumes   string // the parts beside which a pressure is written
}

// TrimScale and TrimStop are those of the drawing of a fuel trim, %.
func (carPage) TrimScale() float64 { return trimScale }
func (carPage) TrimStop() float64  { return obd.TrimStop }

type commandView struct {
	Part, Name, Rest string
	Does             string // what 100 % does
}

func (s *server) carView(c *echo.Context) error { return s.showCar(c, nil) }

func (s *server) showCar(c *echo.Context, failed error) error {
	ctx := c.Request().Context()
	f, err := s.shop.Load(ctx, c.Param("id"))
	if err != nil {
		return err
	}
	d := carPage{mapPage: mapPage{Folder: f}}
	for _, st := range record.Stages() {
		d.Stages = append(d.Stages, stageMark{string(st), stageClass(st, f.Case.Stage)})
	}
	car, err := s.shop.Car(f.Vehicle, f.Corrections)
	if err != nil {
		d.Problems = append(d.Problems, err.Error())
	} else if d.Map, err = s.drawMap(f, nil, func(part string) string {
		return "/cases/" + f.Case.ID + "/map?part=" + url.QueryEscape(part) + "#part"
	}, "", lights{}); err != nil {
		d.Problems = append(d.Problems, err.Error())
	}
	if d.Adapters, err = s.shop.DevicesFor(ctx, record.Adapter, f.Case.Number); err != nil {
		return err
	}
	if at := c.QueryParam("adapter"); at != "" {
		if d.Adapter, err = s.shop.Device(ctx, "adapter", at); err != nil {
			failed = err
		}
	} else if len(d.Adapters) > 0 {
		d.Adapter = d.Adapters[0]
	}
	if d.Adapter.Address != "" {
		if a, err := s.reach.Scanner(ctx, d.Adapter); err != nil {
			d.Failed = casework.Sentence(err.Error())
		} else {
			d.About = a.About()
			a.Close()
		}
	}
	d.Simulated = d.About.Simulated && len(d.About.Modes) > 0
	drawn := map[string]string{}
	if car.Graph != nil {
		for _, p := range car.Graph.Parts {
			if p.Kind == plumbing.Valve {
				drawn[p.Key] = string(car.Graph.StateOf(p.Key, nil))
			}
			if p.Kind == plumbing.Volume && p.At != "" {
				d.Volumes += p.Key + " "
			}
			if d.About.Keeps && slices.Contains(d.About.Commands, p.Key) {
				does := "opens it"
				if p.Rest == plumbing.Open {
					does = "shuts it"
				}
				d.Commands = append(d.Commands, commandView{p.Key, p.Name, p.RestWords(), does})
			}
		}
	}
	b, err := json.Marshal(drawn)
	if err != nil {
		return err
	}
	d.Drawn = string(b)
	for _, k := range []string{"running", "vapour", "hot"} {
		d.Cautions = append(d.Cautions, s.shop.Book.Caution(k))
	}
	p := s.page(c, "Car, live · "+f.Case.Number, "slate", d)
	if failed != nil {
		return s.again(c, failed, "car.html", p)
	}
	return s.render(c, http.StatusOK, "car.html", p)
}

// watched are the data that the live page asks for, as far as the car has them.
var watched = []byte{0x03, 0x05, 0x06, 0x07, 0x08, 0x09, 0x0B, 0x0C, 0x10, 0x11, 0x1F, 0x2C, 0x2D, 0x2E, 0x2F, 0x32, 0x42, 0x46, 0x6B}

// carNews is one event of the live page.
type carNews struct {
	Live   []liveValue          `json:"live"`
	State  *instrument.CarState `json:"state,omitempty"`
	Failed string               `json:"failed,omitempty"`
}

type liveValue struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Unit  string `json:"unit"`
	Trim  bool   `json:"trim,omitempty"` // a fuel trim: drawn on its scale
}

// For how long a valve stays commanded when nobody looks any more, s, and how often it is
// said that somebody does.
const (
	commandSeconds = 30
	keepEvery      = 10 * time.Second
)

const carEvery = 500 * time.Millisecond

// carStreams counts who looks: an adapter has few places.
type carStreams struct {
	mu sync.Mutex
	n  int
}

const mostStreams = 6

func (k *carStreams) enter() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.n >= mostStreams {
		return false
	}
	k.n++
	return true
}

func (k *carStreams) leave() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.n--
}

// carStream sends what the adapter says twice a second, as server-sent events, as long
// as somebody looks.
func (s *server) carStream(c *echo.Context) error {
	ctx, cancel := context.WithCancel(c.Request().Context())
	defer cancel()
	go func() { // Wexter is closing: let the adapter go
		select {
		case <-s.hub.Done():
			cancel()
		case <-ctx.Done():
		}
	}()
	d, err := s.shop.Device(ctx, "adapter", c.QueryParam("adapter"))
	if err != nil {
		return err
	}
	if !s.streams.enter() {
		return echo.NewHTTPError(http.StatusServiceUnavailable, "Too many pages watch a car; close one.")
	}
	defer s.streams.leave()
	stream := newEvents(c)
	send := func(n carNews) bool { return stream.send("", n) }
	a, err := s.reach.Scanner(ctx, d)
	if err != nil {
		send(carNews{Failed: casework.Sentence(err.Error())})
		return nil
	}
	defer a.Close()
	supported, err := instrument.Announced(ctx, a)
	if err != nil {
		send(carNews{Failed: casework.Sentence(err.Error())})
		return nil
	}
	tick := time.NewTicker(carEvery)
	defer tick.Stop()
	kept := time.Now()
	for {
		if a.About().Keeps && time.Since(kept) > keepEvery { // somebody still looks: what is commanded goes on
			kept = time.Now()
			if err := a.Work(ctx, fmt.Sprintf("keep %d", commandSeconds)); err != nil {
				return nil
			}
		}
		n, err := carNow(ctx, a, supported)
		if err != nil {
			if ctx.Err() == nil {
				send(carNews{Failed: casework.Sentence(err.Error())})
			}
			return nil
		}
		if !send(n) {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

// carNow asks for the live data that are watched and a car supports, and of a simulated
// car for its state.
func carNow(ctx context.Context, a instrument.Scanner, supported []byte) (carNews, error) {
	n := carNews{Live: []liveValue{}}
	var text strings.Builder
	for _, p := range watched {
		if !slices.Contains(supported, p) {
			continue
		}
		lines, err := a.Ask(ctx, fmt.Sprintf("01 %02X", p))
		if err != nil {
			return n, err
		}
		for _, l := range lines {
			fmt.Fprintln(&text, l)
		}
	}
	if scan, err := ingest.ReadScan([]byte(text.String())); err == nil {
		for _, v := range values(scan.Live) {
			if !v.Part {
				n.Live = append(n.Live, liveValue{v.Name, v.Value, v.Unit, slices.Contains([]string{"06", "07", "08", "09"}, v.PID)})
			}
		}
	}
	if st, err := instrument.State(ctx, a); err == nil {
		n.State = &st
	}
	return n, nil
}

// carDo sends a command to the car, or to the driver of a simulated one.
func (s *server) carDo(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	id, at := c.Param("id"), f.text("adapter")
	err := s.carWork(c.Request().Context(), carPress{id, at, f.text("do"), f.text("part"), f.text("to")})
	if strings.Contains(c.Request().Header.Get("Accept"), "application/json") {
		if err != nil {
			text, code := sentence(err)
			if code == 0 {
				return err
			}
			return say(c, code, "failed", text)
		}
		return c.JSON(http.StatusOK, map[string]string{})
	}
	if err != nil {
		return s.showCar(c, err)
	}
	return c.Redirect(http.StatusSeeOther, "/cases/"+id+"/car?adapter="+url.QueryEscape(at))
}

// carPress is a button of the live car: of which case, through which adapter, and what to
// command or how to drive.
type carPress struct{ caseID, address, do, part, to string }

// carWork does what was pressed. A simulated car alone can be driven from here.
func (s *server) carWork(ctx context.Context, p carPress) error {
	folder, err := s.shop.Load(ctx, p.caseID)
	if err != nil {
		return err
	}
	if folder.Case.Stage == record.Closed {
		return &casework.Problem{Sentence: "This case is closed; open a new one for this car."}
	}
	d, err := s.shop.Device(ctx, record.Adapter, p.address)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, s.within(15*time.Second))
	defer cancel()
	a, err := s.reach.Scanner(ctx, d)
	if err != nil {
		return &casework.Problem{Sentence: casework.Sentence(err.Error())}
	}
	defer a.Close()
	words := ""
	switch {
	case p.do == "command" && a.About().Keeps && slices.Contains(a.About().Commands, p.part) && slices.Contains([]string{"0", "25", "50", "100", "release"}, p.to):
		words = "command " + p.part + " " + p.to
		if p.to != "release" { // a tool that is killed leaves no valve energised
			words += fmt.Sprintf(" for %d", commandSeconds)
		}
	case p.do == "drive" && slices.Contains(a.About().Modes, p.to):
		words = "drive " + p.to
	default:
		return &casework.Problem{Sentence: "This car takes no such command."}
	}
	if err := a.Work(ctx, words); err != nil {
		return &casework.Problem{Sentence: casework.Sentence(err.Error())}
	}
	return nil
}
