// Package study answers questions about one series' past or about several beside each
// other: what it is like, whether a band suits it, what smoothing would change, trends,
// outliers, days ahead, and whether parts and whole agree. It reads and never writes.
package study

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"
	"unicode"
	"unicode/utf8"

	"tinbell/core/baseline"
	"tinbell/core/character"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Reader studies what is stored.
type Reader struct {
	store *store.Store
	now   func() time.Time
}

func New(s *store.Store, now func() time.Time) *Reader { return &Reader{store: s, now: now} }

// Subject names the series a study is of.
type Subject struct {
	Series        record.Series `json:"series"`
	Monitor       string        `json:"monitor"`
	Metric        string        `json:"metric"`
	Measure       string        `json:"measure"`
	Dataset       string        `json:"dataset"`
	Kind          timeline.Kind `json:"kind"`
	Unit          string        `json:"unit"`
	Zone          string        `json:"zone"`
	PeriodSeconds int64         `json:"period_seconds"`
}

// Load reads what studying a series needs, under the settings of its first
// monitor, or the default ones.
func Load(ctx context.Context, s *store.Store, id int64) (*watch.Subject, Subject, error) {
	series, err := s.SeriesByID(ctx, id)
	if err != nil {
		return nil, Subject{}, err
	}
	monitors, err := s.MonitorsOf(ctx, series.MetricID)
	if err != nil {
		return nil, Subject{}, err
	}
	monitor := record.Monitor{MetricID: series.MetricID, Settings: record.DefaultSettings()}
	if len(monitors) > 0 {
		monitor = monitors[0]
	}
	subject, err := watch.Load(ctx, s, monitor)
	if err != nil {
		return nil, Subject{}, err
	}
	m := subject.Metric
	return subject, Subject{series, monitor.Name, m.Name, m.Measure, m.Dataset, m.Kind, m.Unit, m.Zone, m.PeriodSeconds}, nil
}

// studied is a subject's history, dense up to what is settled, from where it begins.
func (r *Reader) studied(ctx context.Context, id int64) (*watch.Subject, Subject, []timeline.Sample, error) {
	subject, named, err := Load(ctx, r.store, id)
	if err != nil {
		return nil, named, nil, err
	}
	history, err := r.sinceItBegan(ctx, subject, id)
	return subject, named, history, err
}

// sinceItBegan is a series' history without a long time before it in which nothing came: what
// it is like, and what is to come of it, does not follow from that.
func (r *Reader) sinceItBegan(ctx context.Context, subject *watch.Subject, id int64) ([]timeline.Sample, error) {
	history, err := subject.History(ctx, r.store, id, time.Time{}, subject.SettledTo(r.now()))
	return history[detect.Opening(subject.Config, history):], err
}

func jobOf(s *watch.Subject, id int64, history []timeline.Sample) replay.Job {
	return replay.Job{Config: s.Config, Rule: s.Rule(s.Of(id)), History: history, Exclusions: s.Exclusions[id]}
}

// CharacterStudy says what a series is like.
type CharacterStudy struct {
	Subject
	character.Character
	BeganAt *time.Time `json:"began_at,omitempty" doc:"when it began, if nothing had come, or it had not changed, for long before; what it is like is read off what came since"`
}

// Character describes a series' last weeks, planned stretches and known faults left out.
func (r *Reader) Character(ctx context.Context, id int64) (CharacterStudy, error) {
	subject, named, err := Load(ctx, r.store, id)
	if err != nil {
		return CharacterStudy{}, err
	}
	history, err := subject.History(ctx, r.store, id, time.Time{}, subject.SettledTo(r.now()))
	if err != nil {
		return CharacterStudy{}, err
	}
	began := detect.Opening(subject.Config, history)
	c := CharacterStudy{Subject: named, Character: character.Of(history[began:], subject.Grid, named.Kind,
		replay.Mask(subject.Exclusions[id], math.MaxInt64))}
	if began > 0 {
		at := time.Unix(history[began].At, 0).UTC()
		c.BeganAt = &at
		until := map[timeline.Kind]string{timeline.Count: "Empty", timeline.Share: "As good as 0"}[named.Kind]
		c.Sentences = slices.Insert(c.Sentences, 0, cmp.Or(until, "Always the same")+" until "+
			at.In(subject.Grid.Zone).Format("2 January 2006")+".")
	}
	return c, nil
}

// SuitabilityStudy says how well a band suits a series.
type SuitabilityStudy struct {
	Subject
	replay.Suitability
}

