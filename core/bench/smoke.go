package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"wexter/core/plumbing"
	"wexter/core/record"
	"wexter/core/smoke"
	"wexter/core/units"
)

// sizes say how much comes out at a place, the weakest first.
var sizes = []string{"wisp", "stream", "billow"}

const vapourSmoke = "smoke"

// VapourSmoke is smoke in the sealed EVAP system: in with the far end open until it is seen there,
// then held under pressure while exits are looked for. Read live, the flow and this car's own
// volumes say how far the front is.
var VapourSmoke = Register(Test{
	Key:     vapourSmoke,
	On:      SealedSystem,
	Odds:    FromSmoke,
	ByPlace: "exit",
	Nothing: []string{"none", "expected"},
	Channels: []Channel{
		{Key: "far", Kind: Choice, Words: []string{Yes, No}, Sense: SmokeAtFarEnd},
		{Key: "exits", Kind: Places, Words: sizes, Sense: SmokeExits},
		{Key: "clear", Kind: Places, Sense: NoSmokeYet, Optional: true},
		{Key: "looked", Kind: Places, Optional: true},
		{Key: "rig-flow", Unit: "L/min", Low: 0, High: 200, Sense: RigFlow, Optional: true},
		{Key: "rig-pressure", Unit: "inH2O", Low: 0, High: 30, Sense: RigPressure, Optional: true},
		{Key: "minutes", Unit: "min", Low: 0, High: 240, Optional: true},
		{Key: "level", Unit: "%", Low: 0, High: 100, Optional: true},
	},
	Phases: []Phase{
		{Do: []Step{{Do: Seal}, {Do: Smoke, Value: smokeAt * units.InH2O}, {Do: Put, At: AtFarEnd, State: plumbing.Open}}, For: 600, Until: SmokeAtFarEnd, Read: []string{"far"}},
		{Do: []Step{{Do: Clear, At: AtFarEnd}}, For: 180, Read: []string{"exits", "clear"}},
	},
	Live: Live{Taps: []Tap{{farSeen, "Smoke at the far end", []record.RunKind{phaseKey(0)}}}, Stretches: smokeStretches, Watch: newSmokeWatch, Looks: []record.RunKind{phaseKey(0), phaseKey(1)}, Picture: smokeSoFar,
		AllIn: "Both legs are in. Keep the result, or hold again for places that are still to be looked at."},
	Picture: smokePicture,
	Reduce: func(s Subject, r Readings) Verdict {
		v := smokeOutcome(r)
		if f, ok := smokeHole(r); ok && v.Outcome != "" {
			v.Figures = append(v.Figures, f)
		}
		return v
	},
})

// smokeAt is the pressure of a smoke rig, inH2O (common practice, no source: 10 to 15).
const smokeAt = 12.0

func smokeOutcome(r Readings) Verdict {
	v := smokeVerdict(r)
	if v.Outcome != "none" {
		return v
	}
	switch r.Word("far") {
	case Yes:
		return is("none", "No exit, and smoke was seen at the far end.")
	case No:
		return is("not-filled", "No exit, but smoke never reached the far end: the far half was not tested.")
	}
	return ask("far", "Was smoke seen at the far end before it was closed? A system closed from the start hardly fills.")
}

// tankSwept is what the fuel of a tank gives off while the air that was blown through it fills with
// vapour again, L/min (chosen: a quarter of a square metre of still fuel at 20 °C).
const tankSwept = 1.0

// smokeHole is the hole through which the flow of the hold goes, by a nominal orifice.
func smokeHole(r Readings) (Figure, bool) {
	flow, a := r.Mean("rig-flow")
	at, b := r.Mean("rig-pressure")
	if !a || !b || at < 3 { // nothing held it back
		return Figure{}, false
	}
	f := flowHole(flow, OrificeFlow(reference, at), reference, false)
	f.Name = "leak by the flow, equivalent orifice"
	// The air that was blown through is taken up by the fuel, which gives off vapour in its place: as
	// much as that may be missing in the flow.
	swept := flowHole(flow+tankSwept, OrificeFlow(reference, at), reference, false)
	f.High = swept.High * thinned(r)
	return f, true
}

// smokeVerdict is what exits of smoke or air say by themselves.
func smokeVerdict(r Readings) Verdict {
	x, has := r["exits"]
	if !has {
		return ask("exits", "Tap every place where it comes out, or \"nothing comes out\".")
	}
	unexpected := 0
	for _, p := range x.Places {
		if !p.Expected {
			unexpected++
		}
	}
	switch {
	case unexpected > 0:
		return is("exit", "Comes out at %d %s.", unexpected, plural(unexpected, "place", "places"))
	case len(x.Places) > 0:
		return is("expected", "Comes out only where it must.")
	}
	return is("none", "Nothing comes out.")
}

