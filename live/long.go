package live

import "time"

// Long is a stretch of hours that is being read: the car is left alone meanwhile, whoever looks.
type Long struct {
	Number string // of the case
	Test   string // its id
	Name   string // of the test
	Until  time.Time
	Says   string // how far it has come
}

// longFrom is from how many planned seconds on a stretch is a long one.
const longFrom = 3600.0

// Longs are the long stretches that are being read just now.
func (h *Hub) Longs() (out []Long) {
	for _, b := range h.all() {
		b.mu.Lock()
		if l := b.leg; l != nil && !l.ending && l.run.Planned >= longFrom {
			left := time.Duration((l.run.Planned - l.log.Last()) * float64(time.Second))
			out = append(out, Long{b.number, b.test, b.live.Name(), h.shop.Now().Add(max(left, 0)), l.watch.State().Now})
		}
		b.mu.Unlock()
	}
	return out
}
