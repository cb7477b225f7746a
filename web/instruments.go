package web

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"wexter/casework"
	"wexter/core/bench"
	"wexter/core/knowledge"
	"wexter/core/record"
	"wexter/core/units"
	"wexter/instrument"
	"wexter/live"
)

type instrumentsData struct {
	Cases             []casework.SlateRow     // whose car is here and has an EVAP system
	At                map[string]*record.Case // whose car is here, by number
	Modules, Adapters []deviceView
	Tests             []knowledge.Test // that a measuring instrument can read
	Ports             []string
	Kinds             []addable
	Ask               string
}

// deviceView is an instrument as its page lists it.
type deviceView struct {
	record.Device
	Speaks string // how it is spoken to, and where
	Due    bool   // past the date of its calibration
	Reach  reachView
	Reads  []knowledge.Test // tests of the Book that it can read on the car at which it is
	Offer  bool             // the last of those that are carried around: what they can begin is offered behind it
}

// reachView is what an instrument shows at this moment.
type reachView struct {
	ID     string      `json:"id"`
	State  live.Status `json:"state"`
	Facts  []string    `json:"facts"` // range, resolution, zero, calibration
	Said   string      `json:"said"`
	Values []shownView `json:"values"`
	Lost   string      `json:"lost"`
	Seen   []string    `json:"seen"`
}

// shownView is what one channel shows.
type shownView struct {
	Key    string `json:"key"`
	Name   string `json:"name"`
	Text   string `json:"text"`
	Second string `json:"second"`
}

// driverWords say how an instrument is spoken to.
var driverWords = map[record.Driver]string{record.OwnLines: "says itself what it is", record.ATCommands: "AT commands", record.NumberLines: "a line of numbers", record.ModbusUnit: "Modbus registers"}

// addable is something that can be added: its word in the form, and how it is called there.
type addable struct {
	Key, Name string
	as        casework.NewDevice
}

var kinds = []addable{
	{"module", "pressure module that says what it is", casework.NewDevice{Kind: record.Module, Driver: record.OwnLines}},
	{"adapter", "scan adapter that says what it is", casework.NewDevice{Kind: record.Adapter, Driver: record.OwnLines}},
	{"adapter-at", "scan adapter with AT commands", casework.NewDevice{Kind: record.Adapter, Driver: record.ATCommands}},
	{"lines", "sensor that prints a line of numbers", casework.NewDevice{Kind: record.Module, Driver: record.NumberLines, Settings: record.DeviceSettings{Lines: record.LineFormat{Separator: "comma"}}}},
	{"modbus", "transmitter with Modbus registers", casework.NewDevice{Kind: record.Module, Driver: record.ModbusUnit, Settings: record.DeviceSettings{Modbus: record.ModbusFormat{UnitID: 1, Rate: 5}}}},
}

func (s *server) instruments(c *echo.Context) error { return s.showInstruments(c, nil, "") }

func (s *server) showInstruments(c *echo.Context, failed error, ask string) error {
	ctx := c.Request().Context()
	d := instrumentsData{Ask: ask, Kinds: kinds}
	for kind, list := range map[record.DeviceKind]*[]deviceView{record.Module: &d.Modules, record.Adapter: &d.Adapters} {
		ds, err := s.shop.Devices(ctx, kind)
		if err != nil {
			return err
		}
		slices.SortStableFunc(ds, func(a, b record.Device) int { // car by car, and by what is written on them
			return cmp.Or(strings.Compare(a.For, b.For), strings.Compare(a.Name, b.Name))
		})
		for _, x := range ds {
			*list = append(*list, s.deviceView(x))
		}
	}
	if n := slices.IndexFunc(d.Modules, func(v deviceView) bool { return v.For != "" }); n != 0 && len(d.Modules) > 0 {
		if n < 0 {
			n = len(d.Modules)
		}
		d.Modules[n-1].Offer = true
	}
	any := record.Device{Kind: record.Module, Settings: record.DeviceSettings{Measures: quantityKeys()}}
	d.Tests = s.readBy(any, func(knowledge.Test) bool { return true })
	d.Ports, _ = s.reach.Ports() // a system that lists none has none to choose
	rows, err := s.shop.Slate(ctx)
	if err != nil {
		return err
	}
	d.At = map[string]*record.Case{}
	for _, r := range rows {
		if r.Case.Stage == record.Closed || r.Case.Away {
			continue
		}
		d.At[r.Case.Number] = &r.Case
		for _, list := range [][]deviceView{d.Modules, d.Adapters} {
			for i := range list {
				if car, _ := s.shop.Combination(r.Vehicle); list[i].For == r.Case.Number {
					list[i].Reads = s.readBy(list[i].Device, func(t knowledge.Test) bool { return t.Fits(car) })
				}
			}
		}
		if _, ok := s.shop.Archetype(r.Vehicle); ok {
			d.Cases = append(d.Cases, r)
		}
	}
	p := s.page(c, "Instruments", "instruments", d)
	if failed != nil {
		return s.again(c, failed, "instruments.html", p)
	}
	return s.render(c, http.StatusOK, "instruments.html", p)
}

