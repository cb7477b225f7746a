package bench

import (
	"fmt"

	"wexter/core/plumbing"
	"wexter/core/units"
)

// Verb is something that is done to a car, a part or the rig.
type Verb int

// What can be done.
const (
	Wait        Verb = iota
	KeyOn            // key on, engine off
	Warm             // warm at idle
	Idle             // at idle
	Fast             // 2500 rpm without load
	Loaded           // on the road, loaded
	Boosted          // under boost
	EngineOff        // engine off
	Trip             // a drive on which every monitor may run, and the night after it
	Park             // a drive of twenty minutes, then key off
	HotDay           // ten kelvin warmer
	Seal             // sealed as the archetype asks, rig at its entry
	Join             // the rig joined at a part
	Charge           // to a pressure, then shut off
	Hold             // a regulator keeps a pressure
	Smoke            // a regulator keeps a pressure, with smoke
	Draw             // to a vacuum, then shut off
	ShutRig          // rig shut
	OpenRig          // rig open to the air
	Put              // a part into a state
	Clear            // a part left to itself
	Command          // a valve to a share of its opening
	Uncommand        // a valve left to the control unit
	Press            // a part on the bench rig, brought to a pressure or vacuum
	SelfCheck        // the car's own leak check, let run as it does
	PlugRig          // the rig by itself, its end plugged
	RigOnCar         // the rig's end on the car
	OpenOrifice      // the rig's known orifice open
	ShutOrifice      // and shut
	Pump             // a hand pump on a part, brought up again each time it was let go
	Ramp             // by hand, slowly away from zero until it lets go, stand, let go to the air
	OwnCheck         // the control unit is asked for its own leak check
	Regulate         // by hand, a regulator slowly up to a pressure, where the rig is joined
	ColdStart        // cold after a night, the engine is started and idles
	UpAndDown        // by hand in steps to a pressure, back to the air, and to as much vacuum
)

// Step is one thing that is done. At is the role or key of a part, or one of the places
// below. Value is a pressure in Pa, or a share.
type Step struct {
	Do    Verb
	At    string
	State plumbing.State
	Value float64
	May   bool // a car without such a part is done without it
}

// Places that a step may name beside roles and keys.
const (
	AtPart      = "@part"      // the part in question
	AtEntry     = "@entry"     // where a gauge is usually joined
	AtFarEnd    = "@far-end"   // what is opened to let smoke through
	AtDiaphragm = "@diaphragm" // of a valve that vacuum moves
	AtPurgeLine = "@purge-line"
	AtInlet     = "@inlet"    // of the engine's air
	AtBreather  = "@breather" // from the crankcase to the inlet
)

// Phase is a stretch of a test: what is done, how long is waited, what is read at its end.
type Phase struct {
	Do    []Step
	For   float64 // s
	Until Sense   // the wait ends early when this says yes, or reaches Reach
	Reach float64
	Every float64 // s between looks while waiting, for what is watched; 0: nothing is
	Mean  float64 // s before the end over which a figure is averaged
	Read  []string
	// Stops ends the test when the engine has stopped: what comes after cannot be read.
	Stops bool
}

// Sense is an instrument, or an eye, by what it gives.
type Sense string