// farSeen is the tap at the moment at which smoke is seen at the far end.
const farSeen = "far"

// smokeStretches are smoke in, with the far end open, and the hold, which goes on until it is ended.
func smokeStretches(k Known) []Stretch {
	t, _ := Of(vapourSmoke)
	all := t.phaseStretches(k)
	far, _ := k.Site.Name(Step{Do: Put, At: AtFarEnd})
	in, hold := &all[0], &all[1]
	in.Name, in.Detail, in.For, in.Until = "Smoke in, far end open", "until it billows at the "+plumbing.Lower(far), 0, ""
	in.Before = fmt.Sprintf("Seal the system, see smoke at the hose end, join it, open the %s, regulator at %s. Then start.", plumbing.Lower(far), both(smokeAt*units.InH2O))
	hold.Name, hold.Detail, hold.For = "Far end shut, look for exits", "front to back", 0
	hold.Before = fmt.Sprintf("Shut the %s, keep the regulator at %s, then start: tap every exit on the picture, and every place where nothing comes.", plumbing.Lower(far), both(smokeAt*units.InH2O))
	hold.Read = []string{"exits", "looked", "rig-flow", "rig-pressure"}
	in.Judged, hold.Judged = true, true
	return all
}

// lookSeconds is how long smoke must have been at a place before looking there clears it, s (chosen).
const lookSeconds = 20.0

// Placer is a watcher that takes places: what is seen at a part, one of the words of the channel of
// places, or [NothingThere].
type Placer interface {
	// Place says why what is seen at a part cannot be taken now, as a sentence; empty: it can.
	Place(part, what string) string
}

// Of marks that are places.
const (
	placeMark    = "place:"
	NothingThere = "nothing"
	TakenBack    = "back"
)

// PlaceKey is the key of a mark of something that is seen at a part.
func PlaceKey(part, what string) string { return placeMark + part + ":" + what }

// smokeWatch follows the front, and takes what is seen.
type smokeWatch struct {
	*phaseWatch
	known Known
	stage smoke.Stage
	front *smoke.Front
	why   string // there is none
	last  float64
	far   bool
	seen  map[string]string // what is at a place, by part
	order []string
	wrong string // why the last place did not count
}

func newSmokeWatch(k Known, s Stretch, cols record.Channels) Watcher {
	t, _ := Of(vapourSmoke)
	w := &smokeWatch{phaseWatch: newPhaseWatch(t, s, cols), known: k, seen: map[string]string{}}
	f, err := frontOf(k.Subject, k.Site, k.Read)
	if err != nil {
		w.why = err.Error()
	}
	w.front = f
	if s.Key == phaseKey(1) {
		if past, ok := k.Past[phaseKey(0)]; ok && f != nil {
			w.refill(past)
		}
		w.stage = smoke.Shut
	}
	w.last = 0
	return w
}

// frontOf is the front in this car before any smoke.
func frontOf(s Subject, site Site, r Readings) (*smoke.Front, error) {
	level := 0.5
	if v, ok := r.Mean("level"); ok {
		level = v / 100
	} else if s.Level > 0 {
		level = s.Level
	}
	far, _ := site.Where(AtFarEnd)
	return smoke.New(smoke.Setup{Graph: s.Graph, Set: site.Seal, Entry: site.Entry, Far: far, Level: level})
}

// refill lets go in what went in while the far end was open.
func (w *smokeWatch) refill(past Past) {
	if past.Cols.At(string(record.RigFlowing)) >= 0 {
		w.fill(past.Column(string(record.RigFlowing)))
	} else if n := past.Table.Len(); n > 0 {
		w.fill([]float64{past.Table.Last()}, []float64{usualSmoke})
	}
}

// fill lets a flow that was read go in.
func (w *smokeWatch) fill(t, flow []float64) {
	for i, q := range flow {
		w.front.Advance(t[i]-w.last, q, w.stage)
		w.last = t[i]
	}
}

// Take takes a reading; once smoke was seen at the far end the stretch ends.
func (w *smokeWatch) Take(t float64, row []float64) Heard {
	w.phaseWatch.Take(t, row)
	if w.front != nil {
		if i := w.cols.At(string(record.RigFlowing)); i < 0 {
			w.fill([]float64{t}, []float64{w.flow()})
		} else if !math.IsNaN(row[i]) {
			w.fill([]float64{t}, []float64{row[i]})
		}
	}
	if w.far && w.stretch.Key == phaseKey(0) {
		return Heard{Ends: "Smoke was seen at the far end."}
	}
	return Heard{}
}