// readBy are the tests of the Book that an instrument can read, those of the whole car first: of
// one part, the part is chosen next.
func (s *server) readBy(d record.Device, fits func(knowledge.Test) bool) (out []knowledge.Test) {
	for _, t := range s.shop.Book.Tests {
		b := bench.For(t)
		if b.Odds == bench.FromCodes || len(b.Phases) == 0 || !fits(t) {
			continue
		}
		if slices.ContainsFunc(b.Wants(), func(w bench.Want) bool { return gives(d, w) == record.Gives && !w.Optional }) {
			out = append(out, t)
		}
	}
	return out
}

// quantityKeys are the channels of an instrument that measures everything.
func quantityKeys() (out []string) {
	for _, q := range record.Quantities() {
		out = append(out, string(q))
	}
	return out
}

// gives says whether an instrument gives what a test wants.
func gives(d record.Device, w bench.Want) record.Giving {
	switch {
	case (d.Kind == record.Adapter) != (w.Key == bench.LiveData):
		return record.GivesNot
	case d.Kind == record.Adapter:
		return record.Gives
	}
	return d.Gives(w.Key)
}

// Holds reports whether a leak-down test can be done on a case.
func (d instrumentsData) Holds(id string) bool {
	return slices.ContainsFunc(d.Cases, func(r casework.SlateRow) bool { return r.Case.ID == id })
}

// deviceView is an instrument with what is known of it now; asking keeps it being read.
func (s *server) deviceView(d record.Device) deviceView {
	v := deviceView{Device: d, Speaks: driverWords[d.Driver] + ", " + d.Address}
	if d.Serial() {
		v.Speaks += fmt.Sprintf(" at %d baud", d.Baud)
	}
	r, err := s.hub.Watch(d)
	if err != nil {
		v.Reach = reachView{ID: d.ID, State: live.Lost, Said: casework.Sentence(err.Error())}
		return v
	}
	v.Reach, v.Due = reachOf(d, r), d.Past(s.shop.Now())
	return v
}

// facts say range, resolution and zero of an instrument, and when it was calibrated.
func facts(d record.Device, about instrument.About) []string {
	out := []string{}
	for _, ch := range about.Channels {
		if f := channelFacts(ch, d.Scaling(record.Quantity(ch.Key))); f != "" && d.Kind == record.Module {
			out = append(out, f)
		}
	}
	var dates []string
	if at := cmp.Or(d.Settings.CalibratedOn, about.CalibratedOn); at != "" {
		dates = append(dates, "calibrated "+at)
	}
	if d.Settings.DueOn != "" {
		dates = append(dates, "due "+d.Settings.DueOn)
	}
	if len(dates) > 0 {
		out = append(out, strings.Join(dates, ", "))
	}
	return out
}

// channelFacts say range, resolution and zero of a channel; empty when nothing is known of it.
func channelFacts(c instrument.Channel, set *record.Scaling) string {
	if c.Low == c.High || c.Key == instrument.WallKey && set == nil {
		return ""
	}
	low, high, step := c.Low, c.High, c.Resolution
	unit := c.Unit
	if q := record.Quantity(c.Key); q.Words() != "" {
		kind, _ := q.Kind()
		u := units.Must(q.BayUnit(), kind)
		low, high, step, unit = u.FromSI(c.Low), u.FromSI(c.High), u.FromSI(c.Resolution)-u.FromSI(0), u.Symbol
	}
	f := fmt.Sprintf("%s %s to %s %s", c.Name, units.Digits(low, 3), units.Digits(high, 3), unit)
	if step > 0 {
		f += ", step " + units.Digits(step, 2)
	}
	if set != nil && set.Zero != 0 {
		f += fmt.Sprintf(", zero %s %s taken off", units.Digits(set.Zero, 3), set.Unit)
	}
	return f
}

