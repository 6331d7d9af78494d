package compare

import (
	"bytes"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/collect"
	"tinbell/internal/collect/columns"
	"tinbell/internal/collect/landing"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// Comparer runs the comparisons that are stored.
type Comparer struct {
	store      *store.Store
	queue      *work.Queue
	warehouses *warehouse.Pools
	collector  *collect.Collector
	setup      *setup.Desk
	now        func() time.Time
}

func New(s *store.Store, q *work.Queue, w *warehouse.Pools, c *collect.Collector, u *setup.Desk, now func() time.Time) *Comparer {
	return &Comparer{s, q, w, c, u, now}
}

// Finder gives a dataset by its name, with its source.
type Finder func(ctx context.Context, name string) (record.Dataset, record.Source, error)

// Stored finds datasets that are set up.
func (c *Comparer) Stored(ctx context.Context, name string) (record.Dataset, record.Source, error) {
	dataset, err := c.store.Dataset(ctx, name)
	if err != nil {
		return dataset, record.Source{}, err
	}
	source, err := c.store.DatasetSource(ctx, dataset.ID)
	return dataset, source, err
}

// inputs are where a comparison's periods and its reference are read from; both
// are the same unless settings name another reference.
func (c *Comparer) inputs(ctx context.Context, v record.Comparison, find Finder) (period, reference Input, zone *time.Location, err error) {
	period, source, zone, err := c.input(ctx, v.Dataset, v.Settings.Query, find)
	if err != nil {
		return nil, nil, nil, err
	}
	switch s := v.Settings; {
	case s.ReferenceDataset != "" && s.ReferenceQuery != "":
		return nil, nil, nil, record.Invalid{Field: "reference", Given: "a dataset and a query", Allowed: "one of the two"}
	case s.ReferenceQuery != "":
		reference, _, _, err = c.input(ctx, v.Dataset, s.ReferenceQuery, find)
	case s.ReferenceDataset != "":
		var of record.Source
		reference, of, _, err = c.input(ctx, s.ReferenceDataset, "", find)
		if err == nil && of.Kind != source.Kind {
			err = record.Invalid{Field: "reference_dataset", Given: s.ReferenceDataset,
				Allowed: "a dataset of the same kind of source: " + source.Kind}
		}
	default:
		reference = period
	}
	return period, reference, zone, err
}

// input is the rows of a dataset, or of a query at its source.
func (c *Comparer) input(ctx context.Context, name, query string, find Finder) (Input, record.Source, *time.Location, error) {
	dataset, source, err := find(ctx, name)
	if err != nil {
		return nil, source, nil, err
	}
	zone, err := time.LoadLocation(dataset.Zone)
	if err != nil {
		return nil, source, nil, fmt.Errorf("time zone of %s: %w", name, err)
	}
	switch source.Kind {
	case "postgresql":
		return &Warehouse{Pools: c.warehouses, Source: source, Table: dataset.Name, Query: query, Zone: dataset.Zone}, source, zone, nil
	case "folder":
		if query != "" {
			return nil, source, nil, record.Invalid{Field: "query", Given: query, Allowed: "nothing: " + name +
				" is files, and a query is asked of a warehouse"}
		}
		files, err := filesOf(source, dataset)
		return files, source, zone, err
	}
	return nil, source, nil, record.Invalid{Field: "dataset", Given: name,
		Allowed: "a table of a warehouse or files in a folder; rows of what is pushed cannot be read"}
}

// filesOf are the files of a dataset that can be read for their rows.
func filesOf(source record.Source, dataset record.Dataset) (*Files, error) {
	pattern, err := landing.ParsePattern(dataset.Pattern)
	if err != nil {
		return nil, err
	}
	list, err := pattern.List(source.Address)
	if err != nil {
		return nil, err
	}
	f := &Files{}
	for _, one := range list {
		if slices.ContainsFunc(columns.Formats, func(ending string) bool { return strings.HasSuffix(strings.ToLower(one.Path), ending) }) {
			f.List = append(f.List, File{Path: filepath.Join(source.Address, filepath.FromSlash(one.Path)), At: one.Modified.Unix()})
		}
	}
	if len(f.List) == 0 {
		return f, record.Invalid{Field: "dataset", Given: dataset.Name, Allowed: "files that end in " +
			strings.Join(columns.Formats, ", ") + "; none are there yet"}
	}
	return f, nil
}

// Prepare checks a comparison and completes it with its features, and keeps
// nothing.
func (c *Comparer) Prepare(ctx context.Context, v record.Comparison) (record.Comparison, error) {
	return c.PrepareWith(ctx, v, c.Stored)
}

// PrepareWith is Prepare where datasets are not only those that are set up.
func (c *Comparer) PrepareWith(ctx context.Context, v record.Comparison, find Finder) (record.Comparison, error) {
	s := &v.Settings
	if s.Period == "" {
		s.Period = "week"
	}
	switch {
	case strings.TrimSpace(v.Name) == "" || strings.ContainsAny(v.Name, "/?#"):
		return v, record.Invalid{Field: "name", Given: v.Name, Allowed: "a name of its own without / ? #, for example noshow"}
	case !slices.Contains([]string{"day", "week", "month"}, s.Period):
		return v, record.Invalid{Field: "period", Given: s.Period, Allowed: "day, week or month"}
	case s.Accept < 0 || s.Accept > 0.1:
		return v, record.Invalid{Field: "accept", Given: fmt.Sprint(s.Accept),
			Allowed: "over 0 up to 0.1: the share of clean features and periods that may be flagged"}
	case s.SampleRows != 0 && (s.SampleRows < 200 || s.SampleRows > 50000):
		return v, record.Invalid{Field: "sample_rows", Given: fmt.Sprint(s.SampleRows), Allowed: "200 to 50000"}
	case s.ReferenceDays < 0 || s.ReferenceDays > 3660:
		return v, record.Invalid{Field: "reference_days", Given: fmt.Sprint(s.ReferenceDays), Allowed: "1 to 3660"}
	case s.ReferenceDays > 0 && (s.ReferenceFrom != "" || s.ReferenceDataset != "" || s.ReferenceQuery != ""):
		return v, record.Invalid{Field: "reference_days", Given: fmt.Sprint(s.ReferenceDays),
			Allowed: "a moving reference, or a fixed one; not both"}
	case s.Score == "" && (s.Version != "" || s.Outcome != "" || s.Key != ""):
		return v, record.Invalid{Field: "score", Given: "",
			Allowed: "the column with the model's score; version, outcome and key belong to it"}
	case s.Key != "" && s.Version == "":
		return v, record.Invalid{Field: "version", Given: "",
			Allowed: "the column with the model's version: key tells which rows two versions share"}
	}
	period, reference, zone, err := c.inputs(ctx, v, find)
	if err != nil {
		return v, err
	}
	if _, _, err := namedSpan(*s, zone); err != nil {
		return v, err
	}
	list, err := reference.Columns(ctx)
	if err != nil {
		return v, err
	}
	if _, isTable := period.(*Warehouse); isTable && s.TimeColumn == "" {
		return v, record.Invalid{Field: "time_column", Given: "", Allowed: "the column with each row's time; here: " + names(timely(list))}
	}
	if at := columns.Place(list, s.TimeColumn); s.TimeColumn != "" && at >= 0 && list[at].Kind != "time" {
		return v, record.Invalid{Field: "time_column", Given: s.TimeColumn + ", which is " + list[at].Type,
			Allowed: "a column that holds times; here: " + names(timely(list))}
	}
	if v.Features, err = Propose(list, *s); err != nil {
		return v, err
	}
	if period != reference {
		later, err := period.Columns(ctx)
		if err != nil {
			return v, err
		}
		OneSided(v.Features, later)
		v.Features = append(v.Features, Also(v.Features, later)...)
	}
	dataset, _, err := find(ctx, v.Dataset)
	if err != nil {
		return v, err
	}
	if v.Owner == "" {
		v.Owner = dataset.Owner
	}
	v.DatasetID, v.Zone = dataset.ID, dataset.Zone
	return v, nil
}

func timely(list []columns.Column) []columns.Column {
	return slices.DeleteFunc(slices.Clone(list), func(c columns.Column) bool { return c.Kind != "time" })
}

// Set adds a comparison or replaces the one of that name, and has it run.
func (c *Comparer) Set(ctx context.Context, v record.Comparison) (record.Comparison, error) {
	v, err := c.Prepare(ctx, v)
	if err != nil {
		return v, err
	}
	if err := c.store.InTx(ctx, func(tx pgx.Tx) error { return c.SetIn(ctx, tx, v) }); err != nil {
		return v, err
	}
	return c.store.Comparison(ctx, v.Name)
}

// SetIn is Set of a comparison that was prepared, in a transaction.
func (c *Comparer) SetIn(ctx context.Context, tx pgx.Tx, v record.Comparison) error {
	now := c.now().UTC()
	v.NextAt = &now
	if _, err := store.SetComparison(ctx, tx, v); err != nil {
		return err
	}
	return store.SetMetric(ctx, tx, Watched(v))
}

// packed and unpacked are a day's counts as they are stored.
func packed(d Day) (store.DriftDay, error) {
	var b bytes.Buffer
	if err := gob.NewEncoder(&b).Encode(d); err != nil {
		return store.DriftDay{}, fmt.Errorf("pack counts: %w", err)
	}
	return store.DriftDay{Day: time.Unix(d.At, 0).UTC(), Counts: b.Bytes()}, nil
}

func unpacked(list []store.DriftDay) ([]Day, error) {
	days := make([]Day, len(list))
	for i, d := range list {
		if err := gob.NewDecoder(bytes.NewReader(d.Counts)).Decode(&days[i]); err != nil {
			return nil, fmt.Errorf("unpack counts of %s: %w", d.Day.Format(time.DateOnly), err)
		}
	}
	return days, nil
}

// errNoRows ends a run that has nothing to start from.
var errNoRows = errors.New("no rows yet: nothing to compare")

// MoveReference has a comparison start from other days.
func (c *Comparer) MoveReference(ctx context.Context, name, from, to string) (record.Comparison, error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return v, err
	}
	v.Settings.ReferenceFrom, v.Settings.ReferenceTo, v.Settings.ReferenceDays = from, to, 0
	v.Settings.ReferenceDataset, v.Settings.ReferenceQuery = "", ""
	return c.Set(ctx, v)
}
