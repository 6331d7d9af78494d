package template

import (
	"cmp"
	"slices"
)

// one looks whether a new template is one wording too many that differs in a single place
// from others, or whether identifiers stand there in another: then that place varies.
func (m *Miner) one(t *Template) bool {
	for i := range t.Places {
		p := &t.Places[i]
		if p.Held || p.Kind != Word && !p.names() {
			continue
		}
		key := t.without(i)
		family := slices.DeleteFunc(m.family(key), func(o *Template) bool { return o.Places[i].Held })
		if !slices.Contains(family, t) {
			family = append(family, t)
		}
		m.families[key] = family
		if len(family) > mostWordings || len(family) > 1 && slices.ContainsFunc(family, func(o *Template) bool { return o.named(i) }) {
			m.join(family, []int{i})
			return true
		}
	}
	return false
}

// family gives the templates that differ in one place alone.
func (m *Miner) family(key uint64) []*Template {
	list := slices.DeleteFunc(m.families[key], func(o *Template) bool { return o.into != nil })
	if len(list) == 0 {
		delete(m.families, key)
		return nil
	}
	m.families[key] = list
	return list
}

// names tells whether what stands in a place may also be a name: identifiers and
// addresses, as of a host.
func (p *Place) names() bool {
	return !p.Held && (p.Kind == Identifier || p.Kind == Address || p.Kind == Any)
}

// named tells whether names stand in a template's place, beyond doubt.
func (t *Template) named(i int) bool {
	p := &t.Places[i]
	return p.names() && p.Varied && (t.Lines >= strong || p.Loose)
}

// settled tells whether a template may take others in.
func (t *Template) settled() bool {
	return t.Lines >= strong || slices.ContainsFunc(t.Places, func(p Place) bool { return p.Loose })
}

// gather takes in the wordings of which one place holds names in a template of some lines.
func (m *Miner) gather(t *Template) {
	for i := range t.Places {
		if !t.named(i) {
			continue
		}
		family := m.family(t.without(i))
		if len(family) > 1 && !slices.ContainsFunc(family, func(o *Template) bool { return o.Places[i].Held }) {
			m.join(family, []int{i})
			if t = t.Last(); !t.named(i) {
				return
			}
		}
	}
	m.takeIn(t)
}

// without is the hash of a template but for one place, be it a word or a name.
func (t *Template) without(place int) uint64 {
	h := (seed ^ uint64(place)) * prime
	for i := range t.Places {
		p := &t.Places[i]
		switch glue := uint64(0); {
		case i == place:
		case p.Kind.Varies() && !p.Held:
			h = (h ^ 3) * prime
		default:
			if p.Glued {
				glue = 16
			}
			h = hash((h^(uint64(p.Kind)|glue))*prime, []byte(p.Text))
		}
	}
	return h
}

// several looks whether templates of a crowded frame that share half of their words with
// a new one have several places that vary.
func (m *Miner) several(t *Template) {
	var alike []*Template
	for _, o := range t.frame.templates {
		same, all := 0, 0
		for i := range t.Places {
			if t.Places[i].Kind == Word || o.Places[i].Kind == Word {
				if all++; t.Places[i].Kind == o.Places[i].Kind && t.Places[i].Text == o.Places[i].Text {
					same++
				}
			}
		}
		if 2*same >= all && same > 0 {
			alike = append(alike, o)
		}
	}
	var vary []int
	for i := range t.Places {
		words := map[string]bool{}
		for _, o := range alike {
			if o.Places[i].Held {
				words = nil
				break
			}
			if o.Places[i].Kind == Word {
				words[o.Places[i].Text] = true
			}
		}
		if len(words) > mostWordings {
			vary = append(vary, i)
		}
	}
	if len(vary) == 0 {
		return
	}
	alike = slices.DeleteFunc(alike, func(o *Template) bool {
		for i := range t.Places {
			if !slices.Contains(vary, i) && t.Places[i].Kind == Word && (o.Places[i].Kind != Word || o.Places[i].Text != t.Places[i].Text) {
				return true
			}
		}
		return false
	})
	if len(alike) > mostWordings {
		m.join(alike, vary)
	}
}

// join makes one template of several whose places vary: the oldest stays.
func (m *Miner) join(list []*Template, vary []int) {
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b *Template) int { return cmp.Compare(a.ID, b.ID) })
	stays := list[0]
	for _, i := range vary {
		stays.Places[i].Kind, stays.Places[i].Varied = Any, true
	}
	for _, o := range list[1:] {
		stays.Lines += o.Lines
		for i := range o.Places {
			to, from := &stays.Places[i], &o.Places[i]
			if to.Kind.Varies() && !to.Held {
				if from.Kind.Varies() {
					to.Kind = wider(to.Kind, from.Kind)
				}
				to.Varied = to.Varied || from.Varied || from.Text != to.Text
			}
		}
		o.into = stays
		m.count--
		m.merges = append(m.merges, Merge{o.ID, stays.ID})
		if o.frame != stays.frame {
			// Lines of that frame still come, with any word there, and find what it has become.
			for _, i := range vary {
				o.Places[i].Kind = Any
			}
			continue
		}
		o.frame = nil
	}
	f := stays.frame
	f.templates = slices.DeleteFunc(f.templates, func(o *Template) bool { return o.into != nil && o.frame == nil })
	m.takeIn(stays) // what has become more general may cover others
	if stays.into == nil {
		m.one(stays) // it has other kin now
	}
}

// covers tells whether another template says the same but where this one's names vary.
func (t *Template) covers(o *Template) bool {
	if len(t.Places) != len(o.Places) {
		return false
	}
	for i := range t.Places {
		a, b := &t.Places[i], &o.Places[i]
		switch {
		case (a.Held || b.Held) && (a.Kind != b.Kind || a.Text != b.Text):
			return false
		case a.Kind == Mark || b.Kind == Mark || a.Kind == Word:
			if a.Kind != b.Kind || a.Text != b.Text {
				return false
			}
		case b.Kind == Word:
			if !t.named(i) {
				return false
			}
		}
	}
	return true
}

// takeIn joins what a template covers, in whichever frame it is.
func (m *Miner) takeIn(t *Template) {
	if !t.settled() {
		return
	}
	for _, o := range slices.Clone(m.outlines[t.outline]) {
		if t.into == nil && o.into == nil && o != t && t.covers(o) {
			m.merge(t, o)
		}
	}
	m.outlines[t.outline] = slices.DeleteFunc(m.outlines[t.outline], func(o *Template) bool { return o.into != nil })
}

// merge makes one template a part of another that covers it.
func (m *Miner) merge(t, o *Template) {
	var vary []int
	for i := range t.Places {
		if t.Places[i].Kind.Varies() && o.Places[i].Kind == Word {
			vary = append(vary, i)
		}
	}
	m.join([]*Template{t, o}, vary)
}
