package record

import "fmt"

// What a shop keeps at most. A case must fit into a bundle, and what a bundle brings must
// fit here: the same limits hold where something is written down and where it is taken in.
const (
	MostEntries    = 2000      // of one kind, on a case or a car
	MostTests      = 200       // holds of a case
	MostRuns       = 200       // legs of a hold, struck out or not
	MostChannels   = 40        // of a leg
	MostMarks      = 1000      // of a leg
	MostGaps       = 4000      // of a leg: see Gaps.With
	MostReadings   = 2_000_000 // of a case, over all its legs
	MostLive       = 1_000_000 // of a leg that is read live: a day at ten a second
	MostScan       = 1 << 20   // bytes of a scan
	MostScanBytes  = 24 << 20  // of all scans of a case
	MostPhotoBytes = 64 << 20  // of all photos of a case with its car
)

// Unfit says which field of something that is written down cannot be, and what can.
type Unfit struct{ Field, Says string }

func (u *Unfit) Error() string { return u.Says }

func unfit(field, format string, a ...any) error { return &Unfit{field, fmt.Sprintf(format, a...)} }

// Check refuses a car whose figures cannot be.
func (v Vehicle) Check() error {
	switch {
	case v.Year != 0 && (v.Year < 1960 || v.Year > 2200):
		return unfit("year", "%d is not a model year this shop can have", v.Year)
	case v.OdometerKM < 0 || v.OdometerKM > 5_000_000:
		return unfit("odometer", "%d km is not an odometer reading", v.OdometerKM)
	case v.TankL != 0 && !(v.TankL >= 5 && v.TankL <= 400):
		return unfit("tank size", "a tank holds between 5 and 400 L; this says %.4g L", v.TankL)
	}
	return nil
}

// Check refuses a set-up whose figures cannot be.
func (s Setup) Check() error {
	switch s.VolumeHow {
	case VolumeByLevel:
		if !(s.Tank >= 0.005 && s.Tank <= 0.4 && s.Level >= 0 && s.Level <= 1 && s.Extra >= 0 && s.Extra <= 0.1) {
			return unfit("volume", "a tank of 5 to 400 L, filled between 0 and 100 %%, with at most 100 L of neck, canister and lines")
		}
	case VolumeMetered:
		if !(s.MeterFlow > 0) || !(s.MeterTime > 0) || !(s.MeterRise > 0) {
			return unfit("volume", "metering needs the flow, how long it ran, and how far the pressure rose once settled")
		}
	case VolumeNotNeeded:
		if !(s.Reference > 0) {
			return unfit("reference", "give the diameter of the known orifice")
		}
	default:
		return unfit("volume", "choose how the volume is known: from the fuel level, metered in, or by a known orifice")
	}
	if !(s.VolumeTolerance >= 0.001 && s.VolumeTolerance <= 1) {
		return unfit("tolerance", "a tolerance lies between 0.1 and 100 %%")
	}
	switch {
	case s.Barometer == 0:
		return unfit("barometer", "a barometer of 0 kPa cannot be; it lies between 50 and 120 kPa")
	case s.Temperature == 0:
		return unfit("temperature", "a temperature of 0 K cannot be; it lies between 233 and 353 K")
	}
	if err := s.Decay().Check(); err != nil {
		return unfit("set-up", "%v", err)
	}
	if !(s.Reference >= 0 && s.Reference <= 10e-3) {
		return unfit("reference", "an orifice lies between 0 and 10 mm")
	}
	in := s.Instrument
	if !(in.Range >= 0 && in.Range <= 1e6 && in.Zero >= -2500 && in.Zero <= 2500 && in.RigLoss >= 0 && in.RigLoss <= 1e5) {
		return unfit("gauge", "range, zero or rig loss cannot be; look at their units")
	}
	if in.RigHeld != "" && in.RigHeld != RigHeld && in.RigHeld != RigLost {
		return unfit("rig", "the rig held, or it lost pressure")
	}
	return nil
}

// Check refuses a repair whose figures cannot be.
func (r RepairDone) Check() error {
	switch {
	case r.CostCents < 0 || r.CostCents > 10_000_000:
		return unfit("cost", "a cost lies between 0 and 100 000")
	case r.Minutes < 0 || r.Minutes > 6000:
		return unfit("minutes", "the time lies between 0 and 6000 minutes")
	case !(r.Torque >= 0 && r.Torque <= 1000):
		return unfit("torque", "a torque lies between 0 and 1000 N·m")
	}
	return nil
}

// Check refuses a trial whose duration cannot be.
func (t Trial) Check() error {
	if t.Seconds < 0 || t.Seconds > 24*3600 {
		return unfit("duration", "the duration lies between 0 and 1440 minutes")
	}
	return nil
}

// Check refuses an access card whose time cannot be.
func (c AccessCard) Check() error {
	if c.Minutes < 0 || c.Minutes > 600 {
		return unfit("minutes", "between 0 and 600 minutes to reach it")
	}
	return nil
}

// Ports at which instruments of this computer answer, those of real ones (their drivers)
// and stand-ins alike. Whatever else listens on this computer is not spoken to.
const (
	FirstPort = 4100
	LastPort  = 4399
)

// OwnPort reports whether instruments of this computer answer at a port.
func OwnPort(port int) bool { return port >= FirstPort && port <= LastPort }
