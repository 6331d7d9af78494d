// Package template finds out of which sentences lines are made: like lines become one
// template, whose constant words stay and whose variable parts are marked by what they
// look like.
//
// Lines are parted by Scan and sorted by their frame (where words, marks and variable
// parts stand), as a parse tree of fixed depth does (He, Zhu, Zheng and Lyu 2017). Within
// a frame every wording is a template of its own until so many differ in a place that it
// must vary: words that few lines tell apart, as opened and closed, stay apart, which a
// threshold of likeness cannot do. One pass; memory by templates, not by lines.
package template

import (
	"cmp"
	"slices"
	"strings"
)

const (
	// mostWordings is how many words may stand in a place before it varies.
	mostWordings = 8
	// crowded is from how many templates of one frame on several places may vary at once.
	crowded = 24
	// strong is from how many lines on a place that holds identifiers takes words in: a host
	// may be db-3 and localhost.
	strong = 8
	// steady is from how many lines on a part that looks variable, but never varied,
	// counts as constant.
	steady = 32
	// longestFirst is how much is kept of a variable part's first value.
	longestFirst = 100
	// mostParts is how many parts of a line are looked at; the rest is one that varies.
	mostParts = 200
)

// Place is a part of a template.
type Place struct {
	Kind   Kind   `json:"kind"`
	Text   string `json:"text"` // of words and marks; of others the first value
	Varied bool   `json:"varied,omitempty"`
	Glued  bool   `json:"glued,omitempty"`
	Held   bool   `json:"held,omitempty"`  // a person says that it is constant
	Loose  bool   `json:"loose,omitempty"` // a person says that it varies
}

// Template is a sentence that lines are made from.
type Template struct {
	ID     int     `json:"id"` // kept when it becomes more general
	Places []Place `json:"places"`
	Lines  int64   `json:"lines"`

	frame   *frame
	shape   uint64 // of its frame
	outline uint64
	into    *Template // what it was merged into
}

// Merge says that a template became part of another.
type Merge struct{ From, Into int }

// Miner finds templates. It is for one goroutine.
type Miner struct {
	// Most is how many templates are kept; lines of further ones are counted together.
	Most int
	// Masker says which parts hold secrets.
	Masker *Masker

	next     int
	count    int
	known    map[uint64]*Template // wordings seen, by their hash
	frames   map[uint64]*frame
	families map[uint64][]*Template // by all words but one
	outlines map[uint64][]*Template // by marks alone
	merges   []Merge
	parts    []Part
	other    Template
}

// frame holds the templates of one frame.
type frame struct {
	templates []*Template
	// particular: a person holds a value in a part that varies by its looks, so that which
	// template a line has cannot be told by its words alone.
	particular bool
}

// Other is the number of what is counted together once there are too many templates.
const Other = 0

// NewMiner keeps up to so many templates.
func NewMiner(most int) *Miner {
	return &Miner{Most: most, next: 1, known: map[uint64]*Template{}, frames: map[uint64]*frame{},
		families: map[uint64][]*Template{}, outlines: map[uint64][]*Template{}}
}

// mostKnown bounds the wordings remembered; they are found again where forgotten.
const mostKnown = 1 << 17

// Take takes a line and gives its template; Other's where there are too many, and nil for
// an empty line.
func (m *Miner) Take(line []byte) *Template {
	m.parts = Scan(line, m.parts[:0])
	if len(m.parts) == 0 {
		return nil
	}
	if len(m.parts) > mostParts {
		last := &m.parts[mostParts-1]
		last.Kind, last.To = Any, m.parts[len(m.parts)-1].To
		m.parts = m.parts[:mostParts]
	}
	m.values(line)
	m.Masker.secrets(line, m.parts)
	wording, shape := m.hashes(line)
	t := m.known[wording]
	if t == nil {
		t = m.place(line, shape)
		if len(m.known) >= mostKnown {
			clear(m.known)
		}
		if t != &m.other && !m.frames[shape].particular {
			m.known[wording] = t
		}
	}
	t = t.Last()
	t.Lines++
	t.widen(line, m.parts)
	if t.Lines == strong && len(t.Places) == len(m.parts) {
		m.gather(t)
	}
	return t
}

// values marks words after an equals sign: by convention they are values.
func (m *Miner) values(line []byte) {
	for i := 1; i < len(m.parts); i++ {
		p, before := &m.parts[i], m.parts[i-1]
		if p.Kind == Word && p.Glued && before.Kind == Mark && line[before.From] == '=' && i > 1 && m.parts[i-2].Kind == Word {
			p.Kind = Any
		}
	}
}

// Last is what a template has become.
func (t *Template) Last() *Template {
	for t.into != nil {
		t = t.into
	}
	return t
}

const (
	seed  = 14695981039346656037
	prime = 1099511628211
)

// hashes are that of a wording and that of its frame (FNV-1a, by eight bytes where it can).
func (m *Miner) hashes(line []byte) (wording, shape uint64) {
	wording, shape = seed, seed
	for _, p := range m.parts {
		class := uint64(p.Kind)
		if p.Kind.Varies() {
			class = uint64(Number)
		}
		if p.Glued {
			class |= 16
		}
		shape = (shape ^ class) * prime
		if p.Kind == Mark {
			shape = hash(shape, line[p.From:p.To])
		}
		wording = (wording ^ class) * prime
		if !p.Kind.Varies() {
			wording = hash(wording, line[p.From:p.To])
		}
	}
	return wording, shape
}

