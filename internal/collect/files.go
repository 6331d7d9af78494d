package collect

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/collect/landing"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	// restsFor is how long a file must not have changed before it counts as
	// complete; it must also look the same in two scans.
	restsFor = 5 * time.Second
	// oldFile was there long before anybody looked: it is complete at once.
	oldFile = 2 * time.Minute
)

// AddFolder checks that a folder can be read and stores it as a source.
func (c *Collector) AddFolder(ctx context.Context, name, path string) (record.Source, error) {
	v := record.Source{Name: name, Kind: "folder", Address: filepath.Clean(path), Login: []byte{}}
	if err := TryFolder(path); err != nil {
		return v, err
	}
	if _, err := c.store.AddSource(ctx, v); err != nil {
		return v, err
	}
	return c.store.Source(ctx, name)
}

// TryFolder tells whether a folder can be read.
func TryFolder(path string) error {
	if _, err := os.ReadDir(path); err != nil {
		return record.Invalid{Field: "address", Given: path, Allowed: "a folder that the service can read: " + err.Error()}
	}
	return nil
}

// ProposeFiles gives the sets of files in a folder that could be a dataset, and
// which of them is one.
func (c *Collector) ProposeFiles(ctx context.Context, source record.Source) ([]landing.FileSet, error) {
	if source.Kind != "folder" {
		return nil, record.Invalid{Field: "source", Given: source.Name, Allowed: "a folder; this source is of kind " + source.Kind}
	}
	list, err := landing.Propose(source.Address)
	if err != nil {
		return nil, record.Invalid{Field: "source", Given: source.Name, Allowed: "a folder that can be read: " + err.Error()}
	}
	datasets, err := c.store.Datasets(ctx)
	if err != nil {
		return nil, err
	}
	for _, d := range datasets {
		pattern, err := landing.ParsePattern(d.Pattern)
		if err != nil || d.SourceID != source.ID {
			continue
		}
		for i := range list {
			if _, takes := pattern.Segment(list[i].Example); takes {
				list[i].Dataset, list[i].Pattern = d.Name, d.Pattern
			}
		}
	}
	return list, nil
}

// collectFiles scans a dataset's folder and measures the deliveries of the
// periods that are due.
func (c *Collector) collectFiles(ctx context.Context, p probe, due []record.Metric) error {
	if err := c.scan(ctx, p); err != nil {
		if stored := (storing{}); errors.As(err, &stored) {
			return err
		}
		return c.failed(ctx, p, due, fmt.Errorf("folder %s: %w", p.source.Address, err))
	}
	for _, m := range due {
		if err := c.measureFiles(ctx, p, m); err != nil {
			return err
		}
	}
	return c.recovered(ctx, p)
}

// scan notes new files and takes those that are complete.
func (c *Collector) scan(ctx context.Context, p probe) error {
	pattern, err := landing.ParsePattern(p.dataset.Pattern)
	if err != nil {
		return err
	}
	files, err := pattern.List(p.source.Address)
	if err != nil {
		return err
	}
	known, err := c.store.KnownFiles(ctx, p.dataset.ID)
	if err != nil {
		return storing{err}
	}
	now := c.now().UTC().Truncate(time.Second)
	taken := 0
	for _, f := range files {
		if broken := unkeepable(f); broken != nil {
			f.Path, f.Segment = broken.Path, broken.Segment
		}
		before, seen := known[f.Path]
		same := seen && before.Bytes == f.Bytes && before.LandedAt.Equal(f.Modified)
		if same && before.State != "growing" {
			continue
		}
		d := record.Delivery{DatasetID: p.dataset.ID, Path: f.Path, Segment: f.Segment, Bytes: f.Bytes, LandedAt: f.Modified,
			SeenAt: now, State: "growing"}
		age := now.Sub(f.Modified)
		if complete := same && age >= restsFor || !seen && age >= oldFile; !complete {
			if same {
				continue
			}
			if err := c.store.InTx(ctx, func(tx pgx.Tx) error { return store.PutDelivery(ctx, tx, d) }); err != nil {
				return storing{err}
			}
			continue
		}
		if err := c.take(ctx, p, d, f.Full); err != nil {
			return err
		}
		taken++
	}
	if taken == 0 {
		return nil
	}
	return c.ringFiles(ctx, p)
}

