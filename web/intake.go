package web

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/core/record"
)

// vehicle answers what the shop remembers of a plate, as the New case form asks.
func (s *server) vehicle(c *echo.Context) error {
	v, err := s.shop.VehicleByPlate(c.Request().Context(), c.QueryParam("plate"))
	if err != nil {
		return c.JSON(http.StatusNotFound, map[string]string{"error": "not known"})
	}
	out := map[string]any{"make": v.Make, "model": v.Model, "metering": v.Metering, "archetype": v.Archetype,
		"engine": v.Engine, "boost": v.Boost, "crankcase": v.Crankcase, "recirculation": v.Recirculation}
	for name, x := range map[string]float64{"year": float64(v.Year), "odometer": float64(v.OdometerKM), "tank": v.TankL} {
		if x > 0 { // what nobody said stays empty
			out[name] = fmt.Sprintf("%g", x)
		}
	}
	return c.JSON(http.StatusOK, out)
}

// usualCodes are offered to be tapped at an intake.
var usualCodes = []string{"P0440", "P0441", "P0442", "P0446", "P0455", "P0456", "P0457", "P0496", "P0171", "P0174", "P0401", "P0299"}

// newCaseData is what the form of a new case offers.
type newCaseData struct {
	Families []familyChoice
	Codes    []string
	Chips    []chipGroup // signs by when they happen
	Work     chipGroup   // circumstances and recent work
	Renewed  []chip      // parts that were said to be replaced: only those of a refused form
	Kit      string      // of the bay, in one line
}

type chipGroup struct {
	Name  string
	Chips []chip
}

// chip is something to tap at an intake.
type chip struct {
	Tap, Name string // what the form sends: its kind and key
	On        bool
}

func (s *server) newCaseData(c *echo.Context) (newCaseData, error) {
	tapped := c.Request().PostForm["seen"]
	d := newCaseData{Codes: usualCodes}
	for _, f := range plumbing.Families {
		d.Families = append(d.Families, familyChoice{Family: f, Label: familyNames[f], Of: s.shop.Book.Plumbing.Family(f)})
	}
	for _, m := range knowledge.Moments() {
		g := chipGroup{Name: m.Name}
		for _, x := range s.shop.Book.Signs {
			if string(x.At) == m.Key {
				g.Chips = append(g.Chips, tapOf(tapped, knowledge.SuggestsSign, x.Key, x.Name))
			}
		}
		d.Chips = append(d.Chips, g)
	}
	d.Work.Name = "Circumstances and recent work"
	for _, x := range s.shop.Book.Contexts {
		d.Work.Chips = append(d.Work.Chips, tapOf(tapped, knowledge.SuggestsContext, x.Key, x.Name))
	}
	for _, t := range tapped {
		if key, ok := strings.CutPrefix(t, string(knowledge.SuggestsRenewed)+" "); ok {
			d.Renewed = append(d.Renewed, chip{t, s.partNamed(key) + ": replaced", true})
		}
	}
	var err error
	d.Kit, err = s.kitLine(c.Request().Context(), nil)
	return d, err
}

func tapOf(tapped []string, kind knowledge.SuggestionKind, key, name string) chip {
	tap := string(kind) + " " + key
	return chip{tap, name, slices.Contains(tapped, tap)}
}

// partNamed is a part of any car by its key.
func (s *server) partNamed(key string) string {
	for _, f := range plumbing.Families {
		for _, a := range s.shop.Book.Plumbing.Family(f) {
			c, err := s.shop.Book.Plumbing.Complete(plumbing.Combination{}.With(f, a.Key))
			if err != nil {
				continue
			}
			g, err := s.shop.Book.Plumbing.Combine(c)
			if err != nil {
				continue
			}
			if p, ok := g.Part(key); ok {
				return p.Name
			}
		}
	}
	return key
}

// kitLine says in one line what a bay works with: its own list, or the shop's.
func (s *server) kitLine(ctx context.Context, own []string) (string, error) {
	w, err := s.shop.Ways(ctx)
	if err != nil {
		return "", err
	}
	kit := w.Kit
	if len(own) > 0 {
		kit = own
	}
	if kit == nil {
		return "", nil
	}
	var out []string
	for _, k := range s.shop.Book.Kit {
		if slices.Contains(kit, k.Key) {
			out = append(out, plumbing.Lower(k.Short))
		}
	}
	if len(out) == len(s.shop.Book.Kit) {
		return "all kit of the Book", nil
	}
	return strings.Join(out, ", "), nil
}

