package logs

import (
	"context"

	"github.com/jackc/pgx/v5"

	"tinbell/core/template"
	"tinbell/internal/collect/landing"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// LogSettings are what people set of a log; nil stays.
type LogSettings struct {
	KeepSamples *int            `json:"keep_samples,omitempty" minimum:"0" maximum:"20" doc:"lines kept of each sentence; those beyond go at once"`
	Watched     *record.Strings `json:"watched,omitempty" doc:"severities of which a new sentence is told; empty: nothing is told"`
	Kinds       *record.Strings `json:"kinds,omitempty" doc:"what is told: new, burst, vanished"`
	RareSeconds *int64          `json:"rare_seconds,omitempty" minimum:"3600" maximum:"31536000" doc:"all that is told together comes no more often than once in so long"`
	Normal      *int64          `json:"normal_seconds,omitempty" minimum:"3600" maximum:"31536000"`
	Job         *string         `json:"job,omitempty" doc:"that writes it"`
	Service     *string         `json:"service,omitempty" doc:"that writes it"`
	Source      *string         `json:"source,omitempty" doc:"the folder where files of it land; empty: none is followed"`
	Pattern     *string         `json:"pattern,omitempty" doc:"which files below it: gates/*.log*"`
	By          *record.Strings `json:"by,omitempty" doc:"attributes by which lines are counted apart, three at most"`
	Masked      *record.Strings `json:"masked,omitempty" doc:"words whose values are masked, and expressions between slashes; what is kept already is masked at once"`
}

// Set sets what is given.
func (k *Keeper) Set(ctx context.Context, name string, w LogSettings) (log record.Log, err error) {
	err = k.store.InTx(ctx, func(tx pgx.Tx) error {
		s := k.store.In(tx)
		if log, err = s.HoldLog(ctx, name); err != nil {
			return err
		}
		masked := w.Masked != nil
		put(&log.KeepSamples, w.KeepSamples)
		put(&log.Watched, w.Watched)
		put(&log.Kinds, w.Kinds)
		put(&log.RareSeconds, w.RareSeconds)
		put(&log.Normal, w.Normal)
		put(&log.Job, w.Job)
		put(&log.Service, w.Service)
		put(&log.Source, w.Source)
		put(&log.Pattern, w.Pattern)
		put(&log.By, w.By)
		put(&log.Masked, w.Masked)
		if err := log.Check(); err != nil {
			return err
		}
		if err := Followable(ctx, s, log); err != nil {
			return err
		}
		if err := s.SetLog(ctx, log); err != nil {
			return err
		}
		if err := s.SetKeptSamples(ctx, name, log.KeepSamples); err != nil {
			return err
		}
		if masked {
			return remask(ctx, tx, log)
		}
		return nil
	})
	k.forget(log.ID)
	if err == nil {
		log, err = k.store.Log(ctx, name)
	}
	return log, err
}

func put[T any](into, v *T) {
	if v != nil {
		*into = *v
	}
}

// Followable checks where files of a log land.
func Followable(ctx context.Context, s *store.Store, log record.Log) error {
	if log.Source == "" {
		return nil
	}
	source, err := s.Source(ctx, log.Source)
	if err != nil {
		return err
	}
	if source.Kind != "folder" {
		return record.Invalid{Field: "source", Given: log.Source, Allowed: "a folder; this source is of kind " + source.Kind}
	}
	_, err = landing.ParsePattern(log.Pattern)
	return err
}

// remask masks what is kept of a log by what a person adds; what stood in its parts is
// forgotten.
func remask(ctx context.Context, tx pgx.Tx, log record.Log) error {
	masker, err := template.NewMasker(log.Masked)
	if err != nil {
		return err
	}
	if err := store.MaskLogSamples(ctx, tx, log.ID, func(line string) string { return string(masker.Mask([]byte(line))) }); err != nil {
		return err
	}
	return store.DropLogValues(ctx, tx, log.ID, nil)
}
