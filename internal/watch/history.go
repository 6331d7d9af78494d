// Package watch is the loop: new samples are judged against the baselines that
// were fitted, and become alerts that open, change and close. Fitting, catching
// up after corrections and overdue loads happen here too.
package watch

import (
	"context"
	"slices"
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Subject is a monitor with all that judging its series needs.
type Subject struct {
	Monitor    record.Monitor
	Metric     record.Metric
	Grid       timeline.Grid
	Series     []record.Series
	Config     baseline.Config
	Exclusions map[int64][]replay.Exclusion // by series
	reasons    map[int64][]record.Span
}

// Load reads a monitor's subject. Faults come from labelled alerts and from
// incidents, planned stretches from calendars and labels.
func Load(ctx context.Context, s *store.Store, monitor record.Monitor) (*Subject, error) {
	metric, err := s.MetricByID(ctx, monitor.MetricID)
	if err != nil {
		return nil, err
	}
	v := &Subject{Monitor: monitor, Metric: metric, Exclusions: map[int64][]replay.Exclusion{}, reasons: map[int64][]record.Span{}}
	if v.Grid, err = metric.Grid(); err != nil {
		return nil, err
	}
	if v.Series, err = s.SeriesOf(ctx, metric.ID); err != nil {
		return nil, err
	}
	v.Config = baseline.Config{Kind: metric.Kind, Grid: v.Grid, Coverage: monitor.Settings.Coverage, Holidays: map[int]bool{},
		Method: monitor.Settings.Baseline(v.Grid)}
	events, err := s.PlannedEvents(ctx, metric.Dataset)
	if err != nil {
		return nil, err
	}
	v.addEvents(events)
	incidents, err := s.Incidents(ctx, metric.Dataset, time.Time{}, time.Time{})
	if err != nil {
		return nil, err
	}
	for _, i := range incidents {
		for _, series := range v.Series {
			if Covers(i, metric.Measure, series.Segment) {
				v.exclude(series.ID, i.StartedAt, i.EndedAt, i.KnownAt, false, "incident "+i.Reference+": "+i.Title)
			}
		}
	}
	labelled, err := s.LabelledSpans(ctx, metric.ID)
	if err != nil {
		return nil, err
	}
	for _, l := range labelled {
		if l.Verdict == record.Noise {
			v.ordinary(l.SeriesID, l.Since, l.EndedAt, l.KnownAt)
			continue
		}
		v.exclude(l.SeriesID, l.Since, l.EndedAt, l.KnownAt, false, "labelled "+string(l.Verdict)+": "+l.Summary)
	}
	stretches, err := s.Stretches(ctx, v.ids())
	if err != nil {
		return nil, err
	}
	for _, x := range stretches {
		// A fault has become an incident; what is fine as it is stays learned from.
		if x.Verdict == record.Noise {
			v.ordinary(x.SeriesID, x.From, &x.To, x.At)
		}
		if x.Verdict == record.Planned {
			v.exclude(x.SeriesID, x.From, &x.To, x.At, true, "planned, says "+x.Author)
		}
	}
	changes, err := s.LevelChanges(ctx, metric.ID)
	if err != nil {
		return nil, err
	}
	for _, c := range changes {
		v.exclude(c.SeriesID, c.FromAt, &c.ToAt, c.KnownAt, false, "new normal, says "+c.Author)
		v.lasts(c.SeriesID)
	}
	return v, nil
}

// lasts marks what was excluded last as a change that stays.
func (v *Subject) lasts(series int64) {
	list := v.Exclusions[series]
	list[len(list)-1].Lasts = true
}

// widens marks what was excluded last as judged by a wider band.
func (v *Subject) widens(series int64) {
	list := v.Exclusions[series]
	list[len(list)-1].Widens = true
}

// Rule is the alert rule in force for one of the series.
func (v *Subject) Rule(series record.Series) detect.Rule {
	return v.Monitor.RuleOf(series.Segment, v.Grid, len(v.Series))
}

// stated is the alert rule of one of the series as its settings say, raised by nothing.
func (v *Subject) stated(series record.Series) detect.Rule {
	return v.Monitor.Settings.For(series.Segment).Rule(v.Grid, len(v.Series))
}

// Of gives one of the series by its id.
func (v *Subject) Of(id int64) record.Series {
	i := slices.IndexFunc(v.Series, func(s record.Series) bool { return s.ID == id })
	if i < 0 {
		return record.Series{ID: id}
	}
	return v.Series[i]
}

// Try gives the subject under other settings.
func (v *Subject) Try(settings record.Settings) *Subject {
	other := *v
	other.Monitor.Settings = settings
	other.Config.Coverage, other.Config.Method = settings.Coverage, settings.Baseline(v.Grid)
	return &other
}

// promptly is how soon after a fault a person is thought to answer.
const promptly = 24 * time.Hour

// Answered gives the subject as it would have been had what is known today as a
// fault been labelled within a day: settings are judged by the answers they get.
func (v *Subject) Answered() *Subject {
	other := *v
	other.Exclusions = make(map[int64][]replay.Exclusion, len(v.Exclusions))
	for series, list := range v.Exclusions {
		list = slices.Clone(list)
		for i := range list {
			if x := &list[i]; !x.Planned && !x.Lasts && !x.Ordinary {
				x.Known = min(x.Known, x.Span.To+int64(promptly.Seconds()))
			}
		}
		other.Exclusions[series] = list
	}
	return &other
}

// Covers tells whether an incident concerns a series.
func Covers(i record.Incident, measure, segment string) bool {
	return (i.Measure == "" || i.Measure == measure) && (i.Segment == "" || segment == "" || i.Segment == segment)
}

func (v *Subject) addEvents(events []record.PlannedEvent) {
	for _, e := range events {
		if e.Holiday {
			for at := e.StartedAt; at.Before(e.EndedAt); at = at.AddDate(0, 0, 1) {
				y, m, d := at.In(v.Grid.Zone).Date()
				v.Config.Holidays[y*10000+int(m)*100+d] = true
			}
			continue
		}
		end := e.EndedAt
		for _, series := range v.Series {
			v.exclude(series.ID, e.StartedAt, &end, e.KnownAt, e.Effect != record.EffectLeaveOut, "planned: "+e.Summary)
			if e.Effect == record.EffectWiden {
				v.widens(series.ID)
			}
			if e.Lasting {
				v.lasts(series.ID)
			}
		}
	}
}

// farFuture ends what has not ended.
var farFuture = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)