// Mark takes a tap, or a place.
func (w *smokeWatch) Mark(t float64, word string) {
	w.phaseWatch.Mark(t, word)
	if word == farSeen {
		w.far = true
		return
	}
	part, what, ok := strings.Cut(strings.TrimPrefix(word, placeMark), ":")
	if !strings.HasPrefix(word, placeMark) || !ok {
		return
	}
	if w.order = slices.DeleteFunc(w.order, func(p string) bool { return p == part }); what == TakenBack {
		delete(w.seen, part)
		return
	}
	w.seen[part], w.order = what, append(w.order, part)
}

// Place says why a place does not count now.
func (w *smokeWatch) Place(part, what string) string {
	p, ok := w.known.Site.part(part)
	name := plumbing.Lower(p.Name)
	switch {
	case !ok:
		return "This car has no such part."
	case what == TakenBack || slices.Contains(sizes, what):
		return ""
	case what != NothingThere:
		return fmt.Sprintf("%q is no size of smoke: it is a wisp, a stream or a billow, or nothing.", what)
	case w.front == nil:
		return ""
	case w.front.For(part) < lookSeconds && w.front.Share(part) >= smoke.Reached:
		return fmt.Sprintf("Smoke came to the %s only just now: look there again in %.0f s. It counts as looked at then.", name, math.Ceil(lookSeconds-w.front.For(part)))
	case w.front.Share(part) < smoke.Reached:
		return fmt.Sprintf("Smoke is not to be expected at the %s yet: %s. Looking there now clears nothing.", name, w.when(part))
	}
	return ""
}

// when says how long it takes until smoke is at a part.
func (w *smokeWatch) when(part string) string {
	s := w.front.ToGo([]string{part}, w.flow(), w.stage)[part]
	if math.IsInf(s, 1) {
		if w.stage == smoke.Shut {
			return "with the far end shut it does not get there"
		}
		return "at this flow it does not get there"
	}
	return "about " + clock(s) + " to go"
}

// flow is the flow of this moment, m³/s, over some seconds.
func (w *smokeWatch) flow() float64 {
	i := w.cols.At(string(record.RigFlowing))
	switch {
	case i < 0 && w.stage == smoke.Open:
		return usualSmoke
	case i < 0:
		return OrificeFlow(reference, smokeAt) / 60e3
	}
	v, _ := w.over(i, AtEnd)
	return math.Max(v, 0)
}

// State says how far the front is.
func (w *smokeWatch) State() State {
	s := w.phaseWatch.State()
	switch {
	case w.stretch.Key == phaseKey(1):
		s.Now = "Far end shut. Tap each exit on the picture, and each place where nothing comes."
	case w.front == nil:
		s.Now = "Press the space bar when smoke billows at the far end."
	case w.far:
		s.Now = "Smoke at the far end."
	default:
		s.Now = "Far end open: press the space bar when smoke billows there."
	}
	return s
}

// clock writes seconds as minutes and seconds.
func clock(s float64) string { return fmt.Sprintf("%d:%02d", int(s)/60, int(s)%60) }

// Told is what was seen, and what flows.
func (w *smokeWatch) Told() Told {
	out := Told{Readings: Readings{}}
	if w.stretch.Key == phaseKey(0) {
		out.Readings["far"] = Said(map[bool]string{true: Yes, false: No}[w.far])
		if !w.far {
			out.Says = "Smoke has not been seen at the far end."
		}
		return out
	}
	for k, r := range w.phaseWatch.Told().Readings {
		if k == "rig-flow" || k == "rig-pressure" { // a meter shows a little less than nothing now and then
			out.Readings[k] = Num(math.Max(r.Numbers[0], 0))
		}
	}
	var exits, looked []Place
	open := w.vents()
	for _, p := range w.order {
		if what := w.seen[p]; what == NothingThere {
			looked = append(looked, Place{Part: p})
		} else {
			exits = append(exits, Place{Part: p, Size: what, Expected: slices.Contains(open, p)})
		}
	}
	out.Readings["exits"] = Reading{Places: exits}
	if len(looked) > 0 {
		out.Readings["looked"] = Reading{Places: looked}
	}
	if dry := w.dry(); len(dry) > 0 {
		out.Readings["clear"] = Reading{Places: dry}
	}
	return out
}

// vents are the parts at which smoke is expected to leave: what is open to the air.
func (w *smokeWatch) vents() []string {
	if w.known.Graph == nil {
		return nil
	}
	set := plumbing.Settings{}
	for k, s := range w.known.Site.Seal {
		set[k] = s
	}
	if far, ok := w.known.Site.Where(AtFarEnd); ok && w.stage == smoke.Open {
		set[far] = plumbing.Open
	}
	return w.known.Graph.Reach(w.known.Site.Entry, set, plumbing.Pressure).Vents
}

// dry are the volumes to which smoke has not come.
func (w *smokeWatch) dry() (out []Place) {
	if w.front == nil {
		return nil
	}
	shares := w.front.Shares()
	for _, p := range w.known.Graph.Parts {
		if s, in := shares[p.Key]; in && p.Kind == plumbing.Volume && p.Name != "" && s < smoke.Reached {
			out = append(out, Place{Part: p.Key})
		}
	}
	return out
}