// Suits judges whether a series is predictable enough for a band.
func (r *Reader) Suits(ctx context.Context, id int64) (SuitabilityStudy, error) {
	subject, named, history, err := r.studied(ctx, id)
	if err != nil {
		return SuitabilityStudy{}, err
	}
	job := jobOf(subject, id, history)
	job.Config.Method = baseline.Method{}
	study := SuitabilityStudy{named, replay.Suit(job)}
	if subject.Monitor.Settings.Method == record.MethodArrival {
		study.Instead = "the arrival pattern of its loads, as its monitor has it"
	}
	return study, nil
}

// SmoothingStudy compares moving medians and means on a series' past.
type SmoothingStudy struct {
	Subject
	From     time.Time          `json:"from"`
	To       time.Time          `json:"to"`
	Windows  []replay.Smoothing `json:"windows"`
	Filled   int                `json:"filled" doc:"periods in which nothing came, and that were filled"`
	Sentence string             `json:"sentence"`
}

// SmoothingBench replays a series since an instant under each moving median and mean.
// Where nothing came it may be filled before.
func (r *Reader) SmoothingBench(ctx context.Context, id int64, since time.Time, fill timeline.Filling) (SmoothingStudy, error) {
	if err := timeline.CheckFilling(fill); err != nil {
		return SmoothingStudy{}, record.Refused{Field: "fill", Why: err.Error()}
	}
	subject, named, history, err := r.studied(ctx, id)
	if err != nil {
		return SmoothingStudy{}, err
	}
	if len(history) == 0 {
		return SmoothingStudy{}, record.Invalid{Field: "series", Given: fmt.Sprint(id), Allowed: "one with samples"}
	}
	if subject.Config.Method.Plain() || subject.Monitor.Settings.Method == record.MethodArrival {
		return SmoothingStudy{}, record.Invalid{Field: "method", Given: subject.Monitor.Settings.Method,
			Allowed: "smoothing goes before the seasonal method's windows only"}
	}
	from := time.Unix(history[0].At, 0).Add(subject.WarmUp())
	if since.After(from) {
		from = since
	}
	incidents, err := r.store.Incidents(ctx, named.Dataset, from, time.Time{})
	if err != nil {
		return SmoothingStudy{}, err
	}
	filled := 0
	for _, put := range timeline.Fill(history, fill) {
		if put {
			filled++
		}
	}
	job := jobOf(subject, id, history)
	job.From = from.Unix()
	var faults []timeline.Span
	for _, i := range incidents {
		if watch.Covers(i, named.Measure, named.Series.Segment) {
			end := r.now()
			if i.EndedAt != nil {
				end = *i.EndedAt
			}
			faults = append(faults, timeline.Span{From: i.StartedAt.Unix(), To: end.Unix()})
		}
	}
	windows, err := replay.SmoothingBench(job, faults)
	if err != nil {
		return SmoothingStudy{}, err
	}
	s := SmoothingStudy{Subject: named, From: from, To: subject.SettledTo(r.now()), Windows: windows, Filled: filled}
	s.Sentence = smoothingSentence(windows)
	return s, nil
}

func smoothingSentence(windows []replay.Smoothing) string {
	for _, w := range windows {
		switch {
		case !w.Recommended:
		case w.Periods == 1:
			return "No smoothing is best here: none of the windows rids the past of a false alarm without losing a fault."
		default:
			return fmt.Sprintf("A moving %s of %d periods rids the past of %d of %d false alarms and costs %s of delay.", w.By,
				w.Periods, w.FalseGone, w.FalseBefore,
				words.Seconds(max(0, w.Delay-windows[0].Delay)))
		}
	}
	return ""
}

// known is what is not the series' own doing: labelled and planned stretches,
// and what an open alert claims.
func (r *Reader) known(ctx context.Context, subject *watch.Subject, id int64) (timeline.Mask, error) {
	open, err := r.store.Alerts(ctx, store.AlertFilter{Series: id, State: "open"})
	if err != nil {
		return timeline.Mask{}, err
	}
	spans := replay.Mask(subject.Exclusions[id], r.now().Unix()).Spans()
	for _, a := range open {
		spans = append(spans, timeline.Span{From: a.Since.Unix(), To: r.now().Unix()})
	}
	return timeline.NewMask(spans...), nil
}

func instants(at []int64) []time.Time {
	list := make([]time.Time, len(at))
	for i, t := range at {
		list[i] = time.Unix(t, 0).UTC()
	}
	return list
}

