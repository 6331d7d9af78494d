package httpapi

import (
	"context"
	"errors"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/setup"
)

// tagged refuses a tag that nothing has: an empty answer would look like good news.
func (s *server) tagged(ctx context.Context, tag string) error {
	if tag == "" {
		return nil
	}
	list, err := s.Store.Tags(ctx)
	if err == nil && !slices.ContainsFunc(list, func(t record.Tag) bool { return t.Name == tag }) {
		err = record.NotFound{Kind: "tag", Name: tag}
	}
	return err
}

// TagChange says what is tagged from now on and what is no more.
type TagChange struct {
	On  setup.Tagged `json:"on,omitempty" doc:"what gets the tag: names, or patterns with * and ?"`
	Off setup.Tagged `json:"off,omitempty" doc:"what loses it"`
}

// addFinding adds what finds things of all kinds by words.
func (s *server) addFinding(api huma.API) {
	add(api, "GET", "/find", "find", "What has all of some words: datasets, monitors, series, alerts, incidents, SLAs, comparisons and sentences of logs", people.Reader,
		func(ctx context.Context, in *struct {
			Words string `query:"words" required:"true" minLength:"1" maxLength:"200" doc:"in any case, each anywhere in a name, an owner, a tag or a sentence"`
			Limit int    `query:"limit" minimum:"1" maximum:"200" default:"30"`
		}) (*body[[]record.Match], error) {
			return ok(s.find(ctx, in.Words, in.Limit))
		})
}

// looked is how much is found at most for somebody who may not see all of it.
const looked = 5000

// find finds so many things that are for who asks.
func (s *server) find(ctx context.Context, words string, limit int) ([]record.Match, error) {
	c := confinedTo(ctx)
	if c == nil {
		return s.Store.Find(ctx, words, limit)
	}
	list, err := s.Store.Find(ctx, words, looked)
	if err != nil {
		return nil, err
	}
	hidden, err := c.hides(ctx)
	list = slices.DeleteFunc(list, func(m record.Match) bool { return hidden[m.Dataset] })
	return list[:min(limit, len(list))], err
}

func (s *server) addTags(api huma.API) {
	add(api, "GET", "/tags", "tags", "All tags, by name: what has them, who hears of it, and what is open", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Tag], error) {
			return ok(s.Store.Tags(ctx))
		})
	one := func(ctx context.Context, name string) (record.Tag, error) {
		list, err := s.Store.Tags(ctx)
		i := slices.IndexFunc(list, func(t record.Tag) bool { return t.Name == name })
		if err != nil {
			return record.Tag{}, err
		}
		if i < 0 {
			return record.Tag{}, record.NotFound{Kind: "tag", Name: name}
		}
		return list[i], nil
	}
	add(api, "GET", "/tags/{name}", "tag", "One tag with what has it", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Tag], error) {
			return ok(one(ctx, in.Name))
		})
	add(api, "PATCH", "/tags/{name}", "change-tag", "Give things a tag and take it off others, all or nothing", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body TagChange
		}) (*body[record.Tag], error) {
			if err := s.Setup.Tag(ctx, in.Name, in.Body.On, in.Body.Off); err != nil {
				return nil, err
			}
			t, err := one(ctx, in.Name)
			if missing := (record.NotFound{}); errors.As(err, &missing) { // the last thing that had it lost it
				t, err = record.Tag{Name: in.Name, Datasets: record.Strings{}, Metrics: record.Strings{}, Monitors: record.Strings{},
					Routes: record.Strings{}, Channels: record.Strings{}}, nil
			}
			return ok(t, err)
		})
	add(api, "DELETE", "/tags/{name}", "remove-tag", "Take a tag off everything; refused while a route names it", people.Editor,
		func(ctx context.Context, in *Named) (*none, error) {
			return &none{}, s.Setup.Untag(ctx, in.Name)
		})
}
