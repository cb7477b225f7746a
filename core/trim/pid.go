package trim

// code is how a control unit answers for a channel: the PID of service 01, and how its value in
// the unit of the PID becomes SI. Source: SAE J1979, 2014 (from memory).
type code struct {
	pid    byte
	unit   string
	factor float64
	plus   float64
}

var codes = [Channels]code{
	Short1: {0x06, "%", 0.01, 0}, Long1: {0x07, "%", 0.01, 0}, Short2: {0x08, "%", 0.01, 0}, Long2: {0x09, "%", 0.01, 0},
	Speed: {0x0C, "rpm", 1, 0}, MeteredAir: {0x10, "g/s", 1e-3, 0}, ManifoldPressure: {0x0B, "kPa", 1e3, 0}, Load: {0x04, "%", 0.01, 0}, Throttle: {0x11, "%", 0.01, 0},
	RoadSpeed: {0x0D, "km/h", 1 / 3.6, 0}, Coolant: {0x05, "°C", 1, 273.15}, IntakeAir: {0x0F, "°C", 1, 273.15}, FuelSystem: {0x03, "", 1, 0},
	Purge: {0x2E, "%", 0.01, 0}, Recirculation: {0x2C, "%", 0.01, 0}, Lambda: {0x44, "", 1, 0}, ChargePressure: {0, "kPa", 1e3, 0}, Barometer: {0x33, "kPa", 1e3, 0},
}

// PID is the channel's number in service 01, and false where it has none that is the same on all
// cars.
func (c Channel) PID() (byte, bool) { return codes[c].pid, codes[c].pid != 0 }

// Unit is the unit of the channel's PID.
func (c Channel) Unit() string { return codes[c].unit }

// SI brings a value in the PID's unit to the channel's.
func (c Channel) SI(v float64) float64 { return v*codes[c].factor + codes[c].plus }

// Coded brings a value of the channel to the PID's unit.
func (c Channel) Coded(v float64) float64 { return (v - codes[c].plus) / codes[c].factor }
