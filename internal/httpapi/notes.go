package httpapi

import (
	"context"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/people"
	"tinbell/internal/record"
)

// NewNote says what happened when: a release, a migration. Everybody sees it on the
// dataset's charts; a deployment may post one.
type NewNote struct {
	Dataset string    `json:"dataset,omitempty" doc:"left out: on the charts of all"`
	At      time.Time `json:"at,omitempty" doc:"now if left out"`
	Text    string    `json:"text" minLength:"1"`
	Link    string    `json:"link,omitempty" doc:"where more is said, an http or https address"`
}

// longestNote is how many characters a note may have.
const longestNote = 500

func (s *server) addNotes(api huma.API) {
	add(api, "GET", "/notes", "notes", "Notes on charts, newest first; of one dataset with those on all", people.Reader,
		func(ctx context.Context, in *struct {
			Dataset string    `query:"dataset"`
			From    time.Time `query:"from"`
			To      time.Time `query:"to"`
		}) (*body[[]record.Note], error) {
			if err := s.there(ctx, in.Dataset, ""); err != nil {
				return nil, err
			}
			return ok(s.Store.Notes(ctx, in.Dataset, in.From, in.To))
		})
	add(api, "POST", "/notes", "add-note", "Note what happened, on the charts of a dataset or of all", people.Responder,
		func(ctx context.Context, in *body[NewNote]) (*body[record.Note], error) {
			v := record.Note{Dataset: in.Body.Dataset, At: in.Body.At.UTC(), Text: strings.TrimSpace(in.Body.Text),
				Link: in.Body.Link, Author: account(ctx).Name}
			if in.Body.At.IsZero() {
				v.At = s.Now().UTC()
			}
			switch n := utf8.RuneCountInString(v.Text); {
			case n == 0 || n > longestNote:
				return nil, record.Invalid{Field: "text", Given: v.Text[:min(len(v.Text), 20)], Allowed: "1 to 500 characters"}
			case v.Link != "":
				if u, err := url.Parse(v.Link); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
					return nil, record.Invalid{Field: "link", Given: v.Link, Allowed: "an http or https address"}
				}
			}
			if err := s.there(ctx, v.Dataset, ""); err != nil {
				return nil, err
			}
			return ok(s.Store.AddNote(ctx, v))
		})
	add(api, "DELETE", "/notes/{id}", "remove-note", "Remove a note", people.Responder,
		func(ctx context.Context, in *Identified) (*none, error) {
			return &none{}, s.Store.RemoveNote(ctx, in.ID)
		})
}
