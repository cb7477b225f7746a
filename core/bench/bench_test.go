package bench_test

import (
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wexter/core/bench"
	"wexter/core/decay"
	"wexter/core/knowledge"
	"wexter/core/plumbing"
	"wexter/ingest"
)

// num, said, yes are short for readings.
var (
	num  = bench.Num
	said = bench.Said
	open = math.Inf(1)
)

func cycles(yes, all int) bench.Reading { return bench.CountOf(yes, all) }

func at(places ...bench.Place) bench.Reading { return bench.Reading{Places: places} }

func valve(rest plumbing.State) plumbing.Part {
	return plumbing.Part{Key: "v", Name: "Valve", Kind: plumbing.Valve, Drive: "coil", Rest: rest}
}

// vapourValve is a valve of the EVAP system that is shut at rest.
var vapourValve = plumbing.Part{Key: "v", Name: "Valve", Kind: plumbing.Valve, Family: "vapour", Drive: "coil", Rest: plumbing.Shut}

// verdict is what one set of readings must come to: an outcome, or the channel asked for.
type verdict struct {
	name     string
	test     string
	part     plumbing.Part
	readings bench.Readings
	want     string // outcome, or "?" and the channel that is asked for
}

// verdicts go over every outcome of every test. Windows and limits are those of each test's
// file, common practice (no source) unless one is named there.
var verdicts = []verdict{
	{"stored", "readiness", plumbing.Part{}, bench.Readings{"codes": said("P0442 stored", "P0171 pending")}, "codes"},
	{"pending", "readiness", plumbing.Part{}, bench.Readings{"codes": said("P0442 pending")}, "pending"},
	{"nothing, all ran", "readiness", plumbing.Part{}, bench.Readings{"codes": {}, "open": {}}, "none-complete"},
	{"nothing, one open", "readiness", plumbing.Part{}, bench.Readings{"codes": {}, "open": said("evap")}, "none-incomplete"},
	{"monitors not read", "readiness", plumbing.Part{}, bench.Readings{"codes": {}}, "?open"},
	{"not read", "readiness", plumbing.Part{}, nil, "?codes"},

	{"a hose", "look", plumbing.Part{}, bench.Readings{"seen": at(bench.Place{Part: "neck"})}, "seen"},
	{"not there", "look", plumbing.Part{}, bench.Readings{"seen": at(bench.Place{Part: "cap", Size: "missing"})}, "seen"},
	{"marks only", "look", plumbing.Part{}, bench.Readings{"seen": {}, "marks": at(bench.Place{Part: "neck"})}, "marks"},
	{"nothing", "look", plumbing.Part{}, bench.Readings{"seen": {}}, "clean"},
	{"not said", "look", plumbing.Part{}, nil, "?seen"},

	{"keeps", "cap-check", plumbing.Part{}, bench.Readings{"left": num(12.6)}, "holds"},
	{"falls", "cap-check", plumbing.Part{}, bench.Readings{"left": num(2.1)}, "falls"},
	{"at the limit", "cap-check", plumbing.Part{}, bench.Readings{"left": num(11.6)}, bench.CannotTell},
	{"more than it began with", "cap-check", plumbing.Part{}, bench.Readings{"left": num(14)}, "?left"},
	{"lower start", "cap-check", plumbing.Part{}, bench.Readings{"start": num(10), "left": num(9.7)}, "holds"},

	{"exit", "smoke", plumbing.Part{}, bench.Readings{"exits": at(bench.Place{Part: "neck", Size: "wisp"})}, "exit"},
	{"expected", "smoke", plumbing.Part{}, bench.Readings{"exits": at(bench.Place{Part: "vent-filter", Size: "billow", Expected: true})}, "expected"},
	{"nowhere", "smoke", plumbing.Part{}, bench.Readings{"exits": {}, "far": said("yes")}, "none"},
	{"not there yet", "smoke", plumbing.Part{}, bench.Readings{"exits": {}, "far": said("no")}, "not-filled"},
	{"far end not watched", "smoke", plumbing.Part{}, bench.Readings{"exits": {}}, "?far"},

	{"wisp", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("wisp")}, "exit"},
	{"tight", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("none")}, "none"},
	{"tight, free, mates, clean", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("none"), "free": said("yes"), "mate": said("seals"), "inside": said("clean")}, "none"},
	{"leaks at its mating part", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("none"), "mate": said("leaks")}, "exit"},
	{"a passage is blocked", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("none"), "free": said("no")}, bench.CannotTell},
	{"grains inside", "part-smoke", plumbing.Part{}, bench.Readings{"exits": said("none"), "inside": said("damaged")}, bench.CannotTell},

	{"will not come up", "decay", plumbing.Part{}, bench.Readings{"up": said("no")}, "cannot_pressurise"},
	{"no trace", "decay", plumbing.Part{}, nil, "?trace"},

	// 0.020 in at 13 inH2O takes 0.54 L/min of free air (orifice equation, NACA Report 1135, 1953, value from memory).
	{"above, nominal", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.75), "pressure": num(13)}, "above"},
	{"below, nominal", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.15), "pressure": num(13)}, "below"},
	{"near, nominal", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.57), "pressure": num(13)}, bench.CannotTell},
	{"near, own orifice", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.57), "pressure": num(13), "reference": num(0.62)}, bench.CannotTell},
	{"below, own orifice", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.2), "pressure": num(13), "reference": num(0.62)}, "below"},
	{"a cold tank gives off little", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.4), "pressure": num(13), "reference": num(0.62), "air": num(-15)}, "below"},
	{"the orifice was not open", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.57), "pressure": num(13), "reference": num(0.05), "rig": num(0.04)}, "?reference"},
	{"the rig leaks", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.57), "pressure": num(13), "reference": num(0.62), "rig": num(0.4)}, "?rig"},
	{"read at two pressures", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.95), "pressure": num(10), "reference": num(0.70), "reference-at": num(20)}, "above"},
	{"falls still", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.6), "before": num(1.4), "pressure": num(13)}, "unsteady"},
	{"no pressure", "make-up-flow", plumbing.Part{}, bench.Readings{"flow": num(0.6)}, "?pressure"},

	{"sound, shut at rest", "valve-bench", valve(plumbing.Shut), bench.Readings{"held": num(14.8), "sealed": cycles(5, 5), "passed": cycles(5, 5), "coil": num(26)}, "good"},
	{"sound, open at rest", "valve-bench", valve(plumbing.Open), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(5, 5), "coil": num(26)}, "good"},
	{"never seals", "valve-bench", valve(plumbing.Shut), bench.Readings{"held": num(0), "sealed": cycles(0, 5), "passed": cycles(5, 5)}, "leaks"},
	{"never passes", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "coil": num(26)}, "stuck"},
	{"sticks", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(3, 5)}, "sticky"},
	{"open coil, open at rest", "valve-bench", valve(plumbing.Open), bench.Readings{"sealed": cycles(0, 5), "passed": cycles(5, 5), "coil": num(open)}, "coil"},
	{"a coil of megohms", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "coil": num(2.2e6)}, "coil"},
	{"shorted coil", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "coil": num(0.6)}, "coil"},
	{"coil below the book", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "coil": num(14), "coil-least": num(22)}, "coil"},
	{"an open coil cannot move it", "valve-bench", valve(plumbing.Open), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "coil": num(open)}, "?coil"},
	{"sealed, and held nothing", "valve-bench", valve(plumbing.Shut), bench.Readings{"held": num(3), "sealed": cycles(5, 5), "passed": cycles(5, 5)}, "?held"},
	{"held, and never sealed", "valve-bench", valve(plumbing.Shut), bench.Readings{"held": num(15), "sealed": cycles(0, 5), "passed": cycles(5, 5)}, "?held"},
	{"a weak supply", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5), "passed": cycles(0, 5), "supply": num(9.4)}, "?supply"},
	{"three cycles only", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(3, 3), "passed": cycles(3, 3)}, "?sealed"},
	{"leaks as much as the limit", "valve-bench", vapourValve, bench.Readings{"sealed": cycles(5, 5), "passed": cycles(5, 5), "leak": num(0.54), "leak-at": num(13)}, "leaks"},
	{"leaks a third of the limit", "valve-bench", vapourValve, bench.Readings{"sealed": cycles(5, 5), "passed": cycles(5, 5), "leak": num(0.2), "leak-at": num(13)}, bench.CannotTell},
	{"hardly leaks", "valve-bench", vapourValve, bench.Readings{"sealed": cycles(5, 5), "passed": cycles(5, 5), "leak": num(0.02), "leak-at": num(13)}, "good"},
	{"never sealed, and hardly leaks", "valve-bench", vapourValve, bench.Readings{"sealed": cycles(0, 5), "passed": cycles(5, 5), "leak": num(0.02), "leak-at": num(13)}, "?leak"},
	{"a leak at no pressure", "valve-bench", vapourValve, bench.Readings{"sealed": cycles(5, 5), "passed": cycles(5, 5), "leak": num(0.5)}, "?leak-at"},
	{"passing not tried", "valve-bench", valve(plumbing.Shut), bench.Readings{"sealed": cycles(5, 5)}, "?passed"},

	{"pulls", "purge-running", plumbing.Part{}, bench.Readings{"pull": num(6)}, "pull"},
	{"trims say it", "purge-running", plumbing.Part{}, bench.Readings{"pull": num(0.2), "free": num(14), "clamped": num(3)}, "pull"},
	{"none", "purge-running", plumbing.Part{}, bench.Readings{"pull": num(0.1), "free": num(3), "clamped": num(2)}, "none"},
	{"cap off", "purge-running", plumbing.Part{}, bench.Readings{"cap-off": said("stumbles")}, "stumble"},
	{"hardly", "purge-running", plumbing.Part{}, bench.Readings{"pull": num(0.7)}, bench.CannotTell},
	{"stalls", "purge-running", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},
	{"not read", "purge-running", plumbing.Part{}, nil, "?pull"},

	{"sound", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 1.0, 4.4), "good"},
	{"switch late and relief early", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 3.5, 1.2), "early"},
	{"switch late", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 3.5, 4.4), "dead"},
	{"no change", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, open, 4.4), "dead"},
	{"relief stuck", "eonv-manometer", plumbing.Part{}, unit(1.6, 1.2, 1.0, 4.4), "relief-stuck"},
	{"vacuum relief stuck", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 1.0, 9), "vacuum-stuck"},
	{"relief leaks", "eonv-manometer", plumbing.Part{}, unit(0, 0, 1.0, 4.4), "relief-leaks"},
	{"one of three early", "eonv-manometer", plumbing.Part{}, bench.Readings{"opens": num(0.5, 0.5, 0.5), "reseals": num(0.4, 0.4, 0.4), "switch": num(1, 1, 1), "vacuum": num(4.4, 1.8, 4.4)}, "early"},
	{"reseals above", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.9, 1.0, 4.4), "?reseals"},
	{"switch at a breath", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 0.1, 4.4), bench.CannotTell},
	{"at its limit", "eonv-manometer", plumbing.Part{}, unit(0.5, 0.4, 2.0, 4.4), bench.CannotTell},
	{"switch not read", "eonv-manometer", plumbing.Part{}, bench.Readings{"opens": num(0.5), "reseals": num(0.4), "vacuum": num(4)}, "?switch"},

	{"changes", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(48)}, "changes"},
	{"vacuum, no change", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(open), "lowest": num(-2.2)}, "vacuum-only"},
	{"a hole", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(open), "lowest": num(-0.1), "cooled": num(6)}, "none"},
	{"a warm night", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(open), "lowest": num(0), "cooled": num(0.4)}, "warm"},
	{"cooled by how much", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(open), "lowest": num(0)}, "?cooled"},
	{"between", "soak-watch", plumbing.Part{}, bench.Readings{"time": num(open), "lowest": num(0), "cooled": num(1.1)}, bench.CannotTell},

	{"slows", "pump-hand", plumbing.Part{}, bench.Readings{"strokes": num(30), "pause": num(4.2)}, "slows"},
	{"fast", "pump-hand", plumbing.Part{}, bench.Readings{"strokes": num(90), "pause": num(1)}, "fast"},
	{"silent", "pump-hand", plumbing.Part{}, bench.Readings{"strokes": num(0)}, "silent"},
	{"pause", "pump-hand", plumbing.Part{}, bench.Readings{"strokes": num(9)}, "?pause"},

	{"pass", "pump-self-test", plumbing.Part{}, bench.Readings{"share": num(112)}, "pass"},
	{"fail", "pump-self-test", plumbing.Part{}, bench.Readings{"share": num(61), "section": said("canister")}, "fail"},
	{"at its reference", "pump-self-test", plumbing.Part{}, bench.Readings{"share": num(100)}, bench.CannotTell},
	{"did not run", "pump-self-test", plumbing.Part{}, bench.Readings{"ran": said("no")}, "not-run"},

	{"free", "vent-path", plumbing.Part{}, bench.Readings{"free": said("free"), "vacuum": num(0.6)}, "free"},
	{"blocked", "vent-path", plumbing.Part{}, bench.Readings{"free": said("blocked")}, "blocked"},
	{"grows", "vent-path", plumbing.Part{}, bench.Readings{"free": said("free"), "vacuum": num(6)}, "blocked"},

	{"gone", "by-pass", plumbing.Part{}, bench.Readings{"complaint": said("gone")}, "gone"},
	{"stays", "by-pass", plumbing.Part{}, bench.Readings{"complaint": said("stays")}, "stays"},
	{"by pressure", "by-pass", plumbing.Part{}, bench.Readings{"before": num(20), "after": num(2)}, "gone"},

	{"hardly a pressure", "by-pass", plumbing.Part{}, bench.Readings{"before": num(6.5), "after": num(1)}, bench.CannotTell},
	{"as high as before", "by-pass", plumbing.Part{}, bench.Readings{"before": num(20), "after": num(19)}, "stays"},
	{"never any pressure", "by-pass", plumbing.Part{}, bench.Readings{"before": num(1), "after": num(1)}, "stays"},

	{"follows", "sensor-check", plumbing.Part{}, bench.Readings{"supply": num(5), "zero": num(0), "ten": num(10.1)}, "true"},
	{"zero", "sensor-check", plumbing.Part{}, bench.Readings{"zero": num(2), "ten": num(12)}, "false-zero"},
	{"dead", "sensor-check", plumbing.Part{}, bench.Readings{"zero": num(0), "ten": num(0.1)}, "false-scale"},
	{"late", "sensor-check", plumbing.Part{}, bench.Readings{"gauge": num(-8, -4, 0, 4, 8), "shows": num(-8, -4, 0, 4, 8), "lag": num(3)}, "slow"},
	{"no supply", "sensor-check", plumbing.Part{}, bench.Readings{"supply": num(0.3), "zero": num(0), "ten": num(0)}, "?supply"},
	{"at the limit", "sensor-check", plumbing.Part{}, bench.Readings{"zero": num(0), "ten": num(9)}, bench.CannotTell},

	{"nothing read", "circuit-walk", wired("solenoid"), nil, "?supply"},
	{"nothing at the supply pin", "circuit-walk", wired("solenoid"), bench.Readings{"supply": num(0.4), "proof": num(12.5), "fuse": num(12.5)}, "supply"},
	{"no supply, ground not proven", "circuit-walk", wired("solenoid"), bench.Readings{"supply": num(0.4), "proof": num(0.1)}, "?supply"},
	{"open coil", "circuit-walk", wired("solenoid"), bench.Readings{"supply": num(12.4), "coil": num(open)}, "coil"},
	{"coil of 60 ohm", "circuit-walk", wired("solenoid"), sound(bench.Readings{"coil": num(60), "through": num(44)}), bench.CannotTell},
	{"no command", "circuit-walk", wired("solenoid"), bench.Readings{"back": num(12.4), "control": num(0), "wire-end": num(open)}, "driver"},
	{"ground of the unit", "circuit-walk", wired("solenoid"), bench.Readings{"back": num(12.4), "coil": num(25), "ground": num(2.2), "wire-plus": num(0)}, "ground"},
	{"green pins", "circuit-walk", wired("solenoid"), bench.Readings{"pins": said("green")}, "pins"},
	{"all good", "circuit-walk", wired("solenoid"), sound(nil), "good"},
	{"hot coil is no high coil", "circuit-walk", wired("solenoid"), sound(bench.Readings{"coil": num(35.3), "coil-at": num(90), "coil-least": num(24), "coil-most": num(28.5)}), "good"},
	{"no circuit", "circuit-walk", plumbing.Part{Key: "cap"}, bench.Readings{"supply": num(12)}, bench.CannotTell},

	{"manifold", "trims", plumbing.Part{}, trims(22, 8, 3), "idle-lean"},
	{"meter", "trims", plumbing.Part{}, trims(12, 12, 11), "even"},
	{"delivery", "trims", plumbing.Part{}, trims(2, 6, 18), "load-lean"},
	{"vapour", "trims", plumbing.Part{}, trims(-14, -4, -1), "idle-rich"},
	{"charge side", "trims", plumbing.Part{}, with(trims(1, 1, 0), "boosted", num(-18)), "boost-rich"},
	{"hardly lean", "trims", plumbing.Part{}, trims(8.4, 4, 2), bench.CannotTell},
	{"normal", "trims", plumbing.Part{}, trims(2, 1, 3), "normal"},
	{"stalls", "trims", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},
	{"2500 missing", "trims", plumbing.Part{}, bench.Readings{"idle": num(3)}, "?fast"},

	{"exit", "intake-smoke", plumbing.Part{}, bench.Readings{"exits": at(bench.Place{Part: "booster-hose", Size: "stream"})}, "exit"},
	{"tail pipe", "intake-smoke", plumbing.Part{}, bench.Readings{"exits": at(bench.Place{Part: "tailpipe", Size: "wisp", Expected: true})}, "expected"},
	{"nothing", "intake-smoke", plumbing.Part{}, bench.Readings{"exits": {}, "dipstick": said("yes")}, "none"},
	{"crankcase not reached", "intake-smoke", plumbing.Part{}, bench.Readings{"exits": {}, "dipstick": said("no")}, "not-filled"},

	{"one way", "check-valve", plumbing.Part{}, bench.Readings{"forward": said("passes"), "backward": num(15)}, "good"},
	{"both ways", "check-valve", plumbing.Part{}, bench.Readings{"forward": said("passes"), "backward": num(4)}, "both"},
	{"shut", "check-valve", plumbing.Part{}, bench.Readings{"forward": said("shut"), "backward": num(15)}, "blocked"},
	{"no flap, and holds", "check-valve", plumbing.Part{}, bench.Readings{"flap": said("missing"), "forward": said("passes"), "backward": num(15)}, "?backward"},

	{"open breather", "crankcase-manometer", plumbing.Part{}, bench.Readings{"idle": num(-0.2), "fast": num(-0.3)}, "normal"},
	{"pressure", "crankcase-manometer", plumbing.Part{}, bench.Readings{"idle": num(1.2), "fast": num(3)}, "pressure"},
	{"as the regulator keeps it", "crankcase-manometer", plumbing.Part{}, bench.Readings{"idle": num(-14), "fast": num(-13), "usual": num(-14)}, "normal"},
	{"far too much", "crankcase-manometer", plumbing.Part{}, bench.Readings{"idle": num(-30), "fast": num(-20), "usual": num(-14)}, "high-vacuum"},
	{"too little", "crankcase-manometer", plumbing.Part{}, bench.Readings{"idle": num(-3), "fast": num(-2), "usual": num(-14)}, "low-vacuum"},
	{"stalls", "crankcase-manometer", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},

	{"works", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(14.5), "stumbles": said("stumbles"), "recovers": said("recovers")}, "stumbles"},
	{"stays", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(14.5), "stumbles": said("stumbles"), "recovers": said("stays")}, "stays"},
	{"clogged", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(14.5), "stumbles": said("no")}, "no-flow"},
	{"torn", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(2)}, "torn"},
	{"by design", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(2), "back-pressure": said("yes")}, bench.CannotTell},
	{"stalls", "egr-vacuum", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},
	{"recovers?", "egr-vacuum", plumbing.Part{}, bench.Readings{"held": num(14.5), "stumbles": said("stumbles")}, "?recovers"},

	{"rises", "egr-ramp", plumbing.Part{}, bench.Readings{"shut": num(0.45), "open": num(1.9)}, "rises"},
	{"blind", "egr-ramp", plumbing.Part{}, bench.Readings{"shut": num(0.45), "open": num(0.5), "feels": said("yes")}, "blind"},
	{"nothing", "egr-ramp", plumbing.Part{}, bench.Readings{"shut": num(0.45), "open": num(0.45), "feels": said("no")}, "nothing"},
	{"felt?", "egr-ramp", plumbing.Part{}, bench.Readings{"shut": num(0.45), "open": num(0.45)}, "?feels"},
	{"stalls", "egr-ramp", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},

	{"moves", "egr-coils", plumbing.Part{}, bench.Readings{"coil": num(24, 24.5, 24.2), "moves": said("moves")}, "good"},
	{"one differs", "egr-coils", plumbing.Part{}, bench.Readings{"coil": num(24, 24.5, 41), "moves": said("moves")}, "coil"},
	{"open", "egr-coils", plumbing.Part{}, bench.Readings{"coil": num(24, open)}, "coil"},
	{"seized", "egr-coils", plumbing.Part{}, bench.Readings{"coil": num(24), "moves": said("still")}, "seized"},
	{"open, and moves", "egr-coils", plumbing.Part{}, bench.Readings{"coil": num(open), "moves": said("moves")}, "?coil"},

	{"follows", "egr-command", plumbing.Part{}, bench.Readings{"air-shut": num(20), "gas": num(60), "air-open": num(16)}, "follows"},
	{"never", "egr-command", plumbing.Part{}, bench.Readings{"air-shut": num(20), "gas": num(60), "air-open": num(20)}, "no-flow"},
	{"hot when shut", "egr-command", plumbing.Part{}, bench.Readings{"gas": num(210)}, "flows-shut"},
	{"gas not read", "egr-command", plumbing.Part{}, bench.Readings{"air-shut": num(20), "air-open": num(16)}, "?gas"},
	{"stalls", "egr-command", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},

	{"coupler", "boost-pressure", plumbing.Part{}, bench.Readings{"exits": at(bench.Place{Part: "charge-hose", Size: "stream"})}, "exit"},
	{"holds", "boost-pressure", plumbing.Part{}, bench.Readings{"exits": {}, "dipstick": said("none"), "flow": num(20), "usual": num(18)}, "holds"},
	{"crankcase", "boost-pressure", plumbing.Part{}, bench.Readings{"exits": {}, "dipstick": said("blows")}, "crankcase"},
	{"more than usual", "boost-pressure", plumbing.Part{}, bench.Readings{"exits": {}, "dipstick": said("none"), "flow": num(60), "usual": num(18)}, bench.CannotTell},

	{"holds", "draw-down", plumbing.Part{}, bench.Readings{"built": num(7), "left": num(5.9)}, "holds"},
	{"falls", "draw-down", plumbing.Part{}, bench.Readings{"built": num(5), "left": num(1)}, "falls"},
	{"does not build", "draw-down", plumbing.Part{}, bench.Readings{"built": num(0.4)}, "no-build"},
	{"too much vacuum", "draw-down", plumbing.Part{}, bench.Readings{"built": num(22), "left": num(20)}, "grows"},
	{"goes on", "draw-down", plumbing.Part{}, bench.Readings{"built": num(7), "left": num(9)}, "grows"},
	{"left not read", "draw-down", plumbing.Part{}, bench.Readings{"built": num(7)}, "?left"},
	{"stalls", "draw-down", plumbing.Part{}, bench.Readings{"engine": said("stalls")}, "stalls"},
}

