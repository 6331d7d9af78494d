package logs

import (
	"context"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// part is a variable part of a template on a day, counted from 1970.
type part struct {
	number, place int
	day           int64
}

// stoodIn is a part while its template may still become part of another.
type stoodIn struct {
	t     *template.Template
	place int
	day   int64
}

// valuesFor is how many days what stood in parts is kept.
const valuesFor = 30

// numbered gives sums by the numbers that templates have in the end.
func numbered(stood map[stoodIn]*template.Values) map[part]*template.Values {
	list := map[part]*template.Values{}
	for of, v := range stood {
		if of.place >= len(of.t.Places) || len(of.t.Last().Places) != len(of.t.Places) {
			continue
		}
		at := part{of.t.Number(), of.place, of.day}
		if list[at] == nil {
			list[at] = v
		} else {
			list[at].Merge(v)
		}
	}
	return list
}

// addValues takes sums in; they are stored once a round, so that a kill costs the last of
// them, and no line's count.
func (k *Keeper) addValues(log int64, values map[part]*template.Values) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.pending[log] == nil {
		k.pending[log] = map[part]*template.Values{}
	}
	for at, v := range values {
		if known := k.pending[log][at]; known != nil {
			known.Merge(v)
		} else {
			k.pending[log][at] = v
		}
	}
}

// storeValues keeps what stood in the parts of a log's templates since the last round.
func (k *Keeper) storeValues(ctx context.Context, log record.Log) error {
	k.mu.Lock()
	pending := k.pending[log.ID]
	delete(k.pending, log.ID)
	k.mu.Unlock()
	if len(pending) == 0 {
		return nil
	}
	err := k.store.InTx(ctx, func(tx pgx.Tx) error {
		s := k.store.In(tx)
		if _, err := s.HoldLog(ctx, log.Name); err != nil { // others add to the same sums
			return err
		}
		settled, err := k.settled(ctx, s, log.ID, pending)
		if err != nil {
			return err
		}
		var numbers []int
		first := int64(1 << 62)
		for at := range settled {
			numbers, first = append(numbers, at.number), min(first, at.day)
		}
		slices.Sort(numbers)
		known, err := s.LogValues(ctx, log.ID, slices.Compact(numbers), day(first))
		if err != nil {
			return err
		}
		sums := map[part]*template.Values{}
		for i := range known {
			v := &known[i]
			sums[part{v.Number, v.Place, v.Day.Unix() / 86400}] = &v.Summary
		}
		var list []record.LogValue
		for at, v := range settled {
			sum := template.NewValues()
			if before := sums[at]; before != nil {
				sum.Merge(before)
			}
			sum.Merge(v)
			list = append(list, record.LogValue{Number: at.number, Place: at.place, Day: day(at.day), Summary: *sum})
		}
		return store.PutLogValues(ctx, tx, log.ID, list)
	})
	if err != nil {
		k.addValues(log.ID, pending)
	}
	return err
}

// settled gives sums by the templates that others have become part of since.
func (k *Keeper) settled(ctx context.Context, s *store.Store, log int64,
	pending map[part]*template.Values) (map[part]*template.Values, error) {
	rows, err := s.LogTemplates(ctx, log)
	if err != nil {
		return nil, err
	}
	into := map[int]int{}
	for _, t := range rows {
		into[t.Number] = t.MergedInto
	}
	sums := map[part]*template.Values{}
	for at, v := range pending {
		for into[at.number] != 0 {
			at.number = into[at.number]
		}
		if sums[at] == nil {
			sums[at] = template.NewValues()
		}
		sums[at].Merge(v)
	}
	return sums, nil
}

func day(n int64) time.Time { return time.Unix(n*86400, 0).UTC() }

// mergeValues moves what stood in the parts of a template to those of the one that it
// became part of, where both have as many.
func (k *Keeper) mergeValues(ctx context.Context, tx pgx.Tx, log int64, from, into int) error {
	s := k.store.In(tx)
	list, err := s.LogValues(ctx, log, []int{from, into}, time.Unix(0, 0))
	if err != nil {
		return err
	}
	sums := map[part]*template.Values{}
	moved := false
	for i := range list {
		v := &list[i]
		moved = moved || v.Number == from
		at := part{into, v.Place, v.Day.Unix() / 86400}
		if sums[at] == nil {
			sums[at] = template.NewValues()
		}
		sums[at].Merge(&v.Summary)
	}
	if !moved {
		return nil
	}
	var kept []record.LogValue
	for at, v := range sums {
		kept = append(kept, record.LogValue{Number: into, Place: at.place, Day: day(at.day), Summary: *v})
	}
	if err := store.PutLogValues(ctx, tx, log, kept); err != nil {
		return err
	}
	return store.DropLogValues(ctx, tx, log, []int{from})
}