// SmokeScene is the picture of smoke on the Map: how much of it is where, how long to which place, and
// what was seen.
type SmokeScene struct {
	Set      plumbing.Settings  // how the car stands
	Entry    string             // where it goes in
	Shares   map[string]float64 // of the rig's smoke, by part
	ToGo     []ToGo
	Seen     map[string]string // what was seen at a part
	Expected []string          // parts at which it is to come out
	Why      string            // nothing is known of the front
	Taken    string            // what was taken for what nobody read, as a sentence
}

// ToGo is how long smoke takes to a place, s: 0 there already, +Inf never.
type ToGo struct {
	Part    string
	Seconds float64
}

func (SmokeScene) scene() {}

// towards are the places to which the time is told, by role or key.
var towards = []string{"carbon", "fuel", "neck", "cap"}

// scene is the front as a picture.
func (w *smokeWatch) scene() SmokeScene {
	s := SmokeScene{Set: plumbing.Settings{}, Entry: w.known.Site.Entry, Seen: w.seen, Expected: w.vents(), Why: w.why}
	for k, v := range w.known.Site.Seal {
		s.Set[k] = v
	}
	if far, ok := w.known.Site.Where(AtFarEnd); ok && w.stage == smoke.Open {
		s.Set[far] = plumbing.Open
	}
	if w.front == nil {
		return s
	}
	if w.cols.At(string(record.RigFlowing)) < 0 {
		s.Taken = fmt.Sprintf("No flow is read: the rig is taken to give %.0f L/min.", usualSmoke*60e3)
	}
	s.Shares = w.front.Shares()
	var parts []string
	for _, at := range towards {
		if key, ok := w.known.Site.Where(at); ok && key != s.Entry {
			parts = append(parts, key)
		}
	}
	togo := w.front.ToGo(parts, w.flow(), w.stage)
	for _, p := range parts {
		s.ToGo = append(s.ToGo, ToGo{p, togo[p]})
	}
	return s
}

// Picture is the front of this moment.
func (w *smokeWatch) Picture() Scene { return w.scene() }

// smokeSoFar is how far smoke came in the stretches that are in, and what was seen.
func smokeSoFar(k Known) Scene {
	s := Stretch{Key: phaseKey(0)}
	if k.In[phaseKey(0)] {
		s.Key = phaseKey(1)
	}
	last := k.Past[s.Key]
	w, ok := newSmokeWatch(k, s, last.Cols).(*smokeWatch)
	if !ok {
		return nil
	}
	if t, flow := last.Column(string(record.RigFlowing)); w.front != nil {
		w.fill(t, flow)
	}
	for _, m := range last.Marks {
		w.Mark(m.At, m.Key)
	}
	scene := w.scene()
	if scene.Taken = ""; !k.In[phaseKey(1)] {
		scene.Expected = nil
	}
	return scene
}

// smokePicture is smoke by what was typed: the flow, for how long, and how full the tank is.
func smokePicture(s Subject, r Readings) Scene {
	if s.Graph == nil {
		return nil
	}
	site := Site{Graph: s.Graph, Seal: s.Seal, Entry: s.Entry, Part: s.Part.Key}
	w := &smokeWatch{phaseWatch: newPhaseWatch(Test{}, Stretch{}, nil), known: Known{Subject: s, Site: site, Read: r}, seen: map[string]string{}}
	f, err := frontOf(s, site, r)
	if err != nil {
		return SmokeScene{Why: err.Error()}
	}
	w.front = f
	flow, a := r.Mean("rig-flow")
	minutes, b := r.Mean("minutes")
	if b {
		if !a {
			flow = usualSmoke * 60e3
		}
		f.Advance(minutes*60, flow/60e3, smoke.Open)
	}
	for _, x := range r["exits"].Places {
		w.seen[x.Part] = x.Size
	}
	for _, x := range r["looked"].Places {
		w.seen[x.Part] = NothingThere
	}
	scene := w.scene()
	parts := make([]string, len(scene.ToGo))
	for i, x := range scene.ToGo {
		parts[i] = x.Part
	}
	q := flow / 60e3
	if scene.Taken = ""; !a || flow < 1 {
		q, scene.Taken = usualSmoke, fmt.Sprintf("No flow was typed: the rig is taken to give %.0f L/min.", usualSmoke*60e3)
	}
	togo := f.ToGo(parts, q, smoke.Open)
	for i := range scene.ToGo {
		scene.ToGo[i].Seconds = togo[parts[i]]
	}
	return scene
}

// usualSmoke is what a smoke rig gives where nobody has read its flow, m³/s (common practice, no
// source: some 10 L/min).
const usualSmoke = 10.0 / 60e3
