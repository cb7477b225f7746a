package ingest

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"wexter/core/trim"
	"wexter/core/units"
)

// measure is what a column of a drive holds, which says how it may be written.
type measure int

const (
	trims    measure = iota // percent, fractions or factors about one
	revs                    // 1/min
	massFlow                // g/s
	absolute                // pressure that may be written as gauge
	share                   // percent or fractions
	velocity                // km/h
	warmth                  // °C
	state                   // of the fuel system: a number or a word
	ratio                   // lambda, or air to fuel
)

// datum is a quantity that drive logs hold, and how columns name it.
type datum struct {
	channel trim.Channel
	measure measure
	short   []string // names of SAE J1979, Digital Annex, 2014 (from memory)
	words   string   // what names it in words, without blanks
	but     string   // what else such a name would have to hold to be something else
}

// data are all of them. The order matters: what is named more closely stands first.
var data = []datum{
	{trim.Short1, trims, []string{"SHRTFT1", "SHRTFT11"}, `(short.*(trim|ft)|stft|shrtft).*`, ""},
	{trim.Long1, trims, []string{"LONGFT1", "LONGFT11"}, `(long.*(trim|ft)|ltft|longft).*`, ""},
	{trim.Short2, trims, []string{"SHRTFT2", "SHRTFT21"}, "", ""},
	{trim.Long2, trims, []string{"LONGFT2", "LONGFT21"}, "", ""},
	{trim.RoadSpeed, velocity, []string{"VSS"}, `vss|(vehicle|road|car|wheel)speed|^speed|^gpsspeed`, ""},
	{trim.Speed, revs, []string{"RPM"}, `rpm|engine(speed|revs)|revspermin`, `desired|target|command|fan|turbine|input|output|pump`},
	{trim.MeteredAir, massFlow, []string{"MAF", "MAFA"}, `^maf|massair|airmass|^airflow|intakeairflow`, `volt|freq|hz|temp`},
	{trim.ManifoldPressure, absolute, []string{"MAP"}, `^map|manifoldabs|manifoldpress|manifoldair?press|intakepress|inletpress`, `volt|desired|target|command|temp`},
	{trim.Load, share, []string{"LOAD_PCT"}, `load`, `absoluteload|loadabs|desired|target|generator|alternator|payload`},
	{trim.Throttle, share, []string{"TP"}, `throttle|^tps?$`, `desired|target|command|pedal|rel|volt`},
	{trim.Coolant, warmth, []string{"ECT"}, `^ect|coolant|enginetemp|watertemp`, `volt`},
	{trim.IntakeAir, warmth, []string{"IAT"}, `^iat|(intake|inlet|charge)(air)?temp|^airtemp`, `ambient|volt`},
	{trim.FuelSystem, state, []string{"FUELSYS1"}, `fuelsys|fuelstatus|loopstat|^loop`, `fuelsys(tem)?(status)?2|press`},
	{trim.Purge, share, []string{"EVAP_PCT"}, `purge|evap`, `press|monitor|flow$|temp|volt`},
	{trim.Recirculation, share, []string{"EGR_PCT"}, `egr`, `err|temp|actual|press|volt`},
	{trim.Lambda, ratio, []string{"LAMBDA1", "LAMBDA"}, `lambda|equiv|^afr|airfuelratio`, `volt|target2`},
	{trim.ChargePressure, absolute, nil, `boost|chargepress|chargeairpress|turbopress|throttleinletpress`, `desired|target|command|temp|volt`},
	{trim.Barometer, absolute, []string{"BARO"}, `^baro|barometr|atmospher|ambientpress`, ``},
}

// DriveColumns are the data of service 01 that a drive's log may hold, by PID, with the short
// names that head their columns.
func DriveColumns() (out [][2]string) {
	for _, d := range data {
		if pid, ok := d.channel.PID(); ok {
			out = append(out, [2]string{fmt.Sprintf("%02X", pid), d.short[0]})
		}
	}
	return out
}

// matched are the patterns of the table, ready for use.
var matched = func() (out []struct{ words, but *regexp.Regexp }) {
	for _, d := range data {
		var m struct{ words, but *regexp.Regexp }
		if d.words != "" {
			m.words = regexp.MustCompile(d.words)
		}
		if d.but != "" {
			m.but = regexp.MustCompile(d.but)
		}
		out = append(out, m)
	}
	return
}()

// driveColumn is a column of a drive log that is used.
type driveColumn struct {
	*datum
	at     int
	header string
	unit   units.Unit // none where the header names none, or the measure has none
	says   bool       // the header says percent
	coded  bool       // named as SAE J1979 does, which says the unit as well
}

// clockColumn is where a drive log has its time.
type clockColumn struct {
	at   int
	unit units.Unit
}

// plain is a header in small letters and figures alone, without what stands in brackets.
func plain(h string) string {
	if i := strings.IndexAny(h, "([{"); i > 0 {
		h = h[:i]
	}
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return -1
	}, h)
}

var pidName = regexp.MustCompile(`^(?:pid)?(?:0x)?(?:01)?([0-9a-f]{2})$`)

