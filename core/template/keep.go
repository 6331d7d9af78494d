package template

import "slices"

// Saved is a template as it is kept between runs.
type Saved struct {
	ID     int     `json:"id"`
	Places []Place `json:"places"`
	Lines  int64   `json:"lines"`
	Into   int     `json:"into,omitempty"` // what it became part of; it stays where lines of its frame still come
	Shape  uint64  `json:"shape"`          // of the frame that its lines have; 0: that of its places
}

// Save gives what is to be kept of a template; ok is false where nothing is. Of parts that
// vary no value is kept, and secrets of no part.
func (t *Template) Save() (s Saved, ok bool) {
	if t.ID == Other || t.frame == nil {
		return s, false
	}
	s = Saved{ID: t.ID, Places: slices.Clone(t.Places), Lines: t.Lines, Shape: t.shape}
	if t.into != nil {
		s.Into = t.Last().ID
	}
	for i := range s.Places {
		p := &s.Places[i]
		switch {
		case p.Kind.Varies() && p.Varied:
			p.Text = ""
		case p.Kind.Varies():
			p.Text = string(Mask([]byte(p.Text)))
		}
	}
	return s, true
}

// Restore gives a miner with the templates that were kept; next is the number of the next.
func Restore(most, next int, kept []Saved) *Miner {
	m := NewMiner(most)
	m.next = max(next, 1)
	byID := map[int]*Template{}
	kept = slices.Clone(kept)
	slices.SortFunc(kept, func(a, b Saved) int { return a.ID - b.ID })
	for _, s := range kept {
		t := &Template{ID: s.ID, Places: slices.Clone(s.Places), Lines: s.Lines}
		byID[s.ID] = t
		m.next = max(m.next, s.ID+1)
		shape := uint64(seed)
		for i := range t.Places {
			p := &t.Places[i]
			shape = p.into(shape)
		}
		if s.Shape != 0 {
			shape = s.Shape
		}
		m.into(t, shape)
		t.outline = t.outlined()
	}
	for _, s := range kept {
		t := byID[s.ID]
		if to := byID[s.Into]; to != nil && to != t {
			t.into = to
			continue
		}
		m.count++
		m.outlines[t.outline] = append(m.outlines[t.outline], t)
		for i := range t.Places {
			if p := &t.Places[i]; !p.Held && (p.Kind == Word || p.names()) {
				key := t.without(i)
				m.families[key] = append(m.families[key], t)
			}
		}
	}
	return m
}

// Next is the number that the next template gets.
func (m *Miner) Next() int { return m.next }

// into adds a place to the hash of a frame, as hashes does of a line's part.
func (p *Place) into(shape uint64) uint64 {
	class := uint64(p.Kind)
	if p.Kind.Varies() {
		class = uint64(Number)
	}
	if p.Glued {
		class |= 16
	}
	if shape = (shape ^ class) * prime; p.Kind == Mark {
		shape = hash(shape, []byte(p.Text))
	}
	return shape
}

// outlined is a template's outline, as outlineOf gives a line's.
func (t *Template) outlined() uint64 {
	h := uint64(seed)
	for i := range t.Places {
		if h = (h ^ 5) * prime; t.Places[i].Kind == Mark {
			h = hash(h, []byte(t.Places[i].Text))
		}
	}
	return h
}