func (s *server) newCase(c *echo.Context) error {
	d, err := s.newCaseData(c)
	if err != nil {
		return err
	}
	return s.render(c, http.StatusOK, "new.html", s.page(c, "New case", "slate", d))
}

func (s *server) openCase(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	n := casework.NewCase{Plate: f.text("plate"), Make: f.text("make"), Model: f.text("model"), Year: f.whole("year", "Year"),
		OdometerKM: f.whole("odometer", "Odometer"), TankL: f.si("tank", "Tank size", kindVolume, "L") * 1e3,
		Metering: f.text("metering"), Archetype: f.text("archetype"), Engine: f.text("engine"), Boost: f.text("boost"), Crankcase: f.text("crankcase"), Recirculation: f.text("recirculation"),
		Complaint: f.text("complaint"), RecentWork: f.text("recent_work"), Deadline: f.text("deadline"), Codes: f.text("codes"), Away: f.text("away") != "", Who: f.text("who")}
	for _, tap := range c.Request().PostForm["seen"] {
		if w := strings.Fields(tap); len(w) == 2 {
			x := casework.NewObservation{Kind: record.SeenKind(w[0]), Key: w[1]}
			if x.Kind == record.SeenRenewed {
				x.Key, x.Part = "", w[1]
			}
			n.Seen = append(n.Seen, x)
		}
	}
	id, err := "", f.err
	if err == nil {
		id, err = s.shop.OpenCase(c.Request().Context(), f.key(), n)
	}
	if err != nil {
		d, derr := s.newCaseData(c)
		if derr != nil {
			return derr
		}
		return s.again(c, err, "new.html", s.page(c, "New case", "slate", d))
	}
	return s.saved(c, f.key(), "/cases/"+id)
}

// suggest answers which chips the words of an intake may mean: of the complaint, and of the
// work that was done on a car of these families.
func (s *server) suggest(c *echo.Context) error {
	type one struct {
		Tap  string `json:"tap"`
		Name string `json:"name"`
		Said string `json:"said"`
	}
	out := []one{}
	names := map[string]string{}
	for _, x := range s.shop.Book.Signs {
		names[string(knowledge.SuggestsSign)+" "+x.Key] = x.Name
	}
	for _, x := range s.shop.Book.Contexts {
		names[string(knowledge.SuggestsContext)+" "+x.Key] = x.Name
	}
	found := s.shop.Book.SuggestSigns(clip(c.QueryParam("text"), 4000))
	work := clip(c.QueryParam("work"), 2000)
	car, err := s.shop.Car(record.Vehicle{Archetype: c.QueryParam("archetype"), Engine: c.QueryParam("engine"), Boost: c.QueryParam("boost"), Crankcase: c.QueryParam("crankcase"), Recirculation: c.QueryParam("recirculation"), Metering: c.QueryParam("metering")}, nil)
	if err == nil && work != "" {
		for _, x := range s.shop.Book.SuggestRenewed(work, car.Graph.Parts) {
			names[string(x.Kind)+" "+x.Key] = x.Said + ": replaced"
			found = append(found, x)
		}
	}
	for _, x := range found {
		tap := string(x.Kind) + " " + x.Key
		if !slices.ContainsFunc(out, func(o one) bool { return o.Tap == tap }) {
			out = append(out, one{tap, names[tap], x.Said})
		}
	}
	return c.JSON(http.StatusOK, out)
}

// clip cuts a text to so many bytes.
func clip(text string, most int) string { return text[:min(len(text), most)] }

// arrived: the car of a case that was opened before it came is here.
func (s *server) arrived(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error { return s.shop.Arrived(ctx, f.key(), id) })
}

// settleYear takes the model year that a person chose where the vehicle id says another.
func (s *server) settleYear(c *echo.Context) error {
	return s.act(c, "", func(ctx context.Context, f *form, id string) error {
		year := f.whole("year", "Model year")
		if f.err != nil {
			return f.err
		}
		return s.shop.SettleYear(ctx, f.key(), id, year)
	})
}

// shopKit takes what a bay has, asked once on the first start.
func (s *server) shopKit(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	if err := s.shop.SetShopKit(c.Request().Context(), f.key(), append([]string{}, c.Request().PostForm["kit"]...)); err != nil {
		return err
	}
	return s.saved(c, f.key(), "/")
}
