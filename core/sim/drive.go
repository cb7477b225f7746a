package sim

import (
	"math"
	"math/rand/v2"
	"strconv"

	"wexter/core/obd"
)

// Leg is a stretch of a drive in one mode.
type Leg struct {
	Mode    Mode
	Seconds float64
	Pull    float64 // manifold pressure over the barometer that the driver holds at Load; 0 as usual
}

// TrimDrive is the drive that tells trims apart: idle, 2500 without load, pulls of three
// strengths and one under boost, idle again.
func TrimDrive() []Leg {
	return []Leg{{Idle, 60, 0}, {Fast, 40, 0}, {Load, 35, 0.5}, {Load, 35, 0.72}, {Load, 25, 0.9}, {Fast, 8, 0}, {Idle, 30, 0}, {Fast, 10, 0}, {Boost, 20, 0}, {Load, 25, 0.6}, {Fast, 8, 0}, {Idle, 50, 0}}
}

// Row is what a scan tool has read at one moment of a drive: values by PID, in the units of
// the PIDs and the steps of their coding.
type Row struct {
	Time float64 // s
	Live map[string]float64
}

// Record drives a car that is warm and looks at it every so many seconds, as a scan tool does.
func (c *Car) Record(legs []Leg, every float64) (out []Row, err error) {
	if err := c.Drive(Idle); err != nil {
		return nil, err
	}
	if err := c.Run(5); err != nil {
		return nil, err
	}
	c.Coolant = math.Max(c.Coolant, 358)
	if err := c.Run(110); err != nil {
		return nil, err
	}
	begin, tool := c.Time, rand.New(rand.NewPCG(c.At.Seed, 13))
	for _, l := range legs {
		c.Engine.pull = l.Pull
		if err := c.Drive(l.Mode); err != nil {
			return nil, err
		}
		for end := c.Time + l.Seconds; c.Time < end-every/2; {
			out = append(out, Row{c.Time - begin, c.read(tool)})
			if err := c.Run(every); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// read is Live with the noise of sensors and an oxygen sensor's swing, coded as on the wire.
func (c *Car) read(tool *rand.Rand) map[string]float64 {
	live := c.Live()
	for _, n := range []struct {
		pid   string
		share float64
	}{{"0C", 0.003}, {"10", 0.006}, {"0B", 0.004}} {
		if v, ok := live[n.pid]; ok {
			live[n.pid] = v * (1 + n.share*tool.NormFloat64())
		}
	}
	if v, ok := live["06"]; ok && c.Unit.Closed {
		live["06"] = v + 1.2*math.Sin(5*c.Time) + 0.4*tool.NormFloat64()
	}
	for k, v := range live {
		pid, err := strconv.ParseUint(k, 16, 8)
		if err != nil {
			continue
		}
		if d, ok := obd.Encode(byte(pid), v); ok {
			if back, ok := obd.Decode(byte(pid), d); ok {
				live[k] = back.Value
			}
		}
	}
	return live
}