// What instruments and eyes give. Figures are in the unit of the channel that takes them.
const (
	Codes            Sense = "codes"
	OpenMonitors     Sense = "open monitors"
	SupplyVolts      Sense = "supply volts"
	Damage           Sense = "damage seen"
	BenchPressure    Sense = "bench pressure"
	BenchVacuum      Sense = "bench vacuum"
	RigPressure      Sense = "rig pressure"
	RigFlow          Sense = "rig flow"
	RigFlowBefore    Sense = "rig flow, a minute before"
	RigTrace         Sense = "rig trace"
	RigCameUp        Sense = "rig came up"
	WallTemperature  Sense = "wall temperature"
	Barometer        Sense = "barometer"
	AirTemperature   Sense = "air temperature"
	SmokeExits       Sense = "smoke exits"
	SmokeAtFarEnd    Sense = "smoke at the far end"
	NoSmokeYet       Sense = "places without smoke"
	PartSmoke        Sense = "smoke from the part"
	PartSeals        Sense = "part seals"
	PartPasses       Sense = "part passes"
	PartMoves        Sense = "part moves"
	CoilOhms         Sense = "coil ohms"
	PurgePull        Sense = "pull at the purge valve"
	TotalTrim        Sense = "total trim"
	EngineRuns       Sense = "engine runs"
	Stumbles         Sense = "engine stumbles"
	Recovers         Sense = "engine recovers"
	AirFalls         Sense = "less air, or more manifold pressure"
	DriveData        Sense = "live data of a drive"
	MeteredAir       Sense = "metered air"
	ManifoldPressure Sense = "manifold pressure"
	IdleOver         Sense = "idle speed over its target"
	Crankcase        Sense = "crankcase pressure"
	TankPressure     Sense = "tank pressure"
	TankVacuum       Sense = "tank vacuum"
	SensorVacuum     Sense = "vacuum by the car's own sensor"
	LowestTank       Sense = "lowest tank pressure"
	TankCooled       Sense = "fuel cooled by"
	SwitchTime       Sense = "switch changed after"
	ReliefOpens      Sense = "relief opens"
	ReliefReseals    Sense = "relief reseals"
	SwitchChanges    Sense = "switch changes"
	VacuumRelief     Sense = "vacuum relief opens"
	PumpStrokes      Sense = "pump strokes"
	SignalVacuum     Sense = "signal vacuum at the diaphragm"
	SoakSwitch       Sense = "volts at the vent unit's switch"
	PumpSwitch       Sense = "volts at the pump's switch"
	PumpPause        Sense = "pump pause"
	CheckShare       Sense = "share of the reference"
	CheckRan         Sense = "check ran"
	VentFree         Sense = "vent free"
	Complaint        Sense = "complaint"
	FuelLevel        Sense = "fuel level by the car"
	CarBarometer     Sense = "barometer by the car"
	CarVolts         Sense = "supply volts by the car"
	UnitPressure     Sense = "pressure at the vent unit"
	SwitchVolts      Sense = "volts across the switch"
	SensorSupply     Sense = "sensor supply"
	SensorZero       Sense = "sensor zero"
	SensorAtTen      Sense = "sensor at 10 inH2O"
	SensorShows      Sense = "pressure by the sensor on the pump"
	SensorVolts      Sense = "signal volts of the sensor"
	ClampData        Sense = "live data while a hose is clamped"
	PumpGauge        Sense = "gauge at the hand pump"
	PassesForward    Sense = "passes forward"
	HoldsBackward    Sense = "holds backward"
	DifferenceVolts  Sense = "differential volts"
	GasTemperature   Sense = "gas temperature"
	AirExits         Sense = "air exits"
	AirAtDipstick    Sense = "air at the dipstick"
)

// Words says a step as a technician reads it; name is the part's name.
func (s Step) Words(name string) string {
	switch s.Do {
	case Charge, Hold, Smoke, Press, Draw, Pump, Ramp, UpAndDown, Regulate:
		if s.Value < 0 && s.Do != Pump && s.Do != Ramp {
			return fmt.Sprintf(verbWords[Draw], units.Format(-s.Value, units.Pressure, "inHg", 2))
		}
		return fmt.Sprintf(verbWords[s.Do], units.Format(s.Value, units.Pressure, "inH2O", 3))
	case Put:
		return fmt.Sprintf("%s: %s", name, s.State)
	case Command:
		return fmt.Sprintf("%s: command %.0f %%", name, 100*s.Value)
	case Join, Clear, Uncommand:
		return fmt.Sprintf(verbWords[s.Do], name)
	}
	return verbWords[s.Do]
}

var verbWords = map[Verb]string{
	KeyOn: "Key on, engine off", Warm: "Warm the engine up, idle", Idle: "Idle", Fast: "2500 rpm, no load", Loaded: "On the road, loaded", Boosted: "Full load, under boost",
	EngineOff: "Engine off", Trip: "Drive until the monitors have run, then leave the car overnight", Park: "Drive 20 min, then key off", HotDay: "A hot day",
	Seal: "Seal the system, rig connected", Join: "Connect the rig at the %s", Charge: "Charge to %s", Hold: "Regulator at %s", Smoke: "Smoke, regulator at %s", Press: "Bring it to %s", Pump: "Hand pump to %s", Ramp: "Slowly by hand towards %s", Regulate: "Regulator slowly up to %s", ColdStart: "Start it cold, after a night", UpAndDown: "By hand in steps to %s, back, and as far in vacuum",
	Draw: "Draw %s of vacuum", ShutRig: "Shut the rig", OpenRig: "Open the rig", SelfCheck: "Let the car's own check run", OwnCheck: "Ask the car for its own leak check", PlugRig: "Plug the rig's end", RigOnCar: "Rig on the car", OpenOrifice: "Open the rig's known orifice", ShutOrifice: "Shut the rig's known orifice", Clear: "%s: back to normal", Uncommand: "%s: release"}

// WaitWords says how long a phase waits; empty when it does not.
func (p Phase) WaitWords() string {
	switch {
	case p.For <= 0:
		return ""
	case p.For >= 3600:
		return fmt.Sprintf("wait %.3g h", p.For/3600)
	case p.For > 120:
		return fmt.Sprintf("wait %.3g min", p.For/60)
	}
	return fmt.Sprintf("wait %.0f s", p.For)
}