// reachOf is what is shown of an instrument at this moment.
func reachOf(d record.Device, r live.Reach) reachView {
	v := reachView{ID: d.ID, State: r.Status, Said: r.Said, Facts: facts(d, r.About), Values: []shownView{}, Seen: []string{}}
	switch {
	case r.Said != "":
	case r.Status == live.Looking:
		v.Said = "Looking for it."
	case r.Bench != "":
		v.Said = "On the bench of " + r.Bench + "."
	}
	for _, ch := range r.About.Channels {
		x, ok := r.Last[ch.Key]
		if !ok || d.Kind == record.Adapter && len(v.Values) == 2 {
			continue
		}
		v.Values = append(v.Values, shownOf(ch, x))
	}
	if r.Lost > 0 {
		v.Lost = fmt.Sprintf("%d of %d lines could not be read", r.Lost, r.Lost+r.Taken)
	}
	v.Seen = append(v.Seen, r.Seen...)
	return v
}

// shownOf writes what a channel shows in the unit of the bay, and in a second one.
func shownOf(c instrument.Channel, x instrument.Value) shownView {
	v := shownView{Key: c.Key, Name: c.Name}
	over := ""
	if x.Over {
		over = "beyond "
	}
	q := record.Quantity(c.Key)
	kind, ok := q.Kind()
	if !ok {
		v.Text = strings.TrimSpace(over + units.Digits(x.Value, 4) + " " + c.Unit)
		return v
	}
	column := record.RunChannel{Key: c.Key, Unit: c.Unit, Resolution: c.Resolution}
	bay, to := bench.InBay(column)
	digits := bench.Digits(column, to)
	v.Text = over + units.Fixed(x.Value, kind, bay, digits)
	if kind == units.Pressure || kind == units.Temperature {
		v.Second = units.Fixed(x.Value, kind, units.Second(bay, kind), digits)
	}
	return v
}

func (s *server) addInstrument(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	i := slices.IndexFunc(kinds, func(k addable) bool { return k.Key == f.text("kind") })
	if i < 0 {
		return s.showInstruments(c, &casework.Problem{Field: "kind", Sentence: "Choose what it is."}, "")
	}
	n := kinds[i].as
	n.Name, n.Address, n.Sure = f.text("name"), f.text("address"), f.text("sure") != ""
	if port := f.text("port"); port != "" {
		n.Address, n.Baud = port, f.whole("baud", "Speed")
	}
	if f.err != nil {
		return s.showInstruments(c, f.err, "")
	}
	id, err := s.shop.AddDevice(c.Request().Context(), f.key(), n)
	if err != nil {
		ask := ""
		if q, ok := err.(*casework.Question); ok {
			ask = q.Sentence
		}
		return s.showInstruments(c, err, ask)
	}
	if n.Driver == record.NumberLines || n.Driver == record.ModbusUnit {
		return s.saved(c, f.key(), "/instruments/"+id)
	}
	return s.saved(c, f.key(), "/instruments")
}

// startBench starts a test on a case with an instrument, from the page of the instruments. One of
// a single part asks first which.
func (s *server) startBench(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f, ctx := form{c: c}, c.Request().Context()
	id, test := f.text("case"), cmp.Or(f.text("test"), bench.PressureHold.Key)
	e, _ := s.shop.Book.Test(test)
	t := bench.For(e)
	var seats record.Seats
	if d, err := s.shop.DeviceByID(ctx, f.text("device")); err == nil {
		for _, w := range t.Wants() {
			if gives(d, w) != record.GivesNot {
				seats = append(seats, record.Seat{Want: w.Key, Device: d.ID})
			}
		}
	}
	var made, at string
	var err error
	switch {
	case t.On == bench.OnePart:
		return c.Redirect(http.StatusSeeOther, fmt.Sprintf("/cases/%s/do/%s", id, test))
	case t.Odds == bench.FromHole:
		made, err = s.shop.StartTest(ctx, f.key(), id, "")
	default:
		at = "/live"
		made, err = s.shop.StartBench(ctx, f.key(), id, casework.NewBench{Test: test})
	}
	if err == nil && len(seats) > 0 {
		err = s.shop.Seat(ctx, made, seats)
	}
	if err != nil {
		return s.showInstruments(c, err, "")
	}
	return s.saved(c, f.key(), "/tests/"+made+at)
}

func (s *server) removeInstrument(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := form{c: c}
	ctx := c.Request().Context()
	if d, err := s.shop.DeviceByID(ctx, f.text("device")); err == nil {
		if err := s.hub.Let(d); err != nil {
			return s.showInstruments(c, err, "")
		}
	}
	if err := s.shop.RemoveDevice(ctx, f.key(), f.text("device")); err != nil {
		return s.showInstruments(c, err, "")
	}
	return s.saved(c, f.key(), "/instruments")
}

