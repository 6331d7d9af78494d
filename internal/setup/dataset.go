package setup

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/collect/landing"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// CheckDataset fills in what is usual, and refuses what cannot be read from a
// source.
func CheckDataset(v *record.Dataset, source record.Source) error {
	v.SourceID, v.Source = source.ID, source.Name
	if v.Namespace == "" {
		v.Namespace = source.Name
	}
	if v.Zone == "" {
		v.Zone = "UTC"
	}
	if err := record.CheckName("name", v.Name); err != nil {
		return err
	}
	if strings.TrimSpace(v.Name) == "" {
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "schema.table, or a name of its own"}
	}
	if _, err := time.LoadLocation(v.Zone); err != nil {
		return record.Invalid{Field: "zone", Given: v.Zone, Allowed: "a name of the tz database, such as America/Halifax"}
	}
	var err error
	if v.Tags, err = record.CheckTags(v.Tags); err != nil {
		return err
	}
	if source.Kind == "folder" {
		if _, err := landing.ParsePattern(v.Pattern); err != nil {
			return err
		}
	}
	return nil
}

// ChangeDataset changes what people say of a dataset.
func (d *Desk) ChangeDataset(ctx context.Context, name string, change func(*record.Dataset)) (v record.Dataset, err error) {
	err = d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		if err := store.LockName(ctx, tx, "dataset", name); err != nil {
			return err
		}
		if v, err = in.Dataset(ctx, name); err != nil {
			return err
		}
		change(&v)
		if v.Tags, err = record.CheckTags(v.Tags); err != nil {
			return err
		}
		if err := store.SetDataset(ctx, tx, v); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.TopicAlerts)
	})
	return v, err
}

// AddDataset adds a table, stream or set of files of the source that it names. A
// name stands for one dataset, whatever source it is of.
func (d *Desk) AddDataset(ctx context.Context, v record.Dataset) (record.Dataset, error) {
	err := d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		source, err := in.Source(ctx, v.Source)
		if err != nil {
			return err
		}
		if err := CheckDataset(&v, source); err != nil {
			return err
		}
		if err := store.LockName(ctx, tx, "dataset", v.Name); err != nil {
			return err
		}
		known, err := in.Dataset(ctx, v.Name)
		if err == nil {
			return record.Conflict{What: fmt.Sprintf("%s is a dataset of the source %s already: a name stands for one dataset",
				v.Name, known.Source)}
		}
		if missing := (record.NotFound{}); !errors.As(err, &missing) {
			return err
		}
		if v.ID, err = in.AddDataset(ctx, v); err != nil {
			return err
		}
		v, err = in.DatasetByID(ctx, v.ID)
		return err
	})
	return v, err
}
