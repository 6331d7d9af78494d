package httpapi

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/compare"
	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewComparison sets a drift comparison; the one of that name is replaced.
type NewComparison struct {
	Name    string `json:"name"`
	Dataset string `json:"dataset"`
	Owner   string `json:"owner,omitempty"`
	record.ComparisonSettings
}

// DriftOrder asks for a run.
type DriftOrder struct {
	All bool `json:"all,omitempty" doc:"read and judge all periods anew, not only those that are new"`
}

// NewReference is the days that a comparison starts from, from now on.
type NewReference struct {
	From string `json:"from" format:"date"`
	To   string `json:"to" format:"date" doc:"the last day"`
}

// DriftAt picks a period by an instant in it.
type DriftAt struct {
	Name string    `path:"name"`
	At   time.Time `query:"at" doc:"in the period; the last one if left out"`
}

func (n NewComparison) record() record.Comparison {
	return record.Comparison{Name: n.Name, Dataset: n.Dataset, Owner: n.Owner, Settings: n.ComparisonSettings}
}

func (s *server) addDrift(api huma.API) {
	add(api, "GET", "/drift", "comparisons", "All drift comparisons: what their last periods showed", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]compare.Summary], error) {
			return ok(s.Comparer.Overview(ctx))
		})
	add(api, "POST", "/drift", "set-comparison", "Add a drift comparison or replace the one of that name; it runs at once",
		people.Editor, func(ctx context.Context, in *body[NewComparison]) (*body[record.Comparison], error) {
			return ok(s.Comparer.Set(ctx, in.Body.record()))
		})
	add(api, "POST", "/drift/proposals", "propose-comparison", "What a comparison would compare; nothing is kept", people.Editor,
		func(ctx context.Context, in *body[NewComparison]) (*body[record.Comparison], error) {
			return ok(s.Comparer.Prepare(ctx, in.Body.record()))
		})
	add(api, "GET", "/drift/{name}", "comparison", "Features by period, the most drifted first", people.Reader,
		func(ctx context.Context, in *struct {
			Name string    `path:"name"`
			From time.Time `query:"from"`
			To   time.Time `query:"to"`
		}) (*body[compare.Matrix], error) {
			return ok(s.Comparer.Show(ctx, in.Name, in.From, in.To))
		})
	add(api, "DELETE", "/drift/{name}", "drop-comparison", "Remove a comparison; its series and their alerts stay", people.Editor,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Store.DropComparison(ctx, in.Name)
		})
	add(api, "POST", "/drift/{name}/run", "run-comparison", "Judge the new periods now, or all anew", people.Editor,
		func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body DriftOrder
		}) (*body[Started], error) {
			task, err := s.Comparer.Order(ctx, in.Name, in.Body.All)
			return ok(Started{task}, err)
		})
	add(api, "POST", "/drift/{name}/reference", "move-reference",
		"Compare with other days from now on; all periods are judged anew", people.Editor, func(ctx context.Context, in *struct {
			Name string `path:"name"`
			Body NewReference
		}) (*body[record.Comparison], error) {
			return ok(s.Comparer.MoveReference(ctx, in.Name, in.Body.From, in.Body.To))
		})
	add(api, "GET", "/drift/{name}/period", "drift-period", "All that was found in a period: measures, pairs, models",
		people.Reader, func(ctx context.Context, in *DriftAt) (*body[record.DriftPeriod], error) {
			return ok(s.Comparer.Period(ctx, in.Name, in.At))
		})
	add(api, "GET", "/drift/{name}/features/{feature}", "drift-feature",
		"A feature's distributions over each other: a period and the reference", people.Reader, func(ctx context.Context, in *struct {
			DriftAt
			Feature string `path:"feature"`
		}) (*body[compare.Distributions], error) {
			return ok(s.Comparer.Feature(ctx, in.Name, in.Feature, in.At))
		})
	add(api, "GET", "/drift/{name}/pair", "drift-pair",
		"Any two features together, in a period and its reference; of a sample that is drawn for it and not kept", people.Reader,
		func(ctx context.Context, in *struct {
			DriftAt
			First  string `query:"first" required:"true"`
			Second string `query:"second" required:"true"`
		}) (*body[compare.PairView], error) {
			return ok(s.Comparer.Pair(ctx, in.Name, in.First, in.Second, in.At))
		})
	add(api, "GET", "/drift/{name}/models", "drift-models",
		"What the versions of the model did over the periods, and in one of them closely", people.Reader,
		func(ctx context.Context, in *struct {
			DriftAt
			From time.Time `query:"from"`
			To   time.Time `query:"to"`
		}) (*body[compare.ModelView], error) {
			return ok(s.Comparer.Models(ctx, in.Name, in.At, in.From, in.To))
		})
}
