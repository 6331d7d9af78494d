package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/timeline"
	"tinbell/internal/chart"
	"tinbell/internal/health"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewDataset describes a table of a source.
type NewDataset struct {
	Source    string `json:"source"`
	Namespace string `json:"namespace,omitempty" doc:"the source's name if left out"`
	Name      string `json:"name" doc:"schema.table" minLength:"1"`
	Owner     string `json:"owner,omitempty"`
	Zone      string `json:"zone,omitempty" doc:"of the tz database; UTC if left out"`
	LoadedBy  string `json:"loaded_by,omitempty" doc:"column that holds the time of loading"`
	Pattern   string `json:"pattern,omitempty" doc:"of a folder: which files are this dataset's, for example parcels/{partner}/*.csv"`

	Tags record.Strings `json:"tags,omitempty"`
}

// DatasetChange is what may change of a dataset; what is left out stays.
type DatasetChange struct {
	Owner    *string         `json:"owner,omitempty"`
	LoadedBy *string         `json:"loaded_by,omitempty" doc:"column that holds the time of loading; empty: none"`
	Tags     *record.Strings `json:"tags,omitempty"`
}

// addDataset adds a dataset whose table was looked at.
func (s *server) addDataset(ctx context.Context, v record.Dataset) (record.Dataset, error) {
	source, err := s.Store.Source(ctx, v.Source)
	if err != nil {
		return v, err
	}
	if _, err := s.Store.Dataset(ctx, v.Name); err != nil { // one that is there is a conflict, whatever its table
		if err := s.Collector.CheckTable(ctx, &v, source); err != nil {
			return v, err
		}
	}
	return s.Setup.AddDataset(ctx, v)
}

func (s *server) changeDataset(ctx context.Context, name string, change DatasetChange) (record.Dataset, error) {
	checked, err := s.Store.Dataset(ctx, name)
	if err != nil {
		return checked, err
	}
	if change.LoadedBy != nil {
		source, err := s.Store.DatasetSource(ctx, checked.ID)
		if err != nil {
			return checked, err
		}
		checked.LoadedBy = *change.LoadedBy
		if err := s.Collector.CheckTable(ctx, &checked, source); err != nil {
			return checked, err
		}
	}
	return s.Setup.ChangeDataset(ctx, name, func(d *record.Dataset) {
		set(&d.Owner, change.Owner)
		set(&d.Tags, change.Tags)
		if change.LoadedBy != nil {
			d.LoadedBy, d.LoadedType = checked.LoadedBy, checked.LoadedType
		}
	})
}

func (s *server) addDatasets(api huma.API) {
	add(api, "GET", "/datasets", "datasets", "All datasets with their ingestion health", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]health.Health], error) {
			return ok(s.Health.All(ctx))
		})
	add(api, "GET", "/datasets/{name}", "dataset", "One dataset with its metrics and series", people.Reader,
		func(ctx context.Context, in *Named) (*body[health.Page], error) {
			return ok(s.Health.Page(ctx, in.Name))
		})
	add(api, "POST", "/datasets", "add-dataset", "Add a table of a source", people.Editor,
		func(ctx context.Context, in *body[NewDataset]) (*body[record.Dataset], error) {
			b := in.Body
			return ok(s.addDataset(ctx, record.Dataset{Source: b.Source, Namespace: b.Namespace, Name: b.Name, Owner: b.Owner,
				Zone: b.Zone, LoadedBy: b.LoadedBy, Pattern: b.Pattern, Tags: b.Tags}))
		})
	add(api, "PATCH", "/datasets/{name}", "change-dataset",
		"Change whose a dataset is, what it is tagged with, or what says when its rows were loaded", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body DatasetChange
		}) (*body[record.Dataset], error) {
			return ok(s.changeDataset(ctx, in.Name, in.Body))
		})
	add(api, "GET", "/datasets/{name}/columns", "dataset-columns", "What a table's columns were, newest first", people.Reader,
		func(ctx context.Context, in *Named) (*body[[]record.ColumnVersion], error) {
			d, err := s.Store.Dataset(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Store.Columns(ctx, d.ID, 100))
		})
	add(api, "GET", "/datasets/{name}/deliveries", "dataset-deliveries", "Files that landed, newest first", people.Reader,
		func(ctx context.Context, in *struct {
			Named
			From  time.Time `query:"from"`
			To    time.Time `query:"to"`
			Limit int       `query:"limit" default:"200" minimum:"1" maximum:"5000"`
		}) (*body[[]record.Delivery], error) {
			d, err := s.Store.Dataset(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			if in.To.IsZero() {
				in.To = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
			}
			return ok(s.Store.Deliveries(ctx, d.ID, in.From, in.To, in.Limit))
		})
	add(api, "PUT", "/datasets/{name}/keep", "keep-dataset", "Say how long a dataset's samples are kept", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Days int `json:"days" minimum:"0" doc:"0: as the service says"`
			}
		}) (*none, error) {
			return &none{}, s.Store.KeepDataset(ctx, in.Name, in.Body.Days)
		})
	add(api, "DELETE", "/datasets/{name}", "remove-dataset", "Remove a dataset with its metrics, samples, monitors and alerts",
		people.Editor, func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Store.RemoveDataset(ctx, in.Name)
		})
	type Stretch struct {
		ID   int64     `path:"id"`
		From time.Time `query:"from" required:"true"`
		To   time.Time `query:"to" required:"true"`
	}
	add(api, "GET", "/series/{id}/chart", "chart", "A series with its band, alerts and incidents", people.Reader,
		func(ctx context.Context, in *struct {
			Stretch
			Fill timeline.Filling `query:"fill" enum:"none,zero,previous,linear," doc:"what stands where nothing came; such values are marked"`
		}) (*body[chart.Chart], error) {
			if !in.From.Before(in.To) {
				return nil, record.Invalid{Field: "to", Given: in.To.Format(time.RFC3339), Allowed: "a time after from"}
			}
			return ok(s.Charts.Of(ctx, in.ID, in.From, in.To, in.Fill))
		})
	add(api, "GET", "/series/{id}/explain", "explain", "Where an expected value comes from", people.Reader,
		func(ctx context.Context, in *struct {
			ID int64     `path:"id"`
			At time.Time `query:"at" required:"true"`
		}) (*body[chart.Explanation], error) {
			return ok(s.Charts.Explain(ctx, in.ID, in.At))
		})
}