// ordinary notes that somebody called a stretch ordinary. It is learned from.
func (v *Subject) ordinary(series int64, from time.Time, to *time.Time, known time.Time) {
	end := farFuture
	if to != nil {
		end = *to
	}
	v.Exclusions[series] = append(v.Exclusions[series], replay.Exclusion{
		Span: timeline.Span{From: from.Unix(), To: end.Unix()}, Known: known.Unix(), Ordinary: true,
	})
}

// spoilt are the periods longer than a day of which a stretch takes a tenth or more: what
// happens in less of a month leaves its figure what it is.
func (v *Subject) spoilt(from, to time.Time) (first, end time.Time) {
	least := v.Grid.Period / 10
	first = v.Grid.Floor(from)
	if next := v.Grid.Next(first); timeline.Earlier(to, next).Sub(from) < least {
		first = next
	}
	if end = v.Grid.Floor(to); to.Sub(timeline.Later(from, end)) >= least {
		end = v.Grid.Next(end)
	}
	return first, end
}

func (v *Subject) exclude(series int64, from time.Time, to *time.Time, known time.Time, planned bool, why string) {
	end := farFuture
	if to != nil {
		end = *to
	}
	x := replay.Exclusion{Known: known.Unix(), Planned: planned}
	if v.Grid.Long() {
		from, end = v.spoilt(from, end)
	}
	if from.Before(end) {
		x.Span = timeline.Span{From: from.Unix(), To: end.Unix()}
		v.reasons[series] = append(v.reasons[series], record.Span{From: from, To: end, Why: why})
	}
	v.Exclusions[series] = append(v.Exclusions[series], x)
}

// Excluded lists what a fit from..to left out of a series' history, in order.
func (v *Subject) Excluded(series int64, from, to time.Time) record.Spans {
	var list record.Spans
	for _, span := range v.reasons[series] {
		if span.From.Before(to) && span.To.After(from) {
			if span.To.After(to) {
				span.To = to
			}
			list = append(list, span)
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].From.Before(list[j].From) })
	return list
}

// SettledTo is the end of the last period whose sample should have come: for
// collected metrics what was collected, for pushed ones one period of grace, a week
// at most.
func (v *Subject) SettledTo(now time.Time) time.Time {
	if v.Metric.CollectedTo != nil {
		return *v.Metric.CollectedTo
	}
	return v.Grid.Floor(now.Add(-min(v.Grid.Period, timeline.Week)))
}

