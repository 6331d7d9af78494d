package logs

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// take gives the templates of a log as they are at its version, for one who holds it.
func (k *Keeper) take(ctx context.Context, s *store.Store, log record.Log) (*held, error) {
	k.mu.Lock()
	h := k.held[log.ID]
	delete(k.held, log.ID) // what fails on the way is read again
	k.mu.Unlock()
	if h != nil && h.version == log.Version {
		return h, nil
	}
	rows, err := s.LogTemplates(ctx, log.ID)
	if err != nil {
		return nil, err
	}
	lines, err := s.LogSamples(ctx, log.ID, 0)
	if err != nil {
		return nil, err
	}
	apart, err := s.LogAttributes(ctx, log.ID)
	if err != nil {
		return nil, err
	}
	h = &held{version: log.Version, apart: map[string]map[string]bool{}, rows: map[int]*record.LogTemplate{},
		says: map[int]map[string]int64{}, samples: map[int][]string{}}
	for i := range rows {
		t := &rows[i]
		h.rows[t.Number] = t
	}
	for _, l := range lines {
		h.samples[l.Number] = append(h.samples[l.Number], l.Line)
	}
	for _, v := range apart {
		h.tell(v.Attribute, v.Value)
	}
	h.miner = template.Restore(mostTemplates, log.Next, saved(rows))
	return h, nil
}

func (k *Keeper) give(log int64, h *held) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if len(k.held) >= mostHeld {
		clear(k.held)
	}
	k.held[log] = h
}

func (k *Keeper) forget(log int64) {
	k.mu.Lock()
	defer k.mu.Unlock()
	delete(k.held, log)
}

type cell struct {
	t        *template.Template
	at       int64
	severity string
}

// mostApart is how many values of an attribute are told apart; Rest names the others.
const mostApart = 100

// Rest are the lines with values of an attribute beyond those told apart.
const Rest = "(other)"

// tell gives the name under which a value of an attribute is counted.
func (h *held) tell(attribute, value string) string {
	known := h.apart[attribute]
	switch {
	case known[value]:
	case len(known) >= mostApart:
		return Rest
	case known == nil:
		h.apart[attribute] = map[string]bool{value: true}
	default:
		known[value] = true
	}
	return value
}

// partly is a count by a value of an attribute.
type partly struct {
	t                *template.Template
	at               int64
	attribute, value string
}

// count counts lines in a transaction that alone writes to the log.
func (k *Keeper) count(ctx context.Context, tx pgx.Tx, o Order, list []entry) (r LogReceipt, values map[part]*template.Values, err error) {
	s := k.store.In(tx)
	log, err := s.HoldLog(ctx, o.Log)
	if err != nil {
		return r, nil, err
	}
	if o.Source != "" {
		seen, err := s.LogSeen(ctx, log.ID, o.Source)
		if err != nil {
			return r, nil, err
		}
		first := max(o.First, 1)
		all := len(list)
		last := first + list[all-1].number - 1
		list = slices.DeleteFunc(list, func(e entry) bool { return first+e.number-1 <= seen })
		r.Again = int64(all - len(list))
		if len(list) == 0 {
			return r, nil, nil
		}
		if err := store.SeeLog(ctx, tx, log.ID, o.Source, last); err != nil {
			return r, nil, err
		}
	}
	h, err := k.take(ctx, s, log)
	if err != nil {
		return r, nil, err
	}
	masker, err := template.NewMasker(log.Masked)
	if err != nil {
		return r, nil, err
	}
	h.miner.Masker = masker
	before := h.miner.Next()
	parts, stood := map[partly]int64{}, map[stoodIn]*template.Values{}
	counts := map[cell]int64{}
	touched := map[*template.Template][2]time.Time{}
	var lines []record.LogSample
	from, to := list[0].at, list[0].at
	period := int64(record.LogPeriod.Seconds())
	for i := range list {
		e := &list[i]
		if from, to = timeline.Earlier(from, e.at), timeline.Later(to, e.at); e.severity == "" {
			e.severity = template.Severity(e.text, template.Scan(e.text, nil))
		}
		t := h.miner.Take(e.text)
		if t == nil {
			continue
		}
		r.Lines++
		at := e.at.Unix() / period * period
		counts[cell{t, at, e.severity}]++
		for a, value := range e.by {
			if value = cut(string(masker.Mask([]byte(value))), 200); value != "" {
				parts[partly{t, at, log.By[a], h.tell(log.By[a], value)}]++
			}
		}
		if t.Number() == template.Other {
			r.Overflow++
			continue
		}
		span, there := touched[t]
		if !there {
			span = [2]time.Time{e.at, e.at}
		}
		touched[t] = [2]time.Time{timeline.Earlier(span[0], e.at), timeline.Later(span[1], e.at)}
		h.vary = h.miner.Vary(t, h.vary)
		for _, p := range h.vary {
			of := stoodIn{t, p.Place, at / 86400}
			if stood[of] == nil {
				stood[of] = template.NewValues()
			}
			stood[of].Add(p.Kind, e.text[p.From:p.To], masker.Mask)
		}
		if line, keep := h.sample(masker, t.Number(), e.text, log.KeepSamples); keep {
			lines = append(lines, record.LogSample{Number: t.Number(), At: e.at, Line: line})
		}
	}
	if err := k.write(ctx, tx, &log, h, "", counts, touched, lines); err != nil {
		return r, nil, err
	}
	if err := writeParts(ctx, tx, log.ID, parts); err != nil {
		return r, nil, err
	}
	r.New = h.miner.Next() - before
	log.Lines, log.Overflow, log.Next = log.Lines+r.Lines, log.Overflow+r.Overflow, h.miner.Next()
	if err := store.PutLog(ctx, tx, log, from, to); err != nil {
		return r, nil, err
	}
	h.version = log.Version + 1
	k.give(log.ID, h)
	return r, numbered(stood), nil
}