// reachEvery is how often a page is told what its instruments show.
const reachEvery = 500 * time.Millisecond

// instrumentStream tells a page what instruments show, as server-sent events, as long as
// somebody looks: all of them, or the one that is named.
func (s *server) instrumentStream(c *echo.Context) error {
	ctx := c.Request().Context()
	e := newEvents(c)
	tick := time.NewTicker(reachEvery)
	defer tick.Stop()
	for {
		out, err := s.reaches(ctx, c.QueryParam("id"))
		if err != nil || !e.send("", out) {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil
		case <-s.hub.Done():
			return nil
		case <-tick.C:
		}
	}
}

// reaches are what instruments show.
func (s *server) reaches(ctx context.Context, id string) ([]reachView, error) {
	out := []reachView{}
	ds, err := s.shop.Devices(ctx, "")
	if err != nil {
		return nil, err
	}
	for _, d := range ds {
		if id != "" && d.ID != id {
			continue
		}
		r, err := s.hub.Watch(d)
		if err != nil {
			return nil, err
		}
		out = append(out, reachOf(d, r))
	}
	return out, nil
}

// instrumentData is the page on which one instrument is set up.
type instrumentData struct {
	deviceView
	Rows       []scalingRow
	Quantities []record.Quantity
	Separators []string
	Types      []record.ModbusType
	Bauds      []int
}

// scalingRow is a column or a register in the form.
type scalingRow struct {
	N       int // from 0: in the names of its fields
	At      int
	Set     record.Scaling
	Reg     record.ModbusRegister
	Measure bool
}

// scalingField is one field of a row.
type scalingField struct{ Name, Label, Value string }

