package trim

import (
	"encoding/json"
	"fmt"
	"math"
)

// Drive is what is kept of a log that was read: its points, what was cut, and the engine.
type Drive struct {
	Engine Engine   `json:"engine"`
	Points Points   `json:"points"`
	Notes  []string `json:"notes,omitempty"` // of its reading
	Clamps []Clamp  `json:"clamps,omitempty"`
}

// NewDrive finds the points of a log. Spans, s from and to, are when the purge hose was clamped.
func NewDrive(l *Log, e Engine, spans ...[2]float64) (Drive, error) {
	e, warn, err := e.metered(l)
	if err != nil {
		return Drive{}, err
	}
	if err := l.Check(); err != nil {
		return Drive{}, err
	}
	for i := range spans { // one that was never freed lasts to the end
		spans[i][1] = math.Min(spans[i][1], l.Time[len(l.Time)-1])
	}
	shut := l.clamped(spans)
	p, err := Find(shut)
	if err != nil {
		return Drive{}, err
	}
	if err := p.TooLittle(l); err != nil {
		return Drive{}, err
	}
	return Drive{Engine: e, Points: p, Notes: warn, Clamps: shut.clamps(spans)}, nil
}

// Judge weighs what may be behind the trims of a drive.
func (d Drive) Judge() Result {
	r := JudgePoints(d.Points, d.Engine)
	r.Warnings = append(append([]string{}, d.Notes...), r.Warnings...)
	return r
}

// Judge analyses a log.
func Judge(l *Log, e Engine) (Result, error) {
	d, err := NewDrive(l, e)
	if err != nil {
		return Result{}, err
	}
	return d.Judge(), nil
}

// Check says why a drive that was kept cannot be judged.
func (d Drive) Check() error {
	if len(d.Points.Points) == 0 || len(d.Points.Points) > 4*mostPoints {
		return fmt.Errorf("a drive has between 1 and %d points; this has %d", 4*mostPoints, len(d.Points.Points))
	}
	if d.Engine.Metering != AirMeter && d.Engine.Metering != SpeedDensity {
		return fmt.Errorf("the metering of the engine is not known")
	}
	for i, p := range d.Points.Points {
		if len(p.Banks) < 1 || len(p.Banks) > 2 || !(p.Speed > 0) || !(p.Seconds > 0) {
			return fmt.Errorf("point %d has no trims, no speed or no length", i+1)
		}
		for _, b := range p.Banks {
			if !(b.Total > -1 && b.Total < 4) || !(b.SD >= 0 && b.SD < 4) {
				return fmt.Errorf("point %d has a total trim of %g", i+1, b.Total)
			}
		}
	}
	return d.Engine.Check()
}

// pointJSON is a Point in JSON, which has no word for what was not read: null stands there.
type pointJSON struct {
	Region  string      `json:"region"`
	Seconds float64     `json:"seconds"`
	Visits  int         `json:"visits"`
	Banks   []Bank      `json:"banks"`
	Read    [9]*float64 `json:"read"` // speed, air, pressure, charge, load, intake, barometer, purge, EGR
}

func (p *Point) read() [9]*float64 {
	return [9]*float64{&p.Speed, &p.Air, &p.Pressure, &p.Charge, &p.Load, &p.Intake, &p.Barometer, &p.Purge, &p.EGR}
}

// MarshalJSON writes what was not read as null.
func (p Point) MarshalJSON() ([]byte, error) {
	out := pointJSON{Region: p.Region.Key(), Seconds: p.Seconds, Visits: p.Visits, Banks: p.Banks, Read: p.read()}
	for i, x := range out.Read {
		if math.IsNaN(*x) || math.IsInf(*x, 0) {
			out.Read[i] = nil
		}
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads null as what was not read.
func (p *Point) UnmarshalJSON(data []byte) error {
	var in pointJSON
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	*p = Point{Seconds: in.Seconds, Visits: in.Visits, Banks: in.Banks}
	for r := Other; r <= Loaded; r++ {
		if r.Key() == in.Region {
			p.Region = r
		}
	}
	for i, x := range p.read() {
		if *x = math.NaN(); in.Read[i] != nil {
			*x = *in.Read[i]
		}
	}
	return nil
}
