package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/reconcile"
	"tinbell/internal/record"
)

func (s *server) addReconciliations(api huma.API) {
	add(api, "GET", "/reconciliations", "reconciliations", "Stages that are compared by the same aggregate", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Reconciliation], error) {
			return ok(s.Store.Reconciliations(ctx))
		})
	add(api, "POST", "/reconciliations", "reconcile",
		"Compare two datasets by the same aggregate from now on, and over what is known of their past; the one of that name is changed", people.Editor,
		func(ctx context.Context, in *struct{ Body reconcile.Order }) (*body[record.Reconciliation], error) {
			return ok(s.Reconciler.Set(ctx, in.Body))
		})
	add(api, "GET", "/reconciliations/{name}", "reconciliation", "One reconciliation", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Reconciliation], error) {
			return ok(s.Store.Reconciliation(ctx, in.Name))
		})
	add(api, "DELETE", "/reconciliations/{name}", "remove-reconciliation",
		"End a reconciliation; the metric of its difference goes with its monitor and alerts", people.Editor,
		func(ctx context.Context, in *Named) (*none, error) {
			return nil, s.Reconciler.Remove(ctx, in.Name)
		})
	add(api, "POST", "/reconciliations/{name}/keys", "reconciliation-keys",
		"Which rows of a stretch are on one side only, by their keys: shown and not kept, and the audit trail says who looked",
		people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body struct {
				From    time.Time `json:"from" doc:"of the second stage"`
				To      time.Time `json:"to"`
				Segment string    `json:"segment,omitempty"`
			}
		}) (*body[reconcile.Keys], error) {
			return ok(s.Reconciler.Keys(ctx, in.Name, in.Body.From, in.Body.To, in.Body.Segment, account(ctx).Name))
		})
}