// Fields are those of the row's scaling; of one that is not read yet they are empty.
func (r scalingRow) Fields() []scalingField {
	say := func(v float64, usual string) string {
		if !r.Measure {
			return usual
		}
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return []scalingField{{"unit", "unit", r.Set.Unit}, {"factor", "factor", say(r.Set.Factor, "1")}, {"zero", "zero", say(r.Set.Zero, "0")},
		{"low", "lowest reading", say(r.Set.Low, "")}, {"high", "highest reading", say(r.Set.High, "")}, {"resolution", "step", say(r.Set.Resolution, "")}}
}

func (s *server) instrumentView(c *echo.Context) error { return s.showInstrument(c, nil) }

func (s *server) showInstrument(c *echo.Context, failed error) error {
	d, err := s.shop.DeviceByID(c.Request().Context(), c.Param("id"))
	if err != nil {
		return err
	}
	v := instrumentData{deviceView: s.deviceView(d), Quantities: record.Quantities(), Separators: record.Separators, Types: record.ModbusTypes(), Bauds: record.Bauds}
	if d.Driver == record.NumberLines {
		v.Rows = lineRows(d.Settings.Lines, v.Reach.Seen)
	}
	if d.Driver == record.ModbusUnit {
		for i := range min(len(d.Settings.Modbus.Registers)+1, record.MostColumns) {
			r := scalingRow{N: i, Reg: record.ModbusRegister{Function: 4, Type: record.Int16}}
			if i < len(d.Settings.Modbus.Registers) {
				r.Reg = d.Settings.Modbus.Registers[i]
				r.Set, r.Measure = r.Reg.Scaling, true
			}
			v.Rows = append(v.Rows, r)
		}
	}
	p := s.page(c, d.Name, "instruments", v)
	if failed != nil {
		return s.again(c, failed, "instrument.html", p)
	}
	return s.render(c, http.StatusOK, "instrument.html", p)
}

// lineRows are the columns of a line: as many as it has, or as were set up.
func lineRows(f record.LineFormat, seen []string) (rows []scalingRow) {
	n := 4 // nothing has come yet
	if len(seen) > 0 {
		n = len(instrument.SplitLine(f, seen[len(seen)-1]))
	}
	for _, c := range f.Columns {
		n = max(n, c.At)
	}
	for i := range min(n, record.MostColumns) {
		r := scalingRow{N: i, At: i + 1}
		for _, c := range f.Columns {
			if c.At == i+1 {
				r.Set, r.Measure = c.Scaling, true
			}
		}
		rows = append(rows, r)
	}
	return rows
}

// setInstrument keeps how an instrument is read.
func (s *server) setInstrument(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	ctx, id := c.Request().Context(), c.Param("id")
	d, err := s.shop.DeviceByID(ctx, id)
	if err != nil {
		return err
	}
	if err := s.hub.Let(d); err != nil { // it is opened again, as it is read from now on
		return s.showInstrument(c, err)
	}
	err = s.shop.SetDevice(ctx, f.key(), id, func(d *record.Device) error {
		d.Name = f.text("name")
		d.Settings.Serial, d.Settings.CalibratedOn, d.Settings.DueOn = f.text("serial"), f.text("calibrated"), f.text("due")
		if d.Serial() {
			d.Baud = f.whole("baud", "Speed")
		}
		switch d.Driver {
		case record.NumberLines:
			d.Settings.Lines = f.lineFormat()
		case record.ModbusUnit:
			d.Settings.Modbus = f.modbusFormat()
		}
		return f.err
	})
	if err != nil {
		return s.showInstrument(c, err)
	}
	return s.saved(c, f.key(), "/instruments/"+id)
}

// lineFormat reads how a line is read.
func (f *form) lineFormat() record.LineFormat {
	out := record.LineFormat{Separator: f.text("separator"), Comma: f.text("comma") != ""}
	for i := range record.MostColumns {
		if s, ok := f.scaling(i, fmt.Sprintf("Column %d", i+1)); ok {
			out.Columns = append(out.Columns, record.LineColumn{At: i + 1, Scaling: s})
		}
	}
	return out
}

// modbusFormat reads which registers are read.
func (f *form) modbusFormat() record.ModbusFormat {
	out := record.ModbusFormat{UnitID: f.whole("unit", "Unit"), Rate: f.number("rate", "Readings a second"), Parity: f.text("parity")}
	for i := range record.MostColumns {
		s, ok := f.scaling(i, fmt.Sprintf("Register %d", i+1))
		if !ok {
			continue
		}
		n := strconv.Itoa(i)
		out.Registers = append(out.Registers, record.ModbusRegister{Function: f.whole("function-"+n, "Function"), Address: f.whole("at-"+n, "Address"),
			Type: record.ModbusType(f.text("type-" + n)), LowFirst: f.text("low-first-"+n) != "", Scaling: s})
	}
	return out
}

// scaling reads one column or register; false when it is not read.
func (f *form) scaling(i int, label string) (record.Scaling, bool) {
	n := strconv.Itoa(i)
	s := record.Scaling{Quantity: record.Quantity(f.text("quantity-" + n)), Unit: f.text("unit-" + n), Factor: 1}
	if s.Quantity == "" {
		return s, false
	}
	if f.text("factor-"+n) != "" {
		s.Factor = f.number("factor-"+n, label+", factor")
	}
	s.Zero, s.Resolution = f.number("zero-"+n, label+", zero"), f.number("resolution-"+n, label+", step")
	s.Low, s.High = f.needed("low-"+n, label+", lowest reading").number("low-"+n, label+", lowest reading"), f.needed("high-"+n, label+", highest reading").number("high-"+n, label+", highest reading")
	return s, true
}

// steadyShare is how far readings may scatter that a zero is taken from, as a share of the
// range.
const steadyShare = 0.005

// zeroInstrument takes what a channel reads now, open to the air, as its zero.
func (s *server) zeroInstrument(c *echo.Context) error {
	if err := parsed(c); err != nil {
		return err
	}
	f := &form{c: c}
	ctx, id := c.Request().Context(), c.Param("id")
	d, err := s.shop.DeviceByID(ctx, id)
	if err != nil {
		return err
	}
	q := record.Quantity(f.text("quantity"))
	if kind, ok := q.Kind(); !ok || kind != units.Pressure && kind != units.Flow {
		return s.showInstrument(c, &casework.Problem{Sentence: "Only a pressure and a flow are nothing when the instrument stands open to the air."})
	}
	mean, scatter, err := s.hub.Mean(d, string(q))
	if set := d.Scaling(q); err == nil && set != nil && scatter > steadyShare*math.Abs(set.SI(set.High)-set.SI(set.Low))+2*set.SI(set.Resolution) {
		err = &casework.Problem{Sentence: "It does not stand still yet. Open it to the air, wait some seconds, and press again."}
	}
	if err == nil {
		err = s.shop.SetDevice(ctx, f.key(), id, func(d *record.Device) error {
			set := d.Scaling(q)
			if set == nil {
				return &casework.Problem{Sentence: "This instrument has no such channel."}
			}
			kind, _ := q.Kind()
			set.Zero += units.Must(set.Unit, kind).FromSI(mean)
			return nil
		})
	}
	if err == nil {
		err = s.hub.Let(d)
	}
	if err != nil {
		return s.showInstrument(c, err)
	}
	return s.saved(c, f.key(), "/instruments/"+id)
}
