package logs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tinbell/core/diagnose"
	"tinbell/core/template"
	"tinbell/internal/collect/landing"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Kin is a sentence that rises and falls with another.
type Kin struct {
	Number      int     `json:"number"`
	Gist        string  `json:"gist"`
	Severity    string  `json:"severity"`
	Correlation float64 `json:"correlation" doc:"of roots of counts, without their course of the day; below 0: one falls as the other rises"`
	LagSeconds  int     `json:"lag_seconds" doc:"it comes so much later; below 0 earlier"`
}

// RunsWith says in how many runs of a job a sentence came, by how they ended.
type RunsWith struct {
	Job    string          `json:"job"`
	State  record.RunState `json:"state"`
	Runs   int             `json:"runs" doc:"within the stretch"`
	With   int             `json:"with" doc:"of these those in which it came"`
	Latest string          `json:"latest" doc:"the newest of those"`
}

// AlertsWith says how often a sentence came while a dataset had an alert.
type AlertsWith struct {
	Dataset string  `json:"dataset"`
	Hours   int     `json:"hours" doc:"in which the dataset had an open alert"`
	With    int     `json:"with" doc:"of these those in which it came"`
	Else    float64 `json:"else" doc:"share of the other hours in which it came"`
	Chance  float64 `json:"chance" doc:"of so many by chance (Fisher's exact test)"`
}

// GoesWith is what a sentence goes with.
type GoesWith struct {
	From     time.Time    `json:"from"`
	To       time.Time    `json:"to"`
	Kin      []Kin        `json:"kin" doc:"strongest first"`
	Runs     []RunsWith   `json:"runs"`
	Alerts   []AlertsWith `json:"alerts" doc:"least by chance first"`
	Sentence string       `json:"sentence"`
}

const (
	// mostCompared is how many sentences one is held against, the most frequent first.
	mostCompared = 300
	// runsLooked is how many runs of a job are looked at.
	runsLooked = 500
	// byChance is from which chance on an overlap with alerts is not told.
	byChance = 0.001
)

// GoesWith finds what a sentence goes with in [from, to): sentences of the log, runs of
// the jobs that write it or its dataset, and alerts of datasets.
func (k *Keeper) GoesWith(ctx context.Context, name string, number int, from, to time.Time) (GoesWith, error) {
	from, to = from.Truncate(time.Hour), to.Truncate(record.LogPeriod)
	g := GoesWith{From: from, To: to, Kin: []Kin{}, Runs: []RunsWith{}, Alerts: []AlertsWith{}}
	log, one, err := k.templateOf(ctx, name, number)
	if err != nil {
		return g, err
	}
	own, err := k.store.LogCells(ctx, log.ID, []int{number}, from, to)
	if err != nil {
		return g, err
	}
	if len(own) == 0 {
		g.Sentence = "It did not come in this stretch."
		return g, nil
	}
	if err := k.kin(ctx, log, one, own, &g); err != nil {
		return g, err
	}
	if err := k.runsWith(ctx, log, own, &g); err != nil {
		return g, err
	}
	if err := k.alertsWith(ctx, own, &g); err != nil {
		return g, err
	}
	g.Sentence = g.said()
	return g, nil
}

func (g GoesWith) said() string {
	var parts []string
	for _, r := range g.Runs {
		if (r.State == "failed" || r.State == "aborted") && r.With > 0 {
			parts = append(parts, fmt.Sprintf("it came in %d of %s of %s", r.With, words.Plural(r.Runs, string(r.State)+" run"), r.Job))
		}
	}
	if len(g.Alerts) > 0 {
		a := g.Alerts[0]
		parts = append(parts, fmt.Sprintf("it came in %d of %s in which %s had an alert, and in %s of the others", a.With,
			words.Plural(a.Hours, "hour"), a.Dataset, words.Percent(a.Else)))
	}
	if len(g.Kin) > 0 {
		parts = append(parts, fmt.Sprintf("%s with it", words.Agree(len(g.Kin), "sentence goes", "sentences go")))
	}
	if len(parts) == 0 {
		return "It goes with no other sentence, run or alert beyond chance."
	}
	said := words.List(parts) + "."
	return strings.ToUpper(said[:1]) + said[1:] // it may begin with a figure
}