// write keeps counts, templates that changed or became part of others (an author's doing,
// if there is one), and lines.
func (k *Keeper) write(ctx context.Context, tx pgx.Tx, log *record.Log, h *held, author string, counts map[cell]int64,
	touched map[*template.Template][2]time.Time, lines []record.LogSample) error {
	var rows []record.LogTemplate
	changed := map[int]bool{}
	for t, span := range touched {
		number := t.Number()
		row := h.rows[number]
		if row == nil {
			row = &record.LogTemplate{LogID: log.ID, Number: number, FirstAt: span[0], LastAt: span[1]}
			h.rows[number] = row
		}
		row.FirstAt, row.LastAt = timeline.Earlier(row.FirstAt, span[0]), timeline.Later(row.LastAt, span[1])
		changed[number] = true
	}
	sums := map[record.LogCount]int64{}
	for c, n := range counts {
		number := c.t.Number()
		sums[record.LogCount{Number: number, At: time.Unix(c.at, 0).UTC(), Severity: c.severity}] += n
		if h.says[number] == nil {
			h.says[number] = map[string]int64{}
		}
		h.says[number][c.severity] += n
	}
	merges := h.miner.Merges()
	var merged []record.LogChange
	what := "merged"
	if author != "" {
		what = "joined"
	}
	for _, m := range merges {
		changed[m.From] = true
		if h.rows[m.From] == nil {
			h.rows[m.From] = &record.LogTemplate{LogID: log.ID, Number: m.From, FirstAt: log.CreatedAt, LastAt: log.CreatedAt}
		}
		h.rows[m.From].MergedInto = m.Into
		delete(h.samples, m.From)
		merged = append(merged, record.LogChange{What: what, Number: m.From, Other: m.Into, Place: -1, Author: author})
	}
	for _, t := range h.miner.Everything() {
		if !changed[t.ID] {
			continue
		}
		row := h.rows[t.ID]
		saved, kept := t.Save()
		row.Kept, row.Lines = kept, t.Lines
		if kept {
			row.Places, row.Text, row.MergedInto, row.Shape = saved.Places, t.String(), saved.Into, int64(saved.Shape)
		}
		delete(changed, t.ID)
		rows = append(rows, *row)
	}
	for number := range changed { // no longer held: they became part of others
		if row := h.rows[number]; row != nil {
			row.Kept = false
			rows = append(rows, *row)
		}
	}
	for i := range rows {
		rows[i].Severity = h.severity(rows[i].Number, rows[i].Severity)
		h.rows[rows[i].Number].Severity = rows[i].Severity
		rows[i].Text = cut(string(h.miner.Masker.Mask([]byte(rows[i].Text))), 2000)
		if rows[i].Places == nil {
			rows[i].Places = record.LogPlaces{}
		}
	}
	slices.SortFunc(rows, func(a, b record.LogTemplate) int { return cmp.Compare(a.Number, b.Number) })
	if err := store.PutLogTemplates(ctx, tx, rows); err != nil {
		return err
	}
	for _, m := range merges {
		if err := store.MergeLogTemplates(ctx, tx, log.ID, m.From, m.Into); err != nil {
			return err
		}
		if err := k.mergeValues(ctx, tx, log.ID, m.From, m.Into); err != nil {
			return err
		}
	}
	if err := store.AddLogChanges(ctx, tx, log.ID, merged); err != nil {
		return err
	}
	var list []record.LogCount
	for c, n := range sums {
		c.N = n
		list = append(list, c)
	}
	if err := store.AddLogCounts(ctx, tx, log.ID, list); err != nil {
		return err
	}
	lines = slices.DeleteFunc(lines, func(l record.LogSample) bool { return h.rows[l.Number] == nil || h.rows[l.Number].MergedInto != 0 })
	return store.AddLogSamples(ctx, tx, log.ID, lines)
}

// severity is that of most lines of a template.
func (h *held) severity(number int, known string) string {
	best, most := known, int64(0)
	for s, n := range h.says[number] {
		if n > most || n == most && s > best {
			best, most = s, n
		}
	}
	return best
}

// sample tells whether a line is to be kept: a few of each template, chosen to differ.
func (h *held) sample(masker *template.Masker, number int, text []byte, keep int) (string, bool) {
	known := h.samples[number]
	if len(known) >= keep {
		return "", false
	}
	line := cut(string(masker.Mask(text)), 4000)
	// The second and third differ from those before in most of their words.
	words := strings.Fields(line)
	for _, k := range known {
		same := 0
		other := strings.Fields(k)
		for i, w := range words {
			if i < len(other) && other[i] == w {
				same++
			}
		}
		if len(known) > 0 && same == len(words) {
			return "", false
		}
	}
	h.samples[number] = append(known, line)
	return line, true
}
