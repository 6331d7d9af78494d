package logs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/core/template"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Said is a template with what came of it in a stretch.
type Said struct {
	record.LogTemplate
	Gist  string  `json:"gist" doc:"the text without when, how grave and who"`
	Count int64   `json:"count" doc:"in the stretch"`
	Share float64 `json:"share"`
	Bins  []int64 `json:"bins" doc:"of equal length over the stretch"`
}

// Sayings are the templates of a log in a stretch.
type Sayings struct {
	Log       record.Log `json:"log"`
	From      time.Time  `json:"from"`
	To        time.Time  `json:"to"`
	Lines     int64      `json:"lines"`
	Errors    int64      `json:"errors" doc:"lines of severity ERROR and FATAL"`
	Templates []Said     `json:"templates" doc:"most frequent first"`
	Sentence  string     `json:"sentence"`
}

// Narrow says which templates are wanted.
type Narrow struct {
	Severity string // empty: any
	Words    string // all of them occur; empty: any
	Where    string // attribute=value, counted apart; empty: any
}

func (n Narrow) fits(t record.LogTemplate) bool {
	if n.Severity != "" && t.Severity != n.Severity {
		return false
	}
	text := strings.ToLower(t.Text)
	for _, w := range strings.Fields(strings.ToLower(n.Words)) {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}

// bins is how many bars a template's small chart has.
const bins = 48

// Look gives the templates of a log that came in [from, to).
func (k *Keeper) Look(ctx context.Context, name string, from, to time.Time, n Narrow) (Sayings, error) {
	s := Sayings{From: from.Truncate(record.LogPeriod), To: to, Templates: []Said{}}
	var err error
	if s.Log, err = k.store.Log(ctx, name); err != nil {
		return s, err
	}
	rows, tallies, err := k.counted(ctx, s.Log.ID, s.From, to)
	if err != nil {
		return s, err
	}
	width := max(int64(to.Sub(s.From).Seconds())/bins, int64(record.LogPeriod.Seconds()))
	counts, err := k.store.LogBins(ctx, s.Log.ID, 0, s.From, to, width)
	if err != nil {
		return s, err
	}
	bars := map[int][]int64{}
	for _, c := range counts {
		if bars[c.Number] == nil {
			bars[c.Number] = make([]int64, min(int64(to.Sub(s.From).Seconds())/width+1, bins+1))
		}
		if i := int(c.At.Unix()-s.From.Unix()) / int(width); i >= 0 && i < len(bars[c.Number]) {
			bars[c.Number][i] += c.N
		}
	}
	if n.Where != "" {
		if tallies, err = k.where(ctx, s.Log, s.From, to, n.Where); err != nil {
			return s, err
		}
	}
	for number, t := range tallies {
		s.Lines += t.all
		s.Errors += t.errors
		row, there := rows[number]
		if !there || !n.fits(row) {
			continue
		}
		s.Templates = append(s.Templates, Said{LogTemplate: row, Gist: template.Gist(row.Text), Count: t.all, Bins: bars[number]})
	}
	for i := range s.Templates {
		s.Templates[i].Share = float64(s.Templates[i].Count) / float64(max(s.Lines, 1))
	}
	slices.SortFunc(s.Templates, func(a, b Said) int { return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Number, b.Number)) })
	s.Sentence = fmt.Sprintf("%s of %s came, %s of them errors.", words.Plural(int(s.Lines), "line"),
		words.Plural(len(tallies), "sentence"), words.Number(float64(s.Errors)))
	if s.Lines == 0 {
		s.Sentence = "No line came."
	}
	return s, nil
}

// where is what was counted of each template with a value of an attribute.
func (k *Keeper) where(ctx context.Context, log record.Log, from, to time.Time, text string) (map[int]tally, error) {
	attribute, value, ok := strings.Cut(text, "=")
	if !ok || !slices.Contains(log.By, attribute) {
		return nil, record.Invalid{Field: "where", Given: text,
			Allowed: "attribute=value, of the attributes by which lines of this log are counted apart: " +
				cmp.Or(strings.Join(log.By, ", "), "none")}
	}
	parts, err := k.store.LogParts(ctx, log.ID, 0, from, to)
	if err != nil {
		return nil, err
	}
	tallies := map[int]tally{}
	for _, p := range parts {
		if p.Attribute == attribute && p.Value == value {
			tallies[p.Number] = tally{all: p.N}
		}
	}
	return tallies, nil
}