func unit(opens, reseals, change, vacuum float64) bench.Readings {
	return bench.Readings{"opens": num(opens, opens), "reseals": num(reseals, reseals), "switch": num(change, change), "vacuum": num(vacuum, vacuum)}
}

func trims(idle, fast, loaded float64) bench.Readings {
	return bench.Readings{"idle": num(idle), "fast": num(fast), "loaded": num(loaded)}
}

func with(r bench.Readings, key string, x bench.Reading) bench.Readings {
	r[key] = x
	return r
}

// Readings come to the outcome that they must, or ask for the reading that decides it, and
// say why. Between them the cases reach every outcome of every test that a reading can reach.
func TestVerdicts(t *testing.T) {
	b := ingest.Book()
	reached := map[string]bool{"decay within_limit": true, "decay over_limit": true, "decay undecided": true, // by a trace: see TestHold
		"readiness no-tool": true, "readiness no-check": true} // said by a person: nothing was read
	for _, v := range verdicts {
		t.Run(v.test+"/"+v.name, func(t *testing.T) {
			e, ok := b.Test(v.test)
			if !ok {
				t.Fatal("no such test in the Book")
			}
			got, err := bench.Judge(e, bench.Subject{Part: v.part}, v.readings)
			if err != nil {
				t.Fatal(err)
			}
			said := got.Outcome
			if said == "" {
				said = "?" + got.Ask
			}
			if said != v.want || got.Says == "" {
				t.Errorf("%s (%s), want %s", said, got.Says, v.want)
			}
			if got.Ask != "" {
				if bt, _ := bench.Of(v.test); bt.Key != "" {
					if _, ok := bt.Channel(got.Ask); !ok {
						t.Errorf("it asks for %q, which is no channel", got.Ask)
					}
				}
			}
		})
		reached[v.test+" "+v.want] = true
	}
	for _, e := range b.Tests {
		for _, o := range e.Outcomes {
			if !reached[e.Key+" "+o.Key] {
				t.Errorf("no case reaches %s of %s", o.Key, e.Key)
			}
			if o.Means == "" {
				t.Errorf("%s of %s has no meaning", o.Key, e.Key)
			}
		}
	}
}

