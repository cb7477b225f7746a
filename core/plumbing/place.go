package plumbing

import "strings"

// Stations run from the front of the car (left) to its rear (right), lanes from the
// air intake (top) to the vents and the exhaust (bottom). Their places are fixed, so
// that a part stands where it stood on the last car.
var (
	stations = []place{{"nose", 40}, {"box", 92}, {"inlet", 168}, {"turbo", 208}, {"duct", 256}, {"throttle", 296}, {"intake", 336}, {"manifold", 376}, {"bay", 440},
		{"firewall", 464}, {"purge", 496}, {"sill", 520}, {"port", 544}, {"canister", 600}, {"floor", 640}, {"tank", 696}, {"rear", 720}, {"neck", 760}}
	lanes = []place{{"top", 32}, {"air", 64}, {"purge", 104}, {"charge", 144}, {"intake", 184}, {"cover", 232}, {"engine", 264}, {"block", 312}, {"crank", 352},
		{"tank", 384}, {"exhaust", 416}, {"vent", 440}, {"outlet", 496}, {"ground", 532}}
)

type place struct {
	name string
	at   int
}

// Canvas is the room the Map has, px. Labels of 14 px on it are 14 px on a screen of
// 1280 by 800 with the neighbours of the Map beside it.
const (
	CanvasWidth  = 784
	CanvasHeight = 552
)

func find(l []place, name string) (int, bool) {
	for _, p := range l {
		if p.name == name {
			return p.at, true
		}
	}
	return 0, false
}

func names(l []place) (out []string) {
	for _, p := range l {
		out = append(out, p.name)
	}
	return
}

// StationNames lists the stations, front to rear.
func StationNames() []string { return names(stations) }

// LaneNames lists the lanes, top to bottom.
func LaneNames() []string { return names(lanes) }

// Place is where station/lane lies on the canvas, px.
func Place(at string) (x, y int, ok bool) {
	s, l, ok := strings.Cut(at, "/")
	if !ok {
		return 0, 0, false
	}
	x, okX := find(stations, s)
	y, okY := find(lanes, l)
	return x, y, okX && okY
}

func validAt(at string) bool {
	_, _, ok := Place(at)
	return ok
}