// badName stands for the bytes of a file's name that are no text.
const badName = "\ufffd"

// unkeepable gives a file under a name that can be kept, if its own cannot; nil if
// it can.
func unkeepable(f landing.File) *landing.File {
	if utf8.ValidString(f.Path) && !strings.ContainsFunc(f.Path, unicode.IsControl) && len(f.Path) <= record.LongestName {
		return nil
	}
	clean := func(s string) string {
		s = strings.Map(func(r rune) rune {
			if unicode.IsControl(r) {
				return utf8.RuneError
			}
			return r
		}, strings.ToValidUTF8(s, badName))
		if len(s) > record.LongestName {
			s = strings.ToValidUTF8(s[:record.LongestName-len(badName)], "") + badName
		}
		return s
	}
	return &landing.File{Path: clean(f.Path), Segment: clean(f.Segment)}
}

// take reads a complete file. One that is broken, or holds what another held, is
// kept as such and counts for nothing.
func (c *Collector) take(ctx context.Context, p probe, d record.Delivery, full string) error {
	content, err := contain.Get(func() (landing.Content, error) { return landing.Read(full) })
	if wrong := record.CheckName("path", d.Path); err == nil && wrong != nil {
		err = wrong
	}
	if strings.Contains(d.Path, badName) && err == nil {
		err = errors.New("its name is not UTF-8: rename it")
	}
	d.State, d.Digest, d.Columns = "taken", content.Digest, content.Columns
	if err != nil {
		d.State, d.Message = "broken", err.Error()
	} else if content.Rows >= 0 {
		d.Rows = &content.Rows
	}
	read := d
	err = c.store.InTx(ctx, func(tx pgx.Tx) error {
		d = read
		if d.State == "taken" && d.Bytes > 0 {
			twin, err := store.SameFile(ctx, tx, d)
			if err != nil {
				return err
			}
			if twin != "" {
				d.State, d.Message = "doubled", "the same content as "+twin
			}
			before, err := store.ColumnsBefore(ctx, tx, d)
			if err != nil {
				return err
			}
			if gone := missing(before, d.Columns); gone != "" && d.State == "taken" {
				d.Message = gone
			}
		}
		if err := store.PutDelivery(ctx, tx, d); err != nil || d.State != "taken" {
			return err
		}
		rows := int64(0)
		if d.Rows != nil {
			rows = *d.Rows
		}
		return store.AddLoad(ctx, tx, p.dataset.ID, d.LandedAt, rows)
	})
	if err != nil {
		return storing{err}
	}
	return nil
}

// missing names the columns that the segment's file before had and this one has
// not. Formats differ in what they say of types, so only names count.
func missing(before, now []record.Column) string {
	var gone []string
	for _, c := range before {
		if !slices.ContainsFunc(now, func(one record.Column) bool { return one.Name == c.Name }) {
			gone = append(gone, c.Name)
		}
	}
	if len(gone) == 0 || len(now) == 0 {
		return ""
	}
	return "without " + strings.Join(gone, ", ") + ", which the file before had"
}

// badRings is how long ago a bad file may have landed and still ring.
const badRings = 24 * time.Hour

