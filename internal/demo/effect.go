package demo

import (
	"math/rand/v2"
	"time"
)

// EffectKind is a way in which rows go wrong.
type EffectKind string

const (
	Drop   EffectKind = "drop"   // a share of rows is lost
	Double EffectKind = "double" // rows are loaded twice
	Stall  EffectKind = "stall"  // loads wait until the end
	Surge  EffectKind = "surge"  // volume times size: spikes, regattas, storms
	Leak   EffectKind = "leak"   // a loss that grows to size
	Nulls  EffectKind = "nulls"  // a share of a column turns null
	Scale  EffectKind = "scale"  // a number divided by a hundred
	Frozen EffectKind = "frozen" // positions repeat
)

// Effect is something done to the rows of a table over a stretch. Segment −1
// means all.
type Effect struct {
	Kind    EffectKind
	Table   string
	Segment int
	From    time.Time
	To      time.Time
	Size    float64
	Column  string
}

func (e *Effect) touches(segment int, t *Table) bool {
	return e.Segment < 0 || len(t.Segments) == 0 || e.Segment == segment
}

func (e *Effect) during(at time.Time) bool { return !at.Before(e.From) && at.Before(e.To) }

// volume is the factor on the rows of an hour.
func (w *World) volume(table string, segment int, at time.Time) float64 {
	factor := 1.0
	for _, e := range w.on(table) {
		if !(e.Segment < 0 || e.Segment == segment) || !e.during(at.Add(30*time.Minute)) {
			continue
		}
		switch e.Kind {
		case Surge:
			factor *= e.Size
		case Leak:
			factor *= 1 - e.Size*min(1, float64(at.Sub(e.From))/float64(e.To.Sub(e.From))*1.5)
		}
	}
	return factor
}

// lost tells whether a drop of that share takes the row with the id; the
// warehouse can compute the same (see Break).
func lost(id int64, share float64) bool { return id*7919%1000 < int64(share*1000) }

// damage says how often a row arrives (0, 1 or 2 times, by copy number) and
// changes its values.
func (w *World) damage(t *Table, segment int, event time.Time, id int64, values []any) []int64 {
	copies := []int64{0}
	for _, e := range w.on(t.Name) {
		if !e.touches(segment, t) || !e.during(event) {
			continue
		}
		switch e.Kind {
		case Drop:
			if lost(id, e.Size) {
				return nil
			}
		case Double:
			copies = []int64{0, 1}
		case Nulls:
			if rand.New(rand.NewPCG(uint64(id), w.Seed)).Float64() < e.Size {
				values[t.column(e.Column)-1] = nil
			}
		case Scale:
			k := t.column(e.Column) - 1
			values[k] = values[k].(int) / 100
		case Frozen:
			values[1], values[2] = float32(44.6), float32(-63.2)
		}
	}
	return copies
}

func (t *Table) column(name string) int {
	for i, c := range t.Columns {
		if c == name {
			return i
		}
	}
	panic("no column " + name + " in " + t.Name)
}

// on gives the effects on a table.
func (w *World) on(table string) []*Effect {
	if w.byTable == nil {
		w.byTable = map[string][]*Effect{}
		for i := range w.Effects {
			e := &w.Effects[i]
			w.byTable[e.Table] = append(w.byTable[e.Table], e)
		}
	}
	return w.byTable[table]
}