// Detectable is what losses a monitor shows on one of its series.
type Detectable struct {
	Subject
	Losses   []detect.Loss `json:"losses" doc:"by time; empty where the series is not judged by windows"`
	Typical  *float64      `json:"typical_day" doc:"expected sum (counts) or mean of a day"`
	Sentence string        `json:"sentence"`
	Proposal string        `json:"proposal" doc:"what would show smaller losses; empty where that is not needed"`
}

// seriesAtOnce is how many series' baselines are held in memory.
const seriesAtOnce = 200

func seriesIDs(list []record.Series) []int64 {
	ids := make([]int64, len(list))
	for i, series := range list {
		ids[i] = series.ID
	}
	return ids
}

// Losses says for all series of a monitor what losses it shows.
func (r *Reader) Losses(ctx context.Context, monitor record.Monitor) ([]Detectable, error) {
	subject, err := watch.Load(ctx, r.store, monitor)
	if err != nil {
		return nil, err
	}
	m := subject.Metric
	list := []Detectable{}
	var baselines map[int64]record.Baseline
	for i, series := range subject.Series {
		if i%seriesAtOnce == 0 {
			if baselines, err = r.store.Baselines(ctx, monitor.ID,
				seriesIDs(subject.Series[i:min(i+seriesAtOnce, len(subject.Series))])); err != nil {
				return nil, err
			}
		}
		d := Detectable{Subject: Subject{series, monitor.Name, m.Name, m.Measure, m.Dataset, m.Kind, m.Unit, m.Zone,
			m.PeriodSeconds}, Losses: []detect.Loss{}}
		b, fitted := baselines[series.ID]
		if !fitted {
			d.Sentence = "No baseline yet."
			list = append(list, d)
			continue
		}
		e, err := detect.Load(subject.Config, subject.Rule(series), b.Judged)
		if errors.Is(err, detect.ErrOutdated) {
			d.Sentence = "Being fitted again."
			list = append(list, d)
			continue
		}
		if err != nil {
			return nil, err
		}
		d.Tell(e, len(m.SegmentBy) > 0)
		list = append(list, d)
	}
	return list, nil
}

// enough is the loss within a day from which on a monitor sees enough by
// itself.
const enough = 0.3

// Tell fills in what an evaluator can see.
func (d *Detectable) Tell(e *detect.Evaluator, segmented bool) {
	if losses := e.Losses(); losses != nil {
		d.Losses = losses
	}
	d.Typical = wire.Finite(e.TypicalDay())
	if len(d.Losses) == 0 {
		d.Sentence = "Not judged by windows: a loss shows when it leaves the band."
		return
	}
	middle, last := d.Losses[min(2, len(d.Losses)-1)], d.Losses[len(d.Losses)-1]
	for _, l := range d.Losses { // within a day, of longer periods a week
		if within := max(86400, 7*d.Losses[0].Seconds); l.Seconds > middle.Seconds && l.Seconds <= within {
			last = l
		}
	}
	tell := func(l detect.Loss) string {
		within := "within " + words.Seconds(float64(l.Seconds))
		if l.Always >= 1 {
			return within + " only a full stop shows for sure"
		}
		return within + " a loss of " + words.Percent(l.Always)
	}
	d.Sentence = capital(tell(middle)) + ", " + tell(last) + "."
	if middle.Always < 1 {
		d.Sentence = capital(tell(middle)) + " shows, " + tell(last) + "."
	}
	if d.Kind != timeline.Count || last.Always <= enough || d.Typical == nil {
		return
	}
	const within = 6 * 3600
	part := e.StopShows(within)
	switch {
	case *d.Typical < 2*part:
		d.Proposal = fmt.Sprintf("Too few rows to split: a part must send about %s a day for its stop to show within %s.",
			words.Number(math.Ceil(part)), words.Seconds(within))
	case segmented:
		d.Proposal = fmt.Sprintf("Split it further: a part of %s of these rows that stops shows within %s if it is watched by itself.", words.Percent(part / *d.Typical), words.Seconds(within))
	default:
		d.Proposal = fmt.Sprintf("Split it by a column: a segment with %s of the rows that stops shows within %s if it is watched by itself.", words.Percent(part / *d.Typical), words.Seconds(within))
	}
}

func capital(s string) string {
	if s == "" {
		return s
	}
	first, size := utf8.DecodeRuneInString(s)
	return string(unicode.ToUpper(first)) + s[size:]
}