// SaidElsewhere is a sentence of some log.
type SaidElsewhere struct {
	Said
	Log     string `json:"log"`
	Dataset string `json:"dataset"`
	Zone    string `json:"zone"`
}

// Finding is what was found over all logs.
type Finding struct {
	Sentences []SaidElsewhere `json:"sentences" doc:"most frequent first"`
	More      int             `json:"more" doc:"that are not listed"`
	Logs      int             `json:"logs" doc:"that were looked through"`
	Sentence  string          `json:"sentence"`
}

// Find gives the sentences of all logs, or of those of a dataset, that came in [from, to).
func (k *Keeper) Find(ctx context.Context, dataset string, from, to time.Time, n Narrow, most int) (Finding, error) {
	f := Finding{Sentences: []SaidElsewhere{}}
	list, err := k.store.Logs(ctx)
	if err != nil {
		return f, err
	}
	for _, log := range list {
		if dataset != "" && log.Dataset != dataset {
			continue
		}
		f.Logs++
		found, err := k.Look(ctx, log.Name, from, to, n)
		if err != nil {
			return f, err
		}
		for _, s := range found.Templates {
			f.Sentences = append(f.Sentences, SaidElsewhere{s, log.Name, log.Dataset, log.Zone})
		}
	}
	slices.SortStableFunc(f.Sentences, func(a, b SaidElsewhere) int { return cmp.Compare(b.Count, a.Count) })
	all := len(f.Sentences)
	f.Sentences = f.Sentences[:min(all, most)]
	f.More = all - len(f.Sentences)
	f.Sentence = fmt.Sprintf("%s of %s.", words.Plural(all, "sentence"), words.Plural(f.Logs, "log"))
	return f, nil
}

type tally struct{ all, errors int64 }

// counted gives templates and what was counted of each in [from, to).
func (k *Keeper) counted(ctx context.Context, log int64, from, to time.Time) (map[int]record.LogTemplate, map[int]tally, error) {
	list, err := k.store.LogTemplates(ctx, log)
	if err != nil {
		return nil, nil, err
	}
	rows := map[int]record.LogTemplate{}
	for _, t := range list {
		rows[t.Number] = t
	}
	sums, err := k.store.LogTallies(ctx, log, from, to)
	if err != nil {
		return nil, nil, err
	}
	tallies := map[int]tally{}
	for _, v := range sums {
		t := tallies[v.Number]
		if t.all += v.N; v.Severity == "ERROR" || v.Severity == "FATAL" {
			t.errors += v.N
		}
		tallies[v.Number] = t
	}
	return rows, tallies, nil
}

// One is a template with its history.
type One struct {
	record.LogTemplate
	Gist    string             `json:"gist"`
	Log     string             `json:"log"`
	Dataset string             `json:"dataset"`
	Zone    string             `json:"zone"`
	Parts   []int              `json:"became_part" doc:"templates that became part of it"`
	Samples []record.LogSample `json:"samples"`
	Hours   []record.LogCount  `json:"hours" doc:"lines by hour, where there are any"`
	Values  []PartOf           `json:"values" doc:"what stood in its variable parts"`
	By      []record.LogPart   `json:"by" doc:"lines by attributes that are counted apart, most frequent first"`
	Changes []record.LogChange `json:"changes" doc:"corrections, and what became part of it, newest first"`
	Files   bool               `json:"files" doc:"files of the log are followed: lines can be read from them"`
}

// Template gives a template of a log with its last days by the hour.
func (k *Keeper) Template(ctx context.Context, name string, number int, from, to time.Time) (One, error) {
	log, one, err := k.templateOf(ctx, name, number)
	if err != nil {
		return One{}, err
	}
	rows, err := k.store.LogTemplates(ctx, log.ID)
	if err != nil {
		return One{}, err
	}
	o := One{LogTemplate: one, Gist: template.Gist(one.Text), Log: log.Name, Dataset: log.Dataset, Zone: log.Zone, Parts: []int{},
		Files: log.Source != ""}
	for _, t := range rows {
		if t.MergedInto == number {
			o.Parts = append(o.Parts, t.Number)
		}
	}
	if o.Values, err = k.partsOf(ctx, log, one); err != nil {
		return o, err
	}
	if o.By, err = k.store.LogParts(ctx, log.ID, number, from, to); err != nil {
		return o, err
	}
	if o.Changes, err = k.store.LogChanges(ctx, log.ID, number); err != nil {
		return o, err
	}
	if o.Samples, err = k.store.LogSamples(ctx, log.ID, number); err != nil {
		return o, err
	}
	o.Hours, err = k.store.LogBins(ctx, log.ID, number, from.Truncate(time.Hour), to, 3600)
	return o, err
}

