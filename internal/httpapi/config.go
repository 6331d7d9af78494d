package httpapi

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/config"
	"tinbell/internal/people"
)

// loading is what is to be set up.
type loading struct {
	Prune bool `query:"prune" doc:"what is set up and in no document goes, of the kinds that the documents hold: monitors retire, SLAs, routes, channels, calendars, comparisons and reconciliations are removed; what holds samples stays"`
	Body  config.Documents
}

func (s *server) addConfig(api huma.API) {
	add(api, "GET", "/config", "config", "All that is set up, as documents; without logins", people.Reader,
		func(ctx context.Context, _ *none) (*body[config.Documents], error) {
			return ok(s.Config.Read(ctx))
		})
	add(api, "POST", "/config/diff", "diff-config", "What loading documents would do", people.Reader,
		func(ctx context.Context, in *loading) (*body[[]config.Change], error) {
			return ok(s.Config.Diff(ctx, in.Body, in.Prune))
		})
	add(api, "POST", "/config/load", "load-config",
		"Put documents in force, all or none; what is in no document stays unless it is pruned", people.Admin,
		func(ctx context.Context, in *loading) (*body[[]config.Change], error) {
			return ok(s.Config.Load(ctx, in.Body, in.Prune))
		})
	add(api, "GET", "/config/schema", "config-schema", "JSON Schema of a document, for editors", people.Reader,
		func(context.Context, *none) (*body[map[string]any], error) {
			return ok(config.Schema(), nil)
		})
}
