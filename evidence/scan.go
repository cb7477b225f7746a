package evidence

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"wexter/core/bench"
	"wexter/core/diagnose"
	"wexter/core/knowledge"
	"wexter/core/obd"
)

// scans gathers what the car's own computer says: codes and those that are missing, the
// monitor's numbers, trims of live data and freeze frame.
func (r *reader) scans() {
	var scans []ScanFolder
	for _, x := range r.f.Scans {
		if stands(x) && x.Bad == "" {
			scans = append(scans, x)
		}
	}
	r.codes(scans)
	for i, x := range scans {
		if i+1 < len(scans) && r.epoch(scans[i+1].At) == r.epoch(x.At) {
			continue // the newest of an epoch counts: numbers of one trip are not two readings
		}
		r.limits(x)
		r.trims(x, trimsOf{"live data", x.Read.Live, false})
		if len(x.Read.Freeze) > 0 {
			r.trims(x, trimsOf{"the freeze frame", x.Read.Freeze[0].Data, true})
			r.frozen(x)
		}
		r.hotGas(x)
		if _, ok := x.Read.Live["69"]; ok && strings.HasPrefix(r.car.Combination.Recirculation, "egr-motor") {
			r.leave(x.ID, "EGR position", "it is the motor's, not the valve's: it clears nothing")
		}
	}
}

// hotGas takes the gas temperature behind an EGR valve that is told to be shut: the
// honest witness where the position is not.
func (r *reader) hotGas(x ScanFolder) {
	told, ok := x.Read.Live["2C"]
	gas, has := x.Read.Live["6B"]
	if !ok || !has || told.Value > 1 || regime(x.Read.Live) != "idle" {
		return
	}
	hottest := gas.Value
	for _, p := range gas.Parts {
		hottest = math.Max(hottest, p.Value)
	}
	r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Signed, Key: "egr-gas-hot", Absent: hottest <= bench.GasStandsOpen, Before: r.epoch(x.At) == 0,
		Says: fmt.Sprintf("Gas behind the EGR valve, told to be shut: %.0f °C", hottest)})
}

// bag is the codes of one epoch.
type bag struct {
	codes map[string][]obd.CodeStatus // the statuses in which each was seen
	ran   []string                    // monitors that have run
	at    time.Time
	asked bool // a scan asked for stored codes
}

// only lists the codes that were seen in one status and no other.
func (b *bag) only(status obd.CodeStatus) (out []string) {
	for _, c := range slices.Sorted(maps.Keys(b.codes)) {
		if !slices.ContainsFunc(b.codes[c], func(s obd.CodeStatus) bool { return s != status }) {
			out = append(out, c)
		}
	}
	return out
}

// say says the codes, with the status of those that are not stored.
func (b *bag) say() string {
	var out []string
	for _, c := range slices.Sorted(maps.Keys(b.codes)) {
		switch {
		case slices.Contains(b.only(obd.Pending), c):
			c += " (pending only)"
		case slices.Contains(b.only(obd.Permanent), c):
			c += " (permanent only)"
		}
		out = append(out, c)
	}
	return "Codes " + strings.Join(out, " ")
}

// codes puts the codes of each epoch together: what a control unit stores is one
// answer, not one piece of evidence a code.
func (r *reader) codes(scans []ScanFolder) {
	bags := map[int]*bag{}
	get := func(at time.Time) *bag {
		n := r.epoch(at)
		if bags[n] == nil {
			bags[n] = &bag{at: at, codes: map[string][]obd.CodeStatus{}}
		}
		return bags[n]
	}
	r.codesSeen(get)
	for _, x := range scans {
		if !x.Read.Asked[obd.Stored] {
			continue
		}
		b := get(x.At)
		b.asked, b.ran, b.at = true, nil, x.At
		for k, st := range x.Read.Readiness {
			if st == obd.Complete {
				b.ran = append(b.ran, k)
			}
		}
		slices.Sort(b.ran)
	}
	for _, n := range slices.Sorted(maps.Keys(bags)) {
		b := bags[n]
		if len(b.codes) == 0 && !b.asked || n > 0 && len(b.codes) == 0 && len(b.ran) == 0 {
			continue
		}
		says := "No codes"
		if len(b.codes) > 0 {
			says = b.say()
		}
		r.put(b.at, diagnose.Evidence{ID: "codes", Kind: diagnose.Scanned, Codes: slices.Sorted(maps.Keys(b.codes)), Pending: b.only(obd.Pending), Past: b.only(obd.Permanent),
			Ran: b.ran, Before: n == 0, Says: says})
	}
}

// codesSeen puts every code that counts into the bag of the epoch in which it was seen.
func (r *reader) codesSeen(get func(time.Time) *bag) {
	doubted := map[string]bool{}
	for _, c := range r.f.Codes {
		if !c.Struck() && c.Doubted() {
			doubted[c.Code] = true
		}
	}
	cleared := r.f.lastCleared()
	for _, l := range r.f.CodeHistory() {
		if l.Made {
			r.leave(l.Code, l.Code, "set by our own testing; ignored until it comes back")
		}
		if l.Made || doubted[l.Code] {
			continue
		}
		for _, seen := range l.Seen {
			later := r.epoch(seen.At) > 0
			switch {
			case seen.Gone, later && seen.Status == obd.Permanent: // a permanent code stays until its monitor has passed: it says nothing new
				continue
			case later && (cleared.IsZero() || seen.At.Before(cleared)): // stored before the repair, and never cleared since
				continue
			}
			b := get(seen.At)
			b.codes[l.Code] = append(b.codes[l.Code], seen.Status)
		}
	}
}

