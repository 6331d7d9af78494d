package tune

import "slices"

// Told is an alert that a setting would have told. Times are Unix seconds.
type Told struct {
	Series   int64
	Since    int64 // start of the first deviating period
	Raised   int64
	Closed   int64  // 0 while open
	Incident string // that it belongs to; empty: none
	Expected bool   // raised under a planned event
}

// until is when an alert ended, as seen at an instant.
func (a *Told) until(now int64) int64 {
	if a.Closed == 0 {
		return now
	}
	return a.Closed
}

// Known is what is known of an alert that today's setting tells.
type Known struct {
	Gone
	Incident string
	Skip     bool // planned: it counts neither way
}

// Candidate is a monitor with what each of its settings would have told. The first is
// today's, of whose alerts something is known, one by one.
type Candidate struct {
	Told  [][]Told
	Known []Known
}

// Missing numbers today's alerts in [from, to) that a setting would not have told, nor
// another of their incident.
func (c *Candidate) Missing(k int, from, to int64) (list []int) {
	found := map[string]bool{}
	for i := range c.Told[k] {
		found[c.Told[k][i].Incident] = true
	}
	for i := range c.Told[0] {
		a, v := &c.Told[0][i], &c.Known[i]
		if a.Raised < from || a.Raised >= to || v.Skip || v.Incident != "" && found[v.Incident] || c.tells(k, a, to) {
			continue
		}
		list = append(list, i)
	}
	return list
}

// tells tells whether a setting has an alert of the same series at the time.
func (c *Candidate) tells(k int, a *Told, now int64) bool {
	return slices.ContainsFunc(c.Told[k], func(o Told) bool {
		return o.Series == a.Series && o.Since < a.until(now) && a.Since < o.until(now)
	})
}

// Change lists what of today's alerts in [from, to) a setting would not have told, and
// how the alerts it tells beside them change the balance: one that nobody knows is a
// false one until shown, and one of an incident that today's setting misses is a fault won.
func (c *Candidate) Change(k int, from, to int64) (gone []Gone, more Outlook) {
	today := map[string]bool{}
	for i := range c.Told[0] {
		today[c.Known[i].Incident] = true
	}
	for _, i := range c.Missing(k, from, to) {
		gone = append(gone, c.Known[i].Gone)
	}
	won := map[string]bool{}
	for i := range c.Told[k] {
		a := &c.Told[k][i]
		if a.Raised < from || a.Raised >= to || a.Expected || c.tells(0, a, to) {
			continue
		}
		switch {
		case a.Incident == "":
			more.Spared--
		case !today[a.Incident] && !won[a.Incident]:
			won[a.Incident] = true
			more.Lost--
		}
	}
	return gone, more
}

// Gained names the incidents that a setting finds and today's misses.
func (c *Candidate) Gained(k int) []string {
	today := map[string]bool{}
	for i := range c.Told[0] {
		today[c.Told[0][i].Incident] = true
	}
	list := []string{}
	for i := range c.Told[k] {
		if in := c.Told[k][i].Incident; in != "" && !today[in] && !slices.Contains(list, in) {
			list = append(list, in)
		}
	}
	return list
}

// Choose picks a setting for each candidate by what is known of [from, to), and gives
// what each setting is expected to do.
func Choose(list []*Candidate, from, to int64, limit float64) ([]int, [][]Outlook) {
	gone := make([][][]Gone, len(list))
	more := make([][]Outlook, len(list))
	faults := make([]float64, len(list))
	for m, c := range list {
		for k := range c.Told {
			g, o := c.Change(k, from, to)
			gone[m], more[m] = append(gone[m], g), append(more[m], o)
		}
		for i, v := range c.Known {
			switch a := &c.Told[0][i]; {
			case v.Skip || a.Raised < from || a.Raised >= to:
			case !v.Answered:
				faults[m] += v.Chance
			case v.Fault:
				faults[m]++
			}
		}
	}
	outlooks := Outlooks(gone)
	for m := range outlooks {
		for k := range outlooks[m] {
			outlooks[m][k].Spared += more[m][k].Spared
			outlooks[m][k].Lost += more[m][k].Lost
		}
	}
	return Allocate(outlooks, faults, limit), outlooks
}

// Kept is what choices came to on time that they had not seen.
type Kept struct{ Faults, FaultsLost, Noise, NoiseSpared int }

// HoldOut chooses on each of some stretches of [from, to) by what was known before it,
// and counts what that would have done on the stretch: by candidate.
func HoldOut(list []*Candidate, from, to int64, stretches int, limit float64) []Kept {
	kept := make([]Kept, len(list))
	long := (to - from) / int64(stretches)
	for j := 1; j < stretches; j++ {
		start, end := from+int64(j)*long, from+int64(j+1)*long
		before, _ := Choose(list, from, start, limit)
		for m, c := range list {
			for i, v := range c.Known {
				if a := &c.Told[0][i]; v.Skip || !v.Answered || a.Raised < start || a.Raised >= end {
					continue
				}
				if v.Fault {
					kept[m].Faults++
				} else {
					kept[m].Noise++
				}
			}
			gone, _ := c.Change(before[m], start, end)
			for _, v := range gone {
				if v.Answered && v.Fault {
					kept[m].FaultsLost++
				} else if v.Answered {
					kept[m].NoiseSpared++
				}
			}
		}
	}
	return kept
}