func hash(h uint64, text []byte) uint64 {
	for ; len(text) >= 8; text = text[8:] {
		v := uint64(text[0]) | uint64(text[1])<<8 | uint64(text[2])<<16 | uint64(text[3])<<24 | uint64(text[4])<<32 | uint64(text[5])<<40 | uint64(text[6])<<48 | uint64(text[7])<<56
		h = (h ^ v) * prime
		h ^= h >> 29
	}
	for _, c := range text {
		h = (h ^ uint64(c)) * prime
	}
	return h ^ uint64(len(text))<<56
}

// place finds a wording's template among those of its frame, or makes one.
func (m *Miner) place(line []byte, shape uint64) *Template {
	f := m.frames[shape]
	if f == nil {
		if m.count >= m.Most {
			return &m.other
		}
		f = &frame{}
		m.frames[shape] = f
	}
	for _, t := range f.templates {
		if t.fits(line, m.parts) {
			return t
		}
	}
	if m.count >= m.Most {
		return &m.other
	}
	t := &Template{ID: m.next, frame: f, shape: shape, Places: make([]Place, len(m.parts))}
	m.next++
	m.count++
	for i, p := range m.parts {
		t.Places[i] = Place{Kind: p.Kind, Text: string(line[p.From:p.To]), Glued: p.Glued}
		switch {
		case p.Hidden:
			t.Places[i].Text, t.Places[i].Varied = "", true
		case p.Kind.Varies() && p.To-p.From > longestFirst:
			t.Places[i].Text, t.Places[i].Varied = string(line[p.From:p.From+longestFirst]), true
		}
	}
	f.templates = append(f.templates, t)
	t.outline = m.outlineOf(line)
	for _, o := range m.outlines[t.outline] {
		if o.into == nil && o.settled() && o.covers(t) {
			m.merge(o, t)
			return t.Last()
		}
	}
	m.outlines[t.outline] = append(m.outlines[t.outline], t)
	if m.one(t) || len(f.templates) < crowded {
		return t.Last()
	}
	m.several(t)
	return t.Last()
}

// outlineOf is the hash of where marks stand, whatever stands between.
func (m *Miner) outlineOf(line []byte) uint64 {
	h := uint64(seed)
	for _, p := range m.parts {
		if h = (h ^ 5) * prime; p.Kind == Mark {
			h = hash(h, line[p.From:p.To])
		}
	}
	return h
}

// fits tells whether a line of the template's frame has its words.
func (t *Template) fits(line []byte, parts []Part) bool {
	for i, p := range parts {
		if place := &t.Places[i]; place.Held && place.Kind.Varies() {
			if string(line[p.From:p.To]) != place.Text {
				return false
			}
		} else if place.Kind == Word && (p.Kind != Word || string(line[p.From:p.To]) != place.Text) {
			return false
		} else if place.Kind.Varies() && p.Kind == Word && place.Kind != Any {
			return false
		}
	}
	return true
}

// widen takes a line's values in: what they look like, and that they vary.
func (t *Template) widen(line []byte, parts []Part) {
	if len(t.Places) != len(parts) {
		return // of Other
	}
	for i := range parts {
		place := &t.Places[i]
		if !place.Kind.Varies() || place.Held || place.Varied && place.Kind == parts[i].Kind {
			continue
		}
		p := parts[i]
		if place.Kind != p.Kind && place.Kind != Any {
			place.Kind = wider(place.Kind, p.Kind)
		}
		if !place.Varied && string(line[p.From:p.To]) != place.Text {
			place.Varied = true
		}
	}
}

// wider is a kind that both are.
func wider(a, b Kind) Kind {
	switch {
	case a == b:
		return a
	case a == Any || b == Any || a == Word || b == Word:
		return Any
	case min(a, b) == Number && max(a, b) == Identifier:
		return Identifier
	}
	return Any
}

// Templates are those found, by number; those merged into others are not.
func (m *Miner) Templates() []*Template {
	var list []*Template
	for _, f := range m.frames {
		for _, t := range f.templates {
			if t.into == nil {
				list = append(list, t)
			}
		}
	}
	slices.SortFunc(list, func(a, b *Template) int { return cmp.Compare(a.ID, b.ID) })
	return list
}

// Overflow is how many lines came that no template was kept for.
func (m *Miner) Overflow() int64 { return m.other.Lines }

// Merges are what became part of what since they were asked for last.
func (m *Miner) Merges() []Merge {
	list := m.merges
	m.merges = nil
	return list
}

// Fixed tells whether a place is constant: a word or mark, a value that may be a word and
// never varied, or what looks variable but did not over many lines.
func (t *Template) Fixed(place int) bool {
	p := &t.Places[place]
	return p.Held || !p.Kind.Varies() || !p.Varied && (t.Lines >= steady || p.Kind == Any)
}

// String writes a template with its variable parts in angle brackets.
func (t *Template) String() string {
	var b strings.Builder
	for i := range t.Places {
		p := &t.Places[i]
		if i > 0 && !p.Glued {
			b.WriteByte(' ')
		}
		if t.Fixed(i) {
			b.WriteString(p.Text)
		} else {
			b.WriteString("<" + p.Kind.String() + ">")
		}
	}
	return b.String()
}

// Number is what a line's template has become since; 0 of none and of Other.
func (t *Template) Number() int {
	if t == nil {
		return Other
	}
	return t.Last().ID
}

// Everything is what is held: the templates, and those that became part of others but of
// whose frame lines still come.
func (m *Miner) Everything() []*Template {
	var list []*Template
	for _, f := range m.frames {
		list = append(list, f.templates...)
	}
	return list
}