// leakChecks are the monitors of the EVAP system, by the on-board monitor id of service
// $06 (SAE J1979, values from memory), and the size of leak that each looks for.
var leakChecks = map[string]string{"3C": "very-small", "3B": "small", "39": "large", "3A": "large"}

// leakSizes are those sizes, the largest first.
var leakSizes = []string{"large", "small", "very-small"}

// limits takes the monitor's own result of one leak check: the largest leak that failed,
// or, when all passed, the smallest that was looked for.
func (r *reader) limits(x ScanFolder) {
	size, share, says := "", 0.0, ""
	for _, s := range leakSizes {
		for _, t := range x.Read.Tests {
			if leakChecks[strings.ToUpper(t.Monitor)] != s {
				continue
			}
			if v, words := ofLimit(t); words != "" && share < 1 {
				size, share, says = s, v, words
			}
		}
	}
	if size != "" {
		r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Limits, Size: size, Value: math.Min(share, 100), Before: r.epoch(x.At) == 0, Says: "Monitor's own result, " + says})
	}
}

// ofLimit is how far a test result has come towards its nearest limit, 1 at the limit, and
// how that is said. Some monitors state what must stay below a limit (a diameter, a decay),
// others what must be reached (a vacuum, a share of the pressure behind a known orifice).
// The words are empty when the test has not run or has no limit to compare with.
func ofLimit(t obd.TestResult) (share float64, words string) {
	if !t.Ran || t.Value < 0 {
		return 0, ""
	}
	limit := ""
	if t.HasMax && t.Max > 0 {
		share, limit = t.Value/t.Max, fmt.Sprintf("at most %.4g", t.Max)
	}
	if t.HasMin && t.Min > 0 && (limit == "" || t.Min/t.Value > share) {
		share, limit = t.Min/t.Value, fmt.Sprintf("at least %.4g", t.Min)
	}
	if limit == "" {
		return 0, ""
	}
	verdict := "passes"
	if share > 1 {
		verdict = "fails"
	}
	return share, fmt.Sprintf("%s: %.4g, %s (%s)", t.Name, t.Value, verdict, limit)
}

// trimsOf is a set of live data that may hold fuel trims; past is what was frozen when
// a code was set.
type trimsOf struct {
	what string
	live map[string]obd.Value
	past bool
}

// regimes are the points at which trims are read, in words.
var regimes = map[string]string{"idle": "at idle", "load": "under load", "2500": "about 2500 rpm"}

// regime is the point at which live data were read; empty for one that is none of them.
func regime(live map[string]obd.Value) string {
	rpm, load, still := live["0C"].Value, live["04"].Value, live["0D"].Value < 5
	switch {
	case rpm > 400 && rpm < 1150 && still:
		return "idle"
	case rpm >= 1150 && load > 45:
		return "load"
	case rpm >= 1800 && rpm < 3500 && still:
		return "2500"
	}
	return ""
}

// Limits of what a freeze frame says (chosen here): an engine that has not come to its
// warmth, and a tank that was filled not long ago.
const (
	coldBelow = 50.0 // °C of coolant
	fullAbove = 85.0 // %
)

// frozen takes what stood in the freeze frame when its code was set.
func (r *reader) frozen(x ScanFolder) {
	f := x.Read.Freeze[0]
	put := func(at knowledge.FrameAt, says string) {
		r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Frozen, Key: string(at), Codes: []string{f.Code}, Says: "Freeze frame of " + f.Code + ": set " + says})
	}
	switch regime(f.Data) {
	case "idle":
		put(knowledge.AtIdle, "at idle")
	case "load":
		put(knowledge.UnderLoad, "under load")
	}
	if v, ok := f.Data["05"]; ok && v.Value < coldBelow {
		put(knowledge.Cold, fmt.Sprintf("cold, coolant at %.0f °C", v.Value))
	}
	if v, ok := f.Data["2F"]; ok && v.Value > fullAbove {
		put(knowledge.FullTank, fmt.Sprintf("with the tank at %.0f %%", v.Value))
	}
}

func (r *reader) trims(x ScanFolder, t trimsOf) {
	short, ok1 := t.live["06"]
	long, ok2 := t.live["07"]
	at := regime(t.live)
	if !ok1 || !ok2 || r.car.diesel || at == "" {
		return
	}
	if st, ok := t.live["03"]; ok && !strings.Contains(strings.ToLower(st.Text), "closed") {
		r.leave(x.ID, "Trims of "+t.what, "open loop: trims mean nothing")
		return
	}
	total, stop := obd.TotalTrim(short.Value, long.Value), obd.TrimAtStop(short.Value, long.Value)
	if s2, l2 := t.live["08"], t.live["09"]; s2.Unit != "" && l2.Unit != "" { // a second bank
		other := obd.TotalTrim(s2.Value, l2.Value)
		apart := math.Abs(other-total) > obd.BanksApart
		says := fmt.Sprintf("Trims of %s, %s: bank 1 %+.0f %%, bank 2 %+.0f %%", t.what, regimes[at], total, other)
		r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Signed, Key: diagnose.OneBank, Absent: !apart, Before: t.past, Says: says})
		total, stop = (total+other)/2, stop || obd.TrimAtStop(s2.Value, l2.Value)
	}
	says := fmt.Sprintf("Trims of %s, %s: %+.0f %% in all", t.what, regimes[at], total)
	if stop {
		says += ", at a stop: a bound"
	}
	r.put(x.At, diagnose.Evidence{ID: x.ID, Kind: diagnose.Trims, Key: at, Value: math.Max(math.Min(total, 100), -100), Stop: stop, Loose: true,
		Before: t.past, Says: says})
}
