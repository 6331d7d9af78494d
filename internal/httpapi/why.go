package httpapi

import (
	"context"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/collect/warehouse"
	"tinbell/internal/diagnose"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

// NumberedAlert picks an alert by its number.
type NumberedAlert struct {
	ID int64 `path:"id"`
}

func (s *server) addWhy(api huma.API) {
	add(api, "GET", "/alerts/{id}/why", "alert-why",
		"Why an alert rang: the segments behind it, what broke with it, the lineage, what was like it, and SQL that finds the rows. What cannot be found out says why not",
		people.Reader, func(ctx context.Context, in *NumberedAlert) (*body[diagnose.Why], error) {
			return ok(s.Diagnoser.Why(ctx, in.ID))
		})
	add(api, "POST", "/alerts/{id}/rows", "alert-rows",
		"Run one of an alert's listings: its rows are shown and not kept, and the audit trail says who looked",
		people.Editor, func(ctx context.Context, in *struct {
			NumberedAlert
			Body struct {
				Listing string `json:"listing" doc:"its name"`
				Limit   int    `json:"limit,omitempty" minimum:"0" maximum:"500" doc:"rows; 100 if left out"`
			}
		}) (*body[warehouse.Found], error) {
			limit := in.Body.Limit
			if limit == 0 {
				limit = 100
			}
			return ok(s.Diagnoser.Rows(ctx, in.ID, in.Body.Listing, limit, account(ctx).Name))
		})
	add(api, "PUT", "/datasets/{name}/hidden", "hide-columns", "Say which columns of a dataset are never shown", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				Columns record.Strings `json:"columns"`
			}
		}) (*body[record.Dataset], error) {
			if err := s.checkColumns(ctx, in.Name, in.Body.Columns); err != nil {
				return nil, err
			}
			if err := s.Store.Hide(ctx, in.Name, in.Body.Columns); err != nil {
				return nil, err
			}
			return ok(s.Store.Dataset(ctx, in.Name))
		})
	add(api, "GET", "/audit", "audit", "Who did what, from where, with what was there before and after, newest first",
		people.Admin, func(ctx context.Context, in *struct {
			Who    string    `query:"who" doc:"of this account alone"`
			What   string    `query:"what" doc:"with this in what was done"`
			About  string    `query:"about" doc:"with this in what it was done to"`
			From   time.Time `query:"from"`
			To     time.Time `query:"to"`
			Cursor int64     `query:"cursor" doc:"id of the last entry of the page before"`
			Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[[]record.Audit], error) {
			return ok(s.Store.Audits(ctx, store.Sought{Who: in.Who, What: in.What, About: in.About, From: in.From, To: in.To,
				Before: in.Cursor, Limit: in.Limit}))
		})
	add(api, "GET", "/audit/proof", "audit-proof",
		"Whether the audit trail is as it was written: every entry is sealed with the one before it", people.Admin,
		func(ctx context.Context, _ *none) (*body[store.Proof], error) {
			return ok(s.Store.VerifyAudit(ctx))
		})
}

// checkColumns refuses columns that a table is known not to have: one misspelt would
// be shown.
func (s *server) checkColumns(ctx context.Context, dataset string, columns record.Strings) error {
	d, err := s.Store.Dataset(ctx, dataset)
	if err != nil {
		return err
	}
	versions, err := s.Store.Columns(ctx, d.ID, 1)
	if err != nil {
		return err
	}
	var has []record.Column
	if len(versions) > 0 {
		has = versions[0].Columns
	} else if source, err := s.Store.Source(ctx, d.Source); err != nil {
		return err
	} else if source.Kind == record.SourcePostgreSQL {
		if has, err = s.Warehouses.Shape(ctx, warehouse.Distribution{Source: source, Table: dataset}); err != nil {
			return record.Conflict{What: "the warehouse was asked for the columns of " + dataset + " and answered: " + warehouse.Words(err)}
		}
	}
	for _, c := range columns {
		if !slices.ContainsFunc(has, func(known record.Column) bool { return known.Name == c }) {
			var names record.Strings
			for _, known := range has {
				names = append(names, known.Name)
			}
			return record.Invalid{Field: "columns", Given: c, Allowed: "a column of " + dataset + ": " + words.List(names)}
		}
	}
	return nil
}