// templateOf finds a sentence of a log.
func (k *Keeper) templateOf(ctx context.Context, name string, number int) (record.Log, record.LogTemplate, error) {
	log, err := k.store.Log(ctx, name)
	if err != nil {
		return log, record.LogTemplate{}, err
	}
	rows, err := k.store.LogTemplates(ctx, log.ID)
	if err != nil {
		return log, record.LogTemplate{}, err
	}
	i := slices.IndexFunc(rows, func(t record.LogTemplate) bool { return t.Number == number })
	if i < 0 {
		return log, record.LogTemplate{}, record.NotFound{Kind: "template of log " + name, Name: fmt.Sprint(number)}
	}
	return log, rows[i], nil
}

func (k *Keeper) kin(ctx context.Context, log record.Log, one record.LogTemplate, own []record.LogCount, g *GoesWith) error {
	tallies, err := k.store.LogTallies(ctx, log.ID, g.From, g.To)
	if err != nil {
		return err
	}
	lines := map[int]int64{}
	for _, t := range tallies {
		lines[t.Number] += t.N
	}
	delete(lines, one.Number)
	var numbers []int
	for n := range lines {
		if n != template.Other && lines[n] >= leastLines {
			numbers = append(numbers, n)
		}
	}
	slices.SortFunc(numbers, func(a, b int) int { return cmp.Or(cmp.Compare(lines[b], lines[a]), cmp.Compare(a, b)) })
	numbers = numbers[:min(len(numbers), mostCompared)]
	cells, err := k.store.LogCells(ctx, log.ID, numbers, g.From, g.To)
	if err != nil {
		return err
	}
	length := periods(g.To.Sub(g.From))
	counts := map[int][]float64{}
	for _, c := range cells {
		if counts[c.Number] == nil {
			counts[c.Number] = make([]float64, length)
		}
		if p := periods(c.At.Sub(g.From)); p >= 0 && p < length {
			counts[c.Number][p] += float64(c.N)
		}
	}
	its := make([]float64, length)
	for _, c := range own {
		if p := periods(c.At.Sub(g.From)); p >= 0 && p < length {
			its[p] += float64(c.N)
		}
	}
	rows, err := k.store.LogTemplates(ctx, log.ID)
	if err != nil {
		return err
	}
	for _, found := range template.Together(its, counts) {
		i := slices.IndexFunc(rows, func(t record.LogTemplate) bool { return t.Number == found.ID })
		if i < 0 {
			continue
		}
		g.Kin = append(g.Kin, Kin{found.ID, template.Gist(rows[i].Text), rows[i].Severity, found.Correlation,
			found.Lag * int(record.LogPeriod.Seconds())})
	}
	return nil
}

// runsWith counts the runs in which it came: a run has what was said from its start to
// the end of the period in which it ended.
func (k *Keeper) runsWith(ctx context.Context, log record.Log, own []record.LogCount, g *GoesWith) error {
	dataset, err := k.store.Dataset(ctx, log.Dataset)
	if err != nil {
		return err
	}
	runs, err := k.store.RunsInto(ctx, dataset.ID, log.Job, g.From, g.To, runsLooked)
	if err != nil {
		return err
	}
	type outcome struct {
		job   string
		state record.RunState
	}
	by := map[outcome]*RunsWith{}
	for _, r := range runs {
		if r.StartedAt == nil {
			continue
		}
		end := r.HeardAt
		if r.EndedAt != nil {
			end = *r.EndedAt
		}
		key := outcome{r.Job, r.State}
		if by[key] == nil {
			by[key] = &RunsWith{Job: r.Job, State: r.State}
		}
		by[key].Runs++
		from := r.StartedAt.Truncate(record.LogPeriod)
		if slices.ContainsFunc(own, func(c record.LogCount) bool { return !c.At.Before(from) && !c.At.After(end) }) {
			if by[key].With++; by[key].Latest == "" {
				by[key].Latest = r.ID
			}
		}
	}
	for _, r := range by {
		g.Runs = append(g.Runs, *r)
	}
	slices.SortFunc(g.Runs, func(a, b RunsWith) int { return cmp.Or(cmp.Compare(a.Job, b.Job), cmp.Compare(a.State, b.State)) })
	return nil
}

