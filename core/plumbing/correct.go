package plumbing

import (
	"fmt"
	"slices"
)

// Change is a correction of one car's plumbing. A part is gone, or a line runs
// between two other parts than the archetype says.
type Change struct {
	Kind string // "gone" or "runs"
	Part string
	From string // of a line that runs otherwise: the parts it joins
	To   string
}

// Kinds of change.
const (
	Gone = "gone"
	Runs = "runs"
)

// Correct applies changes one after another and returns the corrected graph; g stays
// as it is. The error says in a sentence why a change cannot be.
func (g *Graph) Correct(changes []Change) (*Graph, error) {
	for _, c := range changes {
		var err error
		if g, err = g.correct(c); err != nil {
			return nil, err
		}
	}
	return g, nil
}

func (g *Graph) correct(c Change) (*Graph, error) {
	p, ok := g.Part(c.Part)
	if !ok {
		return nil, fmt.Errorf("%q is not on this car's Map", c.Part)
	}
	name := Lower(p.Name)
	parts := slices.Clone(g.Parts)
	switch c.Kind {
	case Runs:
		if p.Kind != Line {
			return nil, fmt.Errorf("the %s is no line; only a line can run otherwise", name)
		}
		if c.From == c.To {
			return nil, fmt.Errorf("the %s cannot run from a part to itself", name)
		}
		i := g.index[c.Part]
		for _, e := range []struct {
			end  *string
			to   string
			away string
		}{{&parts[i].From, c.From, c.To}, {&parts[i].To, c.To, c.From}} {
			key, _, _, _ := Port(*e.end)
			if key == e.to {
				continue // that end stays where it is
			}
			at, err := g.side(e.to, e.away, c.Part)
			if err != nil {
				return nil, err
			}
			*e.end = at
		}
	case Gone:
		switch lines := g.Lines(c.Part); {
		case p.Kind == Block || p.Kind == Tee:
			return nil, fmt.Errorf("the %s cannot be taken off the Map", name)
		case p.Kind == Line || p.On != "" && p.At == "":
			parts = without(parts, c.Part)
		case len(p.Sides()) == 2 && len(lines) == 2:
			// The lines on both sides become one.
			a, b := lines[0], lines[1]
			if b.Label != "" && a.Label == "" {
				a, b = b, a
			}
			near, far := &a.From, b.To
			if at(a.To, c.Part) {
				near = &a.To
			}
			if at(b.To, c.Part) {
				far = b.From
			}
			*near = far
			parts = without(parts, c.Part, b.Key)
			parts[slices.IndexFunc(parts, func(q Part) bool { return q.Key == a.Key })] = a
		case len(lines) <= 1:
			gone := []string{c.Part}
			for _, l := range lines {
				gone = append(gone, l.Key)
			}
			parts = without(parts, gone...)
		default:
			return nil, fmt.Errorf("the %s joins %d lines; say first how they run instead", name, len(lines))
		}
		parts = slices.DeleteFunc(parts, func(q Part) bool {
			return q.On != "" && q.At == "" && !slices.ContainsFunc(parts, func(h Part) bool { return h.Key == q.On })
		})
	default:
		return nil, fmt.Errorf("%q is no change: a part is gone, or a line runs otherwise", c.Kind)
	}
	n, err := NewGraph(parts)
	if err != nil {
		return nil, fmt.Errorf("with this change to the %s something hangs loose (%v): correct that too, or otherwise", name, err)
	}
	return n, nil
}

func at(port, key string) bool {
	k, _, _, _ := Port(port)
	return k == key
}

func without(parts []Part, keys ...string) []Part {
	return slices.DeleteFunc(parts, func(p Part) bool { return slices.Contains(keys, p.Key) })
}

// Lines lists the lines that end at a part: its passages.
func (g *Graph) Lines(key string) (out []Part) {
	for _, p := range g.Parts {
		if p.Kind == Line && (at(p.From, key) || at(p.To, key)) {
			out = append(out, p)
		}
	}
	return
}

// side chooses the side of a part that faces another one, free ones first.
func (g *Graph) side(key, towards, line string) (string, error) {
	p, ok := g.Part(key)
	if !ok {
		return "", fmt.Errorf("%q is not on this car's Map", key)
	}
	x, y, okA := Place(p.At)
	o, _ := g.Part(towards)
	tx, ty, okB := Place(o.At)
	if p.Kind == Line || !okA {
		return "", fmt.Errorf("nothing can be joined to the %s", Lower(p.Name))
	}
	if !okB {
		tx, ty = x, y
	}
	sides := p.Sides()
	if len(sides) != 2 {
		sides = []string{"left", "right", "top", "bottom"}
	}
	taken := map[string]bool{}
	for _, l := range g.Lines(key) {
		for _, e := range []string{l.From, l.To} {
			if k, side, _, _ := Port(e); k == key && l.Key != line {
				taken[side] = true
			}
		}
	}
	facing := map[string]int{"left": x - tx, "right": tx - x, "top": y - ty, "bottom": ty - y}
	slices.SortStableFunc(sides, func(a, b string) int {
		if taken[a] != taken[b] {
			if taken[b] {
				return -1
			}
			return 1
		}
		return facing[b] - facing[a]
	})
	return key + "." + sides[0], nil
}
