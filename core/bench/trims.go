package bench

// Trims are the total fuel trims at three points, and under boost where there is one.
// Limits are common practice, no source: purging lifts or lowers the trims of a healthy car
// off idle by some 6 %.
var Trims = Register(Test{
	Key:       "trims",
	Odds:      FromPlant,
	PurgeOnly: true,
	Points:    map[string]string{"idle": "idle", "2500": "fast", "load": "loaded"},
	Feels:     []string{"intake", "crankcase", "boost", "look-alike", "recirculation"},
	Channels: []Channel{
		{Key: "engine", Kind: Choice, Words: []string{"runs", "stalls"}, Sense: EngineRuns, Optional: true},
		{Key: "idle", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "fast", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "loaded", Unit: "%", Low: -100, High: 100, Sense: TotalTrim},
		{Key: "boosted", Unit: "%", Low: -100, High: 100, Sense: TotalTrim, Optional: true},
		{Key: "air", Unit: "g/s", Low: 0, High: 800, Sense: MeteredAir, Optional: true},
		{Key: "manifold", Unit: "kPa", Low: 0, High: 400, Sense: ManifoldPressure, Optional: true},
		{Key: "over", Unit: "rpm", Low: -1000, High: 3000, Sense: IdleOver, Optional: true},
		{Key: "drive", Kind: Drive, Sense: DriveData, Optional: true},
	},
	Live: Live{Stretches: driveStretches, Watch: newDriveWatch, Taps: []Tap{{Key: purgeClamped, Name: "Purge hose clamped"}, {Key: purgeFreed, Name: "Purge hose freed"}},
		AllIn: "The drive is in: see what it says, or drive once more to make it sharper."},
	Phases: []Phase{
		{Do: []Step{{Do: Warm}}, Read: []string{"engine"}, Stops: true},
		{Do: []Step{{Do: Idle}}, For: 150, Read: []string{"idle", "air", "manifold", "over"}},
		{Do: []Step{{Do: Fast}}, For: 90, Read: []string{"fast"}},
		{Do: []Step{{Do: Loaded}}, For: 90, Read: []string{"loaded"}},
		{Do: []Step{{Do: Boosted}}, For: 25, Read: []string{"boosted"}},
	},
	Reduce: func(_ Subject, r Readings) Verdict {
		if r.Word("engine") == "stalls" {
			return is("stalls", "The engine does not keep running.")
		}
		if d := r["drive"].Drive; d != nil {
			return driveVerdict(*d)
		}
		idle, a := r.Mean("idle")
		fast, b := r.Mean("fast")
		load, c := r.Mean("loaded")
		boost, boosted := r.Mean("boosted") // not a number when it was not read: it makes no shape then
		switch {
		case !a:
			return ask("idle", "What is the total trim at warm idle, in closed loop?")
		case !b:
			return ask("fast", "What is the total trim at 2500 rpm without load?")
		case !c:
			return ask("loaded", "What is the total trim loaded, on the road?")
		}
		name := func(d float64) string { return trimsShape(idle+d, load+d, boost+d) }
		at := "Total trim " + say(idle) + " % at idle, " + say(fast) + " % at 2500, " + say(load) + " % loaded"
		if boosted {
			at += ", " + say(boost) + " % under boost"
		}
		shape := name(0)
		if name(-trimOff) != shape || name(trimOff) != shape {
			return unsure("%s: at the limit of what is usual. Let it learn, and read all three again.", at)
		}
		return is(shape, "%s%s", at, trimsSay[shape])
	},
})

// trimOff is how far trims of a settled engine wander from one reading to the next, %
// (common practice, no source): a shape that they change is none.
const trimOff = 1.0

// trimsShape names how the total trim goes with flow. Air that enters behind the throttle
// is less of a share the more flows; a false meter is the same share everywhere; what a pump
// or filter lacks grows.
func trimsShape(idle, load, boost float64) string {
	switch {
	case boost < -12 && idle > -8:
		return "boost-rich"
	case idle > 8 && load < 0.6*idle:
		return "idle-lean"
	case load > 8 && idle > 0.5*load:
		return "even"
	case load > 10:
		return "load-lean"
	case idle < -8:
		return "idle-rich"
	case idle > 4 && load > 4:
		return "even"
	}
	return "normal"
}

var trimsSay = map[string]string{
	"boost-rich": ", and rich under boost only: metered air is lost.",
	"idle-lean":  ": it fades with flow. Vacuum leak behind the throttle.",
	"even":       ": the same everywhere. Meter or inlet pipe.",
	"load-lean":  ": it grows with flow. Fuel delivery.",
	"idle-rich":  ": rich at idle. Vapour or an injector.",
	"normal":     ": within what is usual.",
}
