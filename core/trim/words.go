package trim

import (
	"slices"
	"strings"
)

// wouldTell says what tells a cause from others that look alike in a log. Common practice, no
// source.
func (r *Result) wouldTell(first Cause, others []string) string {
	pulled := slices.ContainsFunc(r.Points.Points, func(p Point) bool { return p.Region == Loaded && p.Seconds >= 20 })
	out := ""
	for _, k := range others {
		say := tells[pairOf(first.Key(), k)]
		if pulled && strings.HasPrefix(say, aPull) { // it was driven, and told too little
			say = ""
		}
		if say == "" {
			say = tellsAlone[Key(k)]
		}
		if say == "" {
			say = "A drive with idle, 2500 without load and a steady pull, half a minute each, in closed loop."
		}
		if out != "" && !strings.Contains(out, say) {
			out += " "
		}
		if !strings.Contains(out, say) {
			out += say
		}
	}
	return out
}

// aPull begins what a pull would tell.
const aPull = "A steady pull on the road"

func pairOf(a, b string) [2]string {
	if a > b {
		a, b = b, a
	}
	return [2]string{a, b}
}

var tells = map[[2]string]string{
	pairOf("inlet-leak", "meter-scale"):      "Smoke between meter and throttle, or twist the pipe by hand at idle and look at the short trim: a split changes it, a meter does not.",
	pairOf("manifold-leak", "purge"):         "Clamp the purge hose at idle and read on for half a minute: what the total loses is the purge's share.",
	pairOf("purge", "rich-idle"):             "Clamp the purge hose at idle and read on for half a minute: what the total loses is the purge's share; what is left is an injector.",
	pairOf("fuel-delivery", "meter-scale"):   "Fuel pressure under load. Or the same drive with air flow and manifold pressure logged: a meter shows there, a pump does not.",
	pairOf("fuel-delivery", "inlet-leak"):    "Fuel pressure under load; smoke between meter and throttle.",
	pairOf("manifold-leak", "meter-scale"):   aPull + ": a leak behind the throttle fades with the flow, a meter's error does not.",
	pairOf("inlet-leak", "manifold-leak"):    aPull + ": a leak behind the throttle fades with the flow, one before it does not.",
	pairOf("charge-leak", "fuel-delivery"):   "Charge side under pressure, listen and soap; fuel pressure under load.",
	pairOf("egr", "rich-idle"):               "Shut the EGR valve off (scan tool, or its hose): does the idle smooth out and the total come back?",
	pairOf("manifold-leak", "rich-idle"):     "Idle and 2500 again, half a minute each, with the purge hose clamped.",
	pairOf("manifold-leak", "none"):          "Smoke into the manifold, or clamp the hoses one by one at idle and watch the idle speed and the short trim.",
	pairOf("none", "purge"):                  "Clamp the purge hose at idle and read on for half a minute.",
	pairOf("egr", "none"):                    "Shut the EGR valve off (scan tool, or its hose) and log idle again.",
	pairOf("fuel-delivery", "rich-idle"):     "Fuel pressure at idle and under load.",
	pairOf("manifold-leak", "fuel-delivery"): aPull + ": a leak behind the throttle fades with the flow, a weak pump shows the more.",
}

var tellsAlone = map[Key]string{
	ManifoldLeak: "Smoke into the manifold.",
	InletLeak:    "Smoke between meter and throttle.",
	MeterScale:   "Clean or swap the meter and drive the same again.",
	FuelDelivery: "Fuel pressure under load.",
	RichIdle:     "Clamp the purge hose at idle; then fuel pressure with the engine off: does it fall?",
	ChargeLeak:   "Charge side under pressure, listen and soap.",
	PurgeShare:   "Clamp the purge hose at idle and read on for half a minute.",
	EGRShare:     "Shut the EGR valve off and log idle again.",
	Nothing:      "The same drive again: what is there comes back.",
}