// alertsWith holds the hours in which it came against those in which datasets had alerts.
func (k *Keeper) alertsWith(ctx context.Context, own []record.LogCount, g *GoesWith) error {
	spans, err := k.store.AlertSpans(ctx, g.From)
	if err != nil {
		return err
	}
	hours := int(g.To.Sub(g.From).Hours())
	hourOf := func(at time.Time) int { return min(max(int(at.Sub(g.From).Hours()), 0), hours) }
	came := map[int]bool{}
	for _, c := range own {
		came[hourOf(c.At)] = true
	}
	alerted := map[string]map[int]bool{}
	for _, s := range spans {
		if s.From.After(g.To) {
			continue
		}
		if alerted[s.Dataset] == nil {
			alerted[s.Dataset] = map[int]bool{}
		}
		for h := hourOf(s.From); h <= hourOf(s.To); h++ {
			alerted[s.Dataset][h] = true
		}
	}
	for dataset, in := range alerted {
		with := 0
		for h := range came {
			if in[h] {
				with++
			}
		}
		chance := diagnose.Overlap(hours+1, len(in), len(came), with)
		if with == 0 || chance > byChance/float64(len(alerted)) {
			continue
		}
		g.Alerts = append(g.Alerts, AlertsWith{dataset, len(in), with, float64(len(came)-with) / float64(max(hours+1-len(in), 1)), chance})
	}
	slices.SortFunc(g.Alerts, func(a, b AlertsWith) int {
		return cmp.Or(cmp.Compare(a.Chance, b.Chance), cmp.Compare(a.Dataset, b.Dataset))
	})
	return nil
}

// FromFile is a line of a file that is followed.
type FromFile struct {
	Path string    `json:"path"`
	Line int64     `json:"line"`
	At   time.Time `json:"at"`
	Text string    `json:"text" doc:"secrets masked"`
}

// FromFiles are the lines of a sentence as the files still hold them.
type FromFiles struct {
	Lines    []FromFile `json:"lines" doc:"the last of the stretch, newest first"`
	Files    int        `json:"files" doc:"that were read"`
	Whole    bool       `json:"whole" doc:"all of them were read to their end"`
	Sentence string     `json:"sentence"`
}

const (
	// mostRead is how much of files is read for lines, and readFor for how long.
	mostRead, readFor = 256 << 20, 8 * time.Second
)

// Lines reads the lines of a sentence from the files of its log, as far as they can still be
// read; nothing of them is kept.
func (k *Keeper) Lines(ctx context.Context, name string, number int, from, to time.Time, most int) (FromFiles, error) {
	f := FromFiles{Lines: []FromFile{}, Whole: true}
	log, one, err := k.templateOf(ctx, name, number)
	if err != nil {
		return f, err
	}
	if log.Source == "" {
		f.Sentence = "No files of this log are followed: its lines came in pushes, and are not kept."
		return f, nil
	}
	source, err := k.store.Source(ctx, log.Source)
	if err != nil {
		return f, err
	}
	pattern, err := landing.ParsePattern(log.Pattern)
	if err != nil {
		return f, err
	}
	files, err := pattern.List(source.Address)
	if err != nil {
		return f, fmt.Errorf("log %s: %w", log.Name, err)
	}
	// The newest first: their lines are asked for.
	slices.SortFunc(files, func(a, b landing.File) int { return b.Modified.Compare(a.Modified) })
	s, err := k.searcher(ctx, log, one)
	if err != nil {
		return f, err
	}
	until, left := time.Now().Add(readFor), int64(mostRead)
	for _, file := range files {
		if file.Modified.Before(from) {
			continue
		}
		if left <= 0 || time.Now().After(until) || len(f.Lines) >= most {
			f.Whole = false
			break
		}
		lines, read, err := s.search(file, from, to, most-len(f.Lines), left, until)
		if err != nil {
			f.Whole = false
			continue // it went while we looked, or is none that can be read
		}
		left -= read
		f.Files++
		f.Lines = append(f.Lines, lines...)
	}
	f.Sentence = fmt.Sprintf("%s in %s.", words.Plural(len(f.Lines), "line"), words.Plural(f.Files, "file"))
	if !f.Whole {
		f.Sentence = fmt.Sprintf("%s in %s; not all was read.", words.Plural(len(f.Lines), "line"), words.Plural(f.Files, "file"))
	}
	return f, nil
}