// Differs is a template whose count differs between two stretches.
type Differs struct {
	Number   int       `json:"number"`
	Text     string    `json:"text"`
	Gist     string    `json:"gist"`
	Severity string    `json:"severity"`
	Way      string    `json:"way" enum:"new,vanished,more,less"`
	Now      int64     `json:"now"`
	Before   int64     `json:"before"`
	Expected float64   `json:"expected" doc:"now, by the stretch before and how long both are"`
	Surprise float64   `json:"surprise" doc:"−log10 of the chance of so much by how this log's counts wander"`
	FirstAt  time.Time `json:"first_at"`
}

// LogComparison holds a stretch of a log against another.
type LogComparison struct {
	Log      record.Log `json:"log"`
	From     time.Time  `json:"from"`
	To       time.Time  `json:"to"`
	Against  time.Time  `json:"against_from"`
	Until    time.Time  `json:"against_to"`
	Lines    int64      `json:"lines"`
	Before   int64      `json:"lines_before"`
	Differ   []Differs  `json:"differ" doc:"most surprising first"`
	Same     int        `json:"same" doc:"templates that do not differ"`
	Sentence string     `json:"sentence"`
}

// Compare holds [from, to) of a log against [against, until).
func (k *Keeper) Compare(ctx context.Context, name string, from, to, against, until time.Time) (LogComparison, error) {
	c := LogComparison{From: from.Truncate(record.LogPeriod), To: to, Against: against.Truncate(record.LogPeriod),
		Until: until.Truncate(record.LogPeriod), Differ: []Differs{}}
	var err error
	if c.Log, err = k.store.Log(ctx, name); err != nil {
		return c, err
	}
	if !c.Against.Before(c.Until) || !c.From.Before(c.To) {
		return c, record.Invalid{Field: "to", Given: to.Format(time.RFC3339), Allowed: "stretches of at least five minutes"}
	}
	rows, now, err := k.counted(ctx, c.Log.ID, c.From, to)
	if err != nil {
		return c, err
	}
	_, before, err := k.counted(ctx, c.Log.ID, c.Against, c.Until)
	if err != nil {
		return c, err
	}
	var list []template.Tally
	for number, row := range rows {
		if row.MergedInto == 0 && now[number].all+before[number].all > 0 {
			list = append(list, template.Tally{ID: number, Now: now[number].all, Before: before[number].all,
				Fresh: !row.FirstAt.Before(c.From)})
		}
		c.Lines, c.Before = c.Lines+now[number].all, c.Before+before[number].all
	}
	slices.SortFunc(list, func(a, b template.Tally) int { return cmp.Compare(a.ID, b.ID) })
	ways := map[string]int{}
	for _, d := range template.Compare(list, c.Until.Sub(c.Against).Seconds()/c.To.Sub(c.From).Seconds()) {
		if d.Way == template.Same {
			c.Same++
			continue
		}
		ways[d.Way]++
		row := rows[d.ID]
		c.Differ = append(c.Differ, Differs{d.ID, row.Text, template.Gist(row.Text), row.Severity, d.Way, d.Now, d.Before,
			d.Expected, d.Surprise, row.FirstAt})
	}
	var parts []string
	for _, way := range []string{template.New, template.Vanished, template.More, template.Less} {
		if n := ways[way]; n > 0 {
			parts = append(parts, map[string]string{template.New: fmt.Sprintf("%d new", n),
				template.Vanished: fmt.Sprintf("%d vanished", n), template.More: words.Agree(n, "comes", "come") + " more often",
				template.Less: words.Agree(n, "comes", "come") + " less often"}[way])
		}
	}
	c.Sentence = "No sentence differs beyond how counts wander here."
	if len(parts) > 0 {
		c.Sentence = fmt.Sprintf("Of %s %s.", words.Plural(len(list), "sentence"), words.List(parts))
	}
	return c, nil
}