// A hold is judged by its trace, as package decay judges it.
func TestHold(t *testing.T) {
	e, _ := ingest.Book().Test("decay")
	// Through a small hole the root of the pressure falls evenly (Torricelli), to nothing in
	// "empty" seconds.
	trace := func(empty float64) []decay.Leg {
		drift, hold := decay.Leg{Kind: decay.Drift}, decay.Leg{Kind: decay.Hold}
		for i := range 240 {
			s := float64(i) / 2
			drift.Time, drift.Gauge = append(drift.Time, s), append(drift.Gauge, float64(i%2))
			left := math.Max(1-s/empty, 0)
			hold.Time, hold.Gauge = append(hold.Time, s), append(hold.Gauge, math.Round(3200*left*left)+float64(i%3))
		}
		return []decay.Leg{drift, hold}
	}
	su := decay.Setup{Volume: 0.04, VolumeTolerance: 0.2, Barometer: 101325, Temperature: 293, Resolution: 1}
	for want, empty := range map[string]float64{"within_limit": 1e5, "over_limit": 130} {
		t.Run(want, func(t *testing.T) {
			v, err := bench.Judge(e, bench.Subject{Hold: su}, bench.Readings{"trace": {Legs: trace(empty)}})
			if err != nil || v.Outcome != want || len(v.Figures) != 1 {
				t.Errorf("%+v, %v", v, err)
			}
		})
	}
	if v, err := bench.Judge(e, bench.Subject{Hold: su}, bench.Readings{"trace": {Legs: []decay.Leg{{Kind: decay.Drift, Time: []float64{0, 1, 2}, Gauge: []float64{0, 0, 0}}}}}); err != nil || v.Ask != "trace" {
		t.Errorf("a drift leg alone: %+v, %v", v, err)
	}
}

