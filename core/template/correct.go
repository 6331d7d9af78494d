package template

import (
	"errors"
	"fmt"
	"slices"
)

// Errors of corrections.
var (
	ErrNoTemplate = errors.New("there is no such template, or it became part of another")
	ErrNoPart     = errors.New("there is no such part")
)

// by finds a template by its number.
func (m *Miner) by(id int) (*Template, error) {
	for _, f := range m.frames {
		for _, t := range f.templates {
			if t.ID == id && t.into == nil {
				return t, nil
			}
		}
	}
	return nil, fmt.Errorf("%d: %w", id, ErrNoTemplate)
}

// Join makes two templates one, as a person says: the older stays, and lines of either
// are its own from now on. Where both have as many parts and the same marks, the words
// that differ vary, whatever stands there; else the other's lines count with it as they
// are.
func (m *Miner) Join(one, two int) (stays int, err error) {
	a, err := m.by(one)
	if err != nil {
		return 0, err
	}
	b, err := m.by(two)
	if err != nil || a == b {
		return one, err
	}
	if b.ID < a.ID {
		a, b = b, a
	}
	clear(m.known)
	var vary []int
	like := len(a.Places) == len(b.Places)
	for i := range a.Places {
		if !like {
			break
		}
		switch p, q := &a.Places[i], &b.Places[i]; {
		case p.Kind == Mark || q.Kind == Mark:
			like = p.Kind == q.Kind && p.Text == q.Text
		case (p.Kind == Word || q.Kind == Word) && (p.Kind != q.Kind || p.Text != q.Text):
			vary = append(vary, i)
		}
	}
	if like {
		for _, i := range vary {
			a.Places[i].Held, b.Places[i].Held, a.Places[i].Loose = false, false, true
		}
		m.join([]*Template{a, b}, vary)
		return a.Last().ID, nil
	}
	a.Lines += b.Lines
	b.into = a
	m.count--
	m.merges = append(m.merges, Merge{b.ID, a.ID})
	return a.ID, nil
}

// Varying marks a part of a template as variable, as a person says; templates that differ in
// it alone become part of it.
func (m *Miner) Varying(id, place int) error {
	t, err := m.by(id)
	if err != nil {
		return err
	}
	if place < 0 || place >= len(t.Places) || t.Places[place].Kind == Mark {
		return fmt.Errorf("part %d of template %d: %w that can vary", place, id, ErrNoPart)
	}
	clear(m.known)
	p := &t.Places[place]
	p.Held, p.Loose = false, true
	if p.Kind.Varies() {
		p.Varied = true
		m.takeIn(t)
		return nil
	}
	family := slices.Clone(m.family(t.without(place)))
	family = slices.DeleteFunc(family, func(o *Template) bool { return o == t || o.Places[place].Held })
	for _, o := range family {
		o.Places[place].Loose = true
	}
	m.join(append(family, t), []int{place})
	return nil
}

// Hold says that a word of a template is constant. Where the part varies, lines with the
// word there are a template of their own from now on, whose number is given.
func (m *Miner) Hold(id, place int, word string) (held int, err error) {
	t, err := m.by(id)
	if err != nil {
		return 0, err
	}
	if place < 0 || place >= len(t.Places) || t.Places[place].Kind == Mark {
		return 0, fmt.Errorf("part %d of template %d: %w that can be held", place, id, ErrNoPart)
	}
	p := &t.Places[place]
	if p.Kind == Word {
		if word != "" && word != p.Text {
			return 0, fmt.Errorf("part %d of template %d is %q: %w %q", place, id, p.Text, ErrNoPart, word)
		}
		p.Held = true
		return id, nil
	}
	parts := Scan([]byte(word), nil)
	if len(parts) != 1 || parts[0].Kind == Mark {
		return 0, fmt.Errorf("%q is not one word: %w", word, ErrNoPart)
	}
	if m.count >= m.Most {
		return 0, fmt.Errorf("there are %d templates: more are not kept", m.count)
	}
	clear(m.known)
	own := &Template{ID: m.next, Places: slices.Clone(t.Places), outline: t.outline}
	own.Places[place] = Place{Kind: parts[0].Kind, Text: word, Glued: p.Glued, Held: true}
	m.next++
	m.count++
	m.into(own, t.shape)
	m.outlines[own.outline] = append(m.outlines[own.outline], own)
	return own.ID, nil
}

// into puts a template into its frame: those that hold a word are asked before others.
func (m *Miner) into(t *Template, shape uint64) {
	f := m.frames[shape]
	if f == nil {
		f = &frame{}
		m.frames[shape] = f
	}
	t.frame, t.shape = f, shape
	if !slices.ContainsFunc(t.Places, func(p Place) bool { return p.Held }) {
		f.templates = append(f.templates, t)
		return
	}
	f.templates = slices.Insert(f.templates, 0, t)
	f.particular = f.particular || slices.ContainsFunc(t.Places, func(p Place) bool { return p.Held && p.Kind.Varies() })
}