// PartOf is a variable part of a template with what stood there.
type PartOf struct {
	Place    int               `json:"part" doc:"which part of the template, from 0"`
	Kind     string            `json:"kind"`
	Before   string            `json:"before" doc:"the words before it"`
	Lines    int64             `json:"lines" doc:"looked at, of the last 30 days"`
	Distinct int64             `json:"distinct" doc:"estimated to 7 %"`
	Top      []template.Valued `json:"top" doc:"most frequent, counts at most a 33rd of all too low"`
	Numbers  int64             `json:"numbers" doc:"of the lines those with a number; times in seconds, sizes in bytes"`
	Days     []ValueDay        `json:"days"`
}

// ValueDay is what stood in a part on a day.
type ValueDay struct {
	Day      time.Time `json:"day"`
	Lines    int64     `json:"lines"`
	Distinct int64     `json:"distinct"`
	Top      string    `json:"top" doc:"the most frequent value"`
	Least    float64   `json:"least"`
	Low      float64   `json:"low" doc:"a tenth of the numbers is lower"`
	Median   float64   `json:"median"`
	High     float64   `json:"high" doc:"a tenth is higher"`
	Most     float64   `json:"most"`
}

// partsOf gives what stood in the parts of a template.
func (k *Keeper) partsOf(ctx context.Context, log record.Log, t record.LogTemplate) ([]PartOf, error) {
	if err := k.storeValues(ctx, log); err != nil {
		return nil, err
	}
	list, err := k.store.LogValues(ctx, log.ID, []int{t.Number}, k.now().AddDate(0, 0, -valuesFor))
	if err != nil {
		return nil, err
	}
	parts := []PartOf{}
	sum := template.NewValues()
	for i := range list {
		v := &list[i].Summary
		if list[i].Place >= len(t.Places) {
			continue
		}
		if n := len(parts); n == 0 || parts[n-1].Place != list[i].Place {
			parts = append(parts, PartOf{Place: list[i].Place, Kind: t.Places[list[i].Place].Kind.String(),
				Before: before(t.Places, list[i].Place), Days: []ValueDay{}})
			sum = template.NewValues()
		}
		p := &parts[len(parts)-1]
		sum.Merge(v)
		p.Lines, p.Distinct, p.Top, p.Numbers = sum.Lines, sum.Distinct(), sum.Top(8), sum.Numbers
		d := ValueDay{Day: list[i].Day, Lines: v.Lines, Distinct: v.Distinct()}
		if top := v.Top(1); len(top) > 0 {
			d.Top = top[0].Value
		}
		if v.Numbers > 0 {
			d.Least, d.Low, d.Median, d.High, d.Most = v.Least, v.Quantile(.1), v.Quantile(.5), v.Quantile(.9), v.Most
		}
		p.Days = append(p.Days, d)
	}
	return parts, nil
}

// before are up to three words before a part.
func before(places []template.Place, at int) string {
	text, n := "", 0
	for i := at - 1; i >= 0 && n < 3; i-- {
		if places[i].Kind == template.Word {
			text = places[i].Text + " " + text
			n++
		} else if places[i].Kind.Varies() {
			break
		}
	}
	if len(text) > 0 {
		text = text[:len(text)-1]
	}
	return text
}

// writeParts keeps what was counted by attributes.
func writeParts(ctx context.Context, tx pgx.Tx, log int64, parts map[partly]int64) error {
	if len(parts) == 0 {
		return nil
	}
	sums := map[record.LogPart]int64{}
	for p, n := range parts {
		sums[record.LogPart{Number: p.t.Number(), At: time.Unix(p.at, 0).UTC(), Attribute: p.attribute, Value: p.value}] += n
	}
	var list []record.LogPart
	for p, n := range sums {
		p.N = n
		list = append(list, p)
	}
	return store.AddLogParts(ctx, tx, log, list)
}