// What a reading cannot be is refused by the name the Book gives it.
func TestReadingsThatCannotBe(t *testing.T) {
	b := ingest.Book()
	for _, c := range []struct {
		test, say string
		r         bench.Readings
	}{
		{"cap-check", "pressure after a minute is -3 inH2O; it lies between 0 and 30", bench.Readings{"left": num(-3)}},
		{"cap-check", "clicks: 3.5 is no whole number", bench.Readings{"left": num(12), "clicks": num(3.5)}},
		{"cap-check", "pressure after a minute: that is no figure", bench.Readings{"left": num(math.NaN())}},
		{"cap-check", "pressure after a minute: that is no figure", bench.Readings{"left": num(open)}},
		{"egr-vacuum", `stumbles: "perhaps" is none of`, bench.Readings{"stumbles": said("perhaps")}},
		{"valve-bench", `cycles that sealed: "maybe" is none of yes, no`, bench.Readings{"sealed": said("maybe")}},
	} {
		t.Run(c.say, func(t *testing.T) {
			e, _ := b.Test(c.test)
			if _, err := bench.Judge(e, bench.Subject{}, c.r); err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%v", err)
			}
		})
	}
}

// The Book's entry and the rule of a test name the same readings, in the same units.
func TestCheck(t *testing.T) {
	for say, spoil := range map[string]func(*knowledge.Test){
		`needs a reading with the key "left"`:   func(e *knowledge.Test) { e.Reads = e.Reads[:1] },
		`is in "kPa" here and in "inH2O"`:       func(e *knowledge.Test) { e.Reads[1].Unit = "kPa" },
		`its rule has no channel "temperature"`: func(e *knowledge.Test) { e.Reads = append(e.Reads, knowledge.Reading{Key: "temperature"}) },
	} {
		t.Run(say, func(t *testing.T) {
			b := ingest.Book()
			e, _ := b.Test("cap-check")
			e.Reads = slices.Clone(e.Reads)
			spoil(&e)
			b.Tests = []knowledge.Test{e}
			if err := bench.Check(b); err == nil || !strings.Contains(err.Error(), say) {
				t.Errorf("%v", err)
			}
		})
	}
	b := ingest.Book()
	e, _ := b.Test("vent-path")
	e.Reads = slices.Clone(e.Reads)
	e.Reads[0].Words = e.Reads[0].Words[:1]
	b.Tests = []knowledge.Test{e}
	if err := bench.Check(b); err == nil || !strings.Contains(err.Error(), "needs words for free, blocked") {
		t.Errorf("%v", err)
	}
}