// datumOf finds what a header names, nil for nothing that is used, and whether it does so by a
// name or number of SAE J1979.
func datumOf(h string) (d *datum, coded bool) {
	joined := plain(h)
	short := joined
	if i := strings.IndexAny(h, "([{,"); i > 0 {
		short = plain(h[:i])
	}
	for i := range data {
		for _, s := range data[i].short {
			if p := plain(s); joined == p || short == p {
				return &data[i], true
			}
		}
	}
	if m := pidName.FindStringSubmatch(joined); m != nil {
		for i := range data {
			if pid, ok := data[i].channel.PID(); ok && fmt.Sprintf("%02x", pid) == m[1] {
				return &data[i], true
			}
		}
	}
	for i := range data {
		if m := matched[i]; m.words == nil || !m.words.MatchString(joined) || m.but != nil && m.but.MatchString(joined) {
			continue
		}
		d := &data[i]
		if d.measure != trims {
			return d, false
		}
		switch bankOf(joined) {
		case 1:
			return d, false
		case 2:
			return &data[i+2], false
		}
		return nil, false
	}
	return nil, false
}

var bankSays = regexp.MustCompile(`bank([0-9])|b([0-9])|([0-9])$|(?:ft|trim)([0-9])`)

// bankOf is the bank that a trim's name says; 1 where it says none, 0 for one that is not read.
func bankOf(joined string) int {
	m := bankSays.FindStringSubmatch(joined)
	if m == nil {
		return 1
	}
	n, _ := strconv.Atoi(strings.Join(m[1:], ""))
	if n > 2 {
		return 0
	}
	return n
}

// unitIn finds a unit of a kind in a header, in brackets or at its end.
func unitIn(h string, k units.Kind) (units.Unit, bool) {
	if i := strings.IndexAny(h, "([{"); i >= 0 {
		inside := strings.Trim(h[i:], "()[]{} ")
		if u, ok := units.Lookup(inside, k); ok {
			return u, true
		}
	}
	if u, ok := units.Guess(h, k); ok {
		return u, true
	}
	parts := strings.FieldsFunc(h, func(r rune) bool { return strings.ContainsRune("_ -./", r) })
	for n := min(2, len(parts)-1); n > 0; n-- {
		if u, ok := units.Lookup(strings.Join(parts[len(parts)-n:], ""), k); ok {
			return u, true
		}
	}
	return units.Unit{}, false
}

// kindOf is the kind of unit that a measure has.
func (m measure) kindOf() (units.Kind, bool) {
	switch m {
	case massFlow:
		return units.MassFlow, true
	case absolute:
		return units.Pressure, true
	case velocity:
		return units.Velocity, true
	case warmth:
		return units.Temperature, true
	}
	return 0, false
}

// driveColumns says what the columns of a header hold.
func driveColumns(header []string, line int) (clock clockColumn, out []driveColumn, err error) {
	clock.at = -1
	seen := map[trim.Channel]string{}
	for i, h := range header {
		h = strings.TrimSpace(h)
		// A column of days alone gives way to one of times.
		if role(h) == "time" && !strings.Contains(plain(h), "runtime") && (clock.at < 0 || plain(header[clock.at]) == "date") {
			clock = clockColumn{at: i, unit: units.Must("s", units.Time)}
			if u, ok := units.Guess(h, units.Time); ok {
				clock.unit = u
			}
			continue
		}
		d, coded := datumOf(h)
		if d == nil {
			continue
		}
		if other, twice := seen[d.channel]; twice {
			if d.measure == trims || d.channel == trim.Speed {
				return clock, nil, fmt.Errorf("line %d: two columns for the %s, %q and %q; keep one", line, d.channel, clip(other), clip(h))
			}
			continue // more than one throttle or load: the first is taken
		}
		seen[d.channel] = h
		c := driveColumn{datum: d, at: i, header: h, says: saysPercent(h), coded: coded}
		if k, ok := d.measure.kindOf(); ok {
			c.unit, _ = unitIn(h, k)
		}
		out = append(out, c)
	}
	return clock, out, driveLacks(header, clock, out, line)
}

func saysPercent(h string) bool {
	low := strings.ToLower(h)
	return strings.Contains(low, "%") || strings.Contains(low, "percent") || strings.Contains(low, "pct")
}

// driveLacks says what a header has to hold and does not.
func driveLacks(header []string, clock clockColumn, columns []driveColumn, line int) error {
	numbers := 0
	for _, h := range header {
		if _, err := units.Number(h); err == nil {
			numbers++
		}
	}
	has := func(list ...trim.Channel) bool {
		return slices.ContainsFunc(columns, func(c driveColumn) bool { return slices.Contains(list, c.channel) })
	}
	const example = "time_s, SHRTFT1, LONGFT1, RPM, MAF"
	switch {
	case 2*numbers > len(header) && !has(trim.Short1, trim.Long1):
		return fmt.Errorf("line %d: readings where the header was expected; name the columns in the first line, for example %s", line, example)
	case len(columns) == 0:
		return fmt.Errorf("line %d: none of the %d columns is one of a drive log; expected for example %s", line, len(header), example)
	case clock.at < 0:
		return fmt.Errorf("line %d: no time column; name one \"time_s\"", line)
	case !has(trim.Short1, trim.Long1, trim.Short2, trim.Long2):
		return fmt.Errorf("line %d: no fuel trim among the columns; expected for example SHRTFT1 and LONGFT1", line)
	case !has(trim.Short1, trim.Long1):
		return fmt.Errorf("line %d: trims of bank 2 only; bank 1 was expected as well", line)
	case !has(trim.Speed):
		return fmt.Errorf("line %d: no engine speed among the columns; expected for example RPM", line)
	}
	return nil
}