// Histories reads the dense samples of all series in [from, to).
func (v *Subject) Histories(ctx context.Context, s *store.Store, from, to time.Time) (map[int64][]timeline.Sample, error) {
	return v.histories(ctx, s, v.ids(), from, to)
}

// ids are those of all series.
func (v *Subject) ids() []int64 {
	ids := make([]int64, len(v.Series))
	for i, series := range v.Series {
		ids[i] = series.ID
	}
	return ids
}

// histories reads the dense samples of some series in [from, to).
func (v *Subject) histories(ctx context.Context, s *store.Store, ids []int64, from, to time.Time) (map[int64][]timeline.Sample, error) {
	samples, err := s.Samples(ctx, ids, from, to)
	if err != nil {
		return nil, err
	}
	for id, list := range samples {
		samples[id] = timeline.Dense(v.Grid, list, to)
	}
	v.beside(samples)
	return samples, nil
}

// come reads the dense samples of some series up to what should have come by now,
// and, of pushed ones, what is there already though it need not be.
func (v *Subject) come(ctx context.Context, s *store.Store, ids []int64, now time.Time) (map[int64][]timeline.Sample, error) {
	to := v.SettledTo(now)
	if !v.Metric.Pushed() {
		return v.histories(ctx, s, ids, time.Time{}, to)
	}
	samples, err := s.Samples(ctx, ids, time.Time{}, timeline.Later(to, now))
	if err != nil {
		return nil, err
	}
	for id, list := range samples {
		samples[id] = timeline.Dense(v.Grid, list, timeline.Later(to, v.Grid.Next(time.Unix(list[len(list)-1].At, 0))))
	}
	v.beside(samples)
	return samples, nil
}

// EachHistory reads the dense samples of all series in [from, to), one after
// another, so that judging can begin while the rest is still read; do is called
// from one goroutine. Series without samples are left out.
func (v *Subject) EachHistory(ctx context.Context, s *store.Store, from, to time.Time,
	do func(series int64, history []timeline.Sample) error) error {
	if v.Config.Method.Name == baseline.Siblings {
		all, err := v.Histories(ctx, s, from, to)
		if err != nil {
			return err
		}
		for id, history := range all {
			if err := do(id, history); err != nil {
				return err
			}
		}
		return nil
	}
	return s.EachSeries(ctx, v.ids(), from, to, func(id int64, list []timeline.Sample) error {
		return do(id, timeline.Dense(v.Grid, list, to))
	})
}

// History reads the dense samples of one series in [from, to).
func (v *Subject) History(ctx context.Context, s *store.Store, series int64, from, to time.Time) ([]timeline.Sample, error) {
	if v.Config.Method.Name == baseline.Siblings {
		all, err := v.Histories(ctx, s, from, to)
		return all[series], err
	}
	samples, err := s.Samples(ctx, []int64{series}, from, to)
	if err != nil {
		return nil, err
	}
	return timeline.Dense(v.Grid, samples[series], to), nil
}

// beside lays the other segments beside each series where they are what it is
// compared with.
func (v *Subject) beside(samples map[int64][]timeline.Sample) {
	if v.Config.Method.Name == baseline.Siblings {
		baseline.Beside(samples)
	}
}

// since reads what came from an instant on, and up to when all of it should
// have come. A pushed sample may be there before its period of grace is over.
func (v *Subject) since(ctx context.Context, s *store.Store, ids []int64, from, now time.Time) (map[int64][]timeline.Sample,
	time.Time, error) {
	to := v.SettledTo(now)
	samples, err := s.Samples(ctx, ids, from, timeline.Later(to, now))
	v.beside(samples)
	for _, list := range samples {
		if n := len(list); n > 0 && v.Metric.Pushed() {
			to = timeline.Later(to, v.Grid.Next(time.Unix(list[n-1].At, 0)))
		}
	}
	return samples, to, err
}

// WarmUp is how much history a first judgement of the past learns from; bounds
// that a person gives are known from the first sample on.
func (v *Subject) WarmUp() time.Duration {
	if v.Config.Method.Name == baseline.Fixed {
		return 0
	}
	if v.Grid.Long() {
		return 18 * v.Grid.Period
	}
	if v.Grid.Daily() {
		return 35 * 24 * time.Hour
	}
	return 21 * 24 * time.Hour
}