// A test that only the Book knows is judged by hand: its readings are kept, and name nothing.
func TestJudgedByHand(t *testing.T) {
	e := knowledge.Test{Key: "float-height", Reads: []knowledge.Reading{{Key: "height", Name: "height", Unit: "mm"}, {Key: "state", Name: "state", Words: []knowledge.Word{{Key: "wet", Name: "wet"}}}, {Key: "seen", Name: "what is seen"}}}
	x := bench.For(e)
	if x.Odds != bench.ByHand || len(x.Channels) != 3 || x.Channels[1].Kind != bench.Choice || x.Channels[2].Kind != bench.List {
		t.Fatalf("%+v", x)
	}
	v, err := bench.Judge(e, bench.Subject{}, bench.Readings{"height": num(12)})
	if err != nil || v.Outcome != "" || v.Says == "" {
		t.Errorf("%+v, %v", v, err)
	}
}

// What is written in one line is read back the same.
func TestFormat(t *testing.T) {
	for _, v := range verdicts {
		t.Run(v.test+"/"+v.name, func(t *testing.T) {
			x, _ := bench.Of(v.test)
			line := x.Format(v.readings)
			got, err := x.Parse(line)
			if err != nil {
				t.Fatal(err)
			}
			if want := v.readings; len(want) != len(got) || len(want) > 0 && !reflect.DeepEqual(got, want) {
				t.Errorf("%q came back as %v, want %v", line, got, want)
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	for _, v := range verdicts {
		x, _ := bench.Of(v.test)
		f.Add(v.test, x.Format(v.readings))
	}
	b := ingest.Book()
	f.Fuzz(func(t *testing.T, test, line string) {
		x, ok := bench.Of(test)
		if !ok {
			return
		}
		r, err := x.Parse(line)
		if err != nil {
			return
		}
		e, _ := b.Test(test)
		if v, err := bench.Judge(e, bench.Subject{}, r); err == nil && v.Outcome == "" && v.Ask == "" {
			t.Errorf("%q: neither an outcome nor a question", line)
		}
	})
}

// Every phase names channels of its test, and instruments that give them; whatever shuts a
// vent at a running engine opens it again.
func TestPhases(t *testing.T) {
	for _, k := range bench.Keys() {
		t.Run(k, func(t *testing.T) {
			x, _ := bench.Of(k)
			shut := 0
			for _, p := range x.Phases {
				for _, c := range p.Read {
					if ch, ok := x.Channel(c); !ok || ch.Sense == "" {
						t.Errorf("it reads %q, which is no channel with an instrument", c)
					}
				}
				for _, s := range p.Do {
					if s.Words("part") == "" && s.Do != bench.Wait {
						t.Errorf("step %+v has no words", s)
					}
					switch {
					case s.Do == bench.Command && s.At == "vent":
						shut++
					case s.Do == bench.Uncommand && s.At == "vent":
						shut--
					}
				}
			}
			if shut != 0 {
				t.Error("the vent is left shut")
			}
		})
	}
}

// A coil warms: 35.3 ohm at 90 °C are 27.7 at 20 °C (copper, 0.00393 per kelvin, IEC 60028,
// value from memory).
func ExampleJudge() {
	e, _ := ingest.Book().Test("circuit-walk")
	v, _ := bench.Judge(e, bench.Subject{Part: wired("solenoid")}, bench.Readings{"coil": bench.Num(35.3), "coil-at": bench.Num(90), "coil-least": bench.Num(30), "coil-most": bench.Num(34), "supply": bench.Num(12.4)})
	fmt.Println(v.Outcome+":", v.Says)
	fmt.Printf("%s: %.1f %s\n", v.Figures[0].Name, v.Figures[0].Value, v.Figures[0].Unit)
	// Output:
	// coil: Coil short: supply at its pin 12.4 V, coil 35.3 ohm. The part; then see whether the control unit's output has survived it.
	// coil at 20 °C: 27.7 ohm
}