// ringFiles rings while the newest file of some segment is bad, and is still
// when a good one has followed each.
func (c *Collector) ringFiles(ctx context.Context, p probe) error {
	now := c.now().UTC().Truncate(time.Second)
	bad, err := c.store.BadFiles(ctx, p.dataset.ID, now.Add(-badRings))
	if err != nil {
		return storing{err}
	}
	about := store.About{Source: p.source.ID, Dataset: p.dataset.ID}
	err = c.store.InTx(ctx, func(tx pgx.Tx) error {
		if len(bad) == 0 {
			return store.Mended(ctx, tx, about, record.CauseFile, now)
		}
		d := bad[0]
		said := fmt.Sprintf("%s: %s ", p.dataset.Name, d.Path) + map[record.DeliveryState]string{record.DeliveryBroken: "is broken: ",
			record.DeliveryDoubled: "holds ", record.DeliveryTaken: "came "}[d.State] + d.Message
		if n := len(bad) - 1; n > 0 {
			said += fmt.Sprintf(" (and %d more)", n)
		}
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseFile, Direction: "both", Severity: "warning",
			Since: d.LandedAt, RaisedAt: now, Sentence: said})
	})
	if err != nil {
		return storing{err}
	}
	return nil
}

// measureFiles makes the samples of a metric from deliveries, of the new periods
// and its lookback.
func (c *Collector) measureFiles(ctx context.Context, p probe, m record.Metric) error {
	grid, err := m.Grid()
	if err != nil {
		return err
	}
	end := c.settledEnd(m, grid)
	from := grid.Add(end, -1)
	if m.CollectedTo != nil {
		from = *m.CollectedTo
	}
	from = grid.Floor(from.Add(-time.Duration(max(m.LookbackSeconds, 2*m.PeriodSeconds)) * time.Second))
	if err := c.gatherFiles(ctx, p, m, grid, from, end); err != nil {
		return err
	}
	return c.store.Collected(ctx, m.ID, end, "")
}

// gatherFiles is gather for deliveries.
func (c *Collector) gatherFiles(ctx context.Context, p probe, m record.Metric, grid timeline.Grid, from, to time.Time) error {
	reach := from
	if m.Measure == record.MeasureFreshness {
		reach = from.AddDate(0, 0, -14)
	}
	deliveries, err := c.store.Deliveries(ctx, p.dataset.ID, reach, to, maxDeliveries)
	if err != nil {
		return err
	}
	readings, before := readDeliveries(m, grid, from, deliveries)
	samples, err := c.lay(ctx, layer{metric: m, grid: grid, from: from, to: to, readings: readings, before: before})
	if err != nil {
		return err
	}
	return c.keep(ctx, []record.Metric{m}, [][]record.Sample{samples}, nil)
}

// maxDeliveries is how many files of a stretch are measured.
const maxDeliveries = 1_000_000

// readDeliveries sums up the files that were taken, by period and segment, and
// gives the newest of each segment before the stretch.
func readDeliveries(m record.Metric, grid timeline.Grid, from time.Time, deliveries []record.Delivery) (readings,
	before []warehouse.Reading) {
	type cell struct {
		period  int64
		segment string
	}
	type sum struct{ files, rows, bytes, newest float64 }
	sums := map[cell]*sum{}
	for _, d := range deliveries {
		if d.State != "taken" {
			continue
		}
		at := cell{0, ""}
		if len(m.SegmentBy) > 0 {
			at.segment = d.Segment
		}
		if !d.LandedAt.Before(from) {
			at.period = grid.Floor(d.LandedAt).Unix()
		}
		s := sums[at]
		if s == nil {
			s = &sum{}
			sums[at] = s
		}
		s.files++
		s.bytes += float64(d.Bytes)
		s.newest = max(s.newest, float64(d.LandedAt.Unix()))
		if d.Rows != nil {
			s.rows += float64(*d.Rows)
		}
	}
	for at, s := range sums {
		value, of := s.rows, number(s.files)
		switch m.Measure {
		case record.MeasureFreshness:
			value = s.newest
		case record.MeasureDeliveries:
			value = s.files
		case record.MeasureBytes:
			value = s.bytes
		case record.MeasureRowBytes:
			if of = number(s.rows); s.rows > 0 {
				value = s.bytes / s.rows
			}
		}
		r := warehouse.Reading{Period: at.period, Segment: at.segment, Value: []*float64{&value}, Of: []*float64{of}}
		if at.period == 0 {
			before = append(before, r)
		} else {
			readings = append(readings, r)
		}
	}
	if m.Measure != record.MeasureFreshness {
		before = nil
	}
	return readings, before
}
