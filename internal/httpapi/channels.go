package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/core/detect"
	"tinbell/internal/notify"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/sink"
	"tinbell/internal/store"
)

// NewChannel sets a channel; the one of that name is replaced.
type NewChannel struct {
	Name        string                 `json:"name,omitempty" doc:"needed where the address does not say it"`
	Kind        record.ChannelKind     `json:"kind" enum:"email,webhook"`
	Settings    record.ChannelSettings `json:"settings"`
	Secret      string                 `json:"secret,omitempty" doc:"password of the SMTP login, or signing secret of a webhook; kept encrypted, and as it is if left out"`
	Headers     map[string]string      `json:"headers,omitempty" doc:"webhook: sent along, such as Authorization; kept encrypted, and as they are if left out; one without a value is taken away with the others"`
	HourlyLimit int                    `json:"hourly_limit,omitempty" minimum:"0" maximum:"3600" doc:"messages an hour, 30 if left out; what is beyond comes as one summary"`
	Paused      bool                   `json:"paused,omitempty"`
}

// SetChannel is a channel as it was set.
type SetChannel struct {
	record.Channel
	Secret string `json:"secret" doc:"a webhook's new signing secret, shown once; empty if it was given or has not changed"`
}

// Retried is how many messages are tried again.
type Retried struct {
	Messages int64 `json:"messages"`
}

// TemplateText is a template of a webhook's body.
type TemplateText struct {
	Template string `json:"template"`
	Type     string `json:"type,omitempty" doc:"its content type, application/json if left out"`
}

// Rotated is a webhook's new signing secret.
type Rotated struct {
	Secret   string    `json:"secret" doc:"shown once"`
	OldUntil time.Time `json:"old_until" doc:"until then messages are signed with the one before as well"`
}

// NewRoute sets a route; the one of that name is replaced.
type NewRoute struct {
	Name            string          `json:"name,omitempty" doc:"needed where the address does not say it"`
	Channel         string          `json:"channel"`
	Datasets        record.Strings  `json:"datasets,omitempty" doc:"patterns such as ops.*; all if left out"`
	Owners          record.Strings  `json:"owners,omitempty"`
	Tags            record.Strings  `json:"tags,omitempty" doc:"one of them is enough; all if left out"`
	Severity        detect.Severity `json:"severity,omitempty" enum:"warning,critical," doc:"the least that is told; warning if left out"`
	Hours           record.Strings  `json:"hours,omitempty" doc:"when it tells, as 'mon-fri 08:00-18:00'; always if left out"`
	Zone            string          `json:"zone,omitempty" doc:"of the hours"`
	WaitSeconds     *int64          `json:"wait_seconds,omitempty" minimum:"0" maximum:"3600" doc:"for other alerts of the same cause; 10 if left out"`
	RemindSeconds   int64           `json:"remind_seconds,omitempty" minimum:"0"`
	EscalateSeconds int64           `json:"escalate_seconds,omitempty" minimum:"0"`
	EscalateTo      string          `json:"escalate_to,omitempty"`
	NoRecovery      bool            `json:"no_recovery,omitempty" doc:"do not tell when it is over"`
}

// MessageDetail is a message with what it says.
type MessageDetail struct {
	record.Message
	Body any `json:"body" doc:"as it is sent; null while it waits"`
}

func (s *server) addChannels(api huma.API) {
	add(api, "GET", "/channels", "channels", "All channels", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Channel], error) {
			return ok(s.Store.Channels(ctx))
		})
	add(api, "GET", "/channels/{name}", "channel", "One channel", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Channel], error) {
			return ok(s.Store.Channel(ctx, in.Name))
		})
	add(api, "POST", "/channels", "set-channel", "Add a channel or replace the one of that name", people.Admin,
		func(ctx context.Context, in *body[NewChannel]) (*body[SetChannel], error) {
			return ok(s.setChannel(ctx, in.Body))
		})
	add(api, "PUT", "/channels/{name}", "put-channel",
		"Make a channel be as given, added if there is none; with If-Match only if nobody has changed it", people.Admin,
		func(ctx context.Context, in *struct {
			Named
			Body NewChannel
		}) (*body[SetChannel], error) {
			in.Body.Name = in.Name
			return ok(s.setChannel(ctx, in.Body))
		})
	add(api, "POST", "/channels/{name}/test", "test-channel",
		"Send a test message at once; the answer says whether it arrived, and why not", people.Editor,
		func(ctx context.Context, in *Named) (*body[record.Message], error) {
			c, err := s.Store.Channel(ctx, in.Name)
			if err != nil {
				return nil, err
			}
			return ok(s.Notifier.Test(ctx, c))
		})
	add(api, "POST", "/channels/{name}/rotate", "rotate-secret", "Give a webhook a new signing secret", people.Admin,
		func(ctx context.Context, in *Named) (*body[Rotated], error) {
			secret, until, err := s.Notifier.Rotate(ctx, in.Name)
			return ok(Rotated{secret, until}, err)
		})
	add(api, "POST", "/channels/{name}/retry", "retry-channel", "Try what could not be sent again at once", people.Editor,
		func(ctx context.Context, in *Named) (*body[Retried], error) {
			if _, err := s.Store.Channel(ctx, in.Name); err != nil {
				return nil, err
			}
			n, err := s.Store.Retry(ctx, in.Name, s.Now().UTC())
			return ok(Retried{n}, err)
		})
	add(api, "DELETE", "/channels/{name}", "drop-channel", "Remove a channel with its routes and messages", people.Admin,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Store.DropChannel(ctx, in.Name)
		})
	add(api, "POST", "/templates/check", "check-template", "Whether a template makes a body; the error names line and column",
		people.Editor, func(ctx context.Context, in *body[TemplateText]) (*struct{}, error) {
			return nil, notify.CheckTemplate(in.Body.Template, in.Body.Type)
		})
	s.addRoutes(api)
	s.addMessages(api)
}

func (s *server) setChannel(ctx context.Context, v NewChannel) (SetChannel, error) {
	c, secret, err := s.Notifier.SetChannel(ctx, record.Channel{Name: v.Name, Kind: v.Kind, Settings: v.Settings,
		HourlyLimit: v.HourlyLimit, Paused: v.Paused}, notify.Secrets{Secret: v.Secret, Headers: v.Headers})
	return SetChannel{c, secret}, err
}

func (v NewRoute) record() record.Route {
	r := record.Route{Name: v.Name, Channel: v.Channel, Datasets: v.Datasets, Owners: v.Owners, Tags: v.Tags, Severity: v.Severity,
		Hours: v.Hours, Zone: v.Zone, WaitSeconds: setup.UsualWait,
		RemindSeconds: v.RemindSeconds, EscalateSeconds: v.EscalateSeconds, EscalateTo: v.EscalateTo, Recovery: !v.NoRecovery}
	if v.WaitSeconds != nil {
		r.WaitSeconds = *v.WaitSeconds
	}
	return r
}

func (s *server) addRoutes(api huma.API) {
	add(api, "GET", "/routes", "routes", "Which groups which channel hears of", people.Reader,
		func(ctx context.Context, _ *none) (*body[[]record.Route], error) {
			return ok(s.Store.Routes(ctx))
		})
	add(api, "GET", "/routes/{name}", "route", "One route", people.Reader,
		func(ctx context.Context, in *Named) (*body[record.Route], error) {
			return ok(s.Store.Route(ctx, in.Name))
		})
	add(api, "POST", "/routes", "set-route", "Add a route or replace the one of that name", people.Editor,
		func(ctx context.Context, in *body[NewRoute]) (*body[record.Route], error) {
			return ok(s.Setup.SetRoute(ctx, in.Body.record()))
		})
	add(api, "PUT", "/routes/{name}", "put-route",
		"Make a route be as given, added if there is none; with If-Match only if nobody has changed it", people.Editor,
		func(ctx context.Context, in *struct {
			Named
			Body NewRoute
		}) (*body[record.Route], error) {
			in.Body.Name = in.Name
			return ok(s.Setup.SetRoute(ctx, in.Body.record()))
		})
	add(api, "DELETE", "/routes/{name}", "drop-route", "Remove a route", people.Editor,
		func(ctx context.Context, in *Named) (*struct{}, error) {
			return nil, s.Store.DropRoute(ctx, in.Name)
		})
}

func (s *server) addMessages(api huma.API) {
	add(api, "GET", "/messages", "messages", "What was and is to be sent, newest first", people.Reader,
		func(ctx context.Context, in *struct {
			Channel string `query:"channel"`
			State   string `query:"state" enum:"waiting,sent,failed,dropped,summed,"`
			Group   int64  `query:"group"`
			Limit   int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[[]record.Message], error) {
			return ok(s.Store.Messages(ctx, store.MessageFilter{Channel: in.Channel, State: in.State, Group: in.Group, Limit: in.Limit}))
		})
	add(api, "GET", "/messages/{id}", "message", "One message with what it says", people.Reader, func(ctx context.Context, in *struct {
		ID string `path:"id"`
	}) (*body[MessageDetail], error) {
		m, err := s.Store.Message(ctx, in.ID)
		d := MessageDetail{Message: m}
		if m.Body != nil {
			d.Body = json.RawMessage(m.Body)
		}
		return ok(d, err)
	})
	add(api, "GET", "/mailbox", "mailbox", "What the demo's mail server and webhook receiver got, newest first, without pictures",
		people.Reader, func(ctx context.Context, in *struct {
			Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		}) (*body[[]sink.Letter], error) {
			if s.Mailbox == nil {
				return nil, errNoMailbox
			}
			list := s.Mailbox.Letters(in.Limit)
			for i := range list {
				list[i].HTML, list[i].Picture = "", nil
			}
			return ok(list, nil)
		})
	add(api, "GET", "/mailbox/{id}", "letter", "One message as the demo's stand-ins got it", people.Reader,
		func(ctx context.Context, in *struct {
			ID int `path:"id"`
		}) (*body[sink.Letter], error) {
			if s.Mailbox == nil {
				return nil, errNoMailbox
			}
			l, found := s.Mailbox.Letter(in.ID)
			if !found {
				return nil, record.NotFound{Kind: "letter", Name: fmt.Sprint(in.ID)}
			}
			return ok(l, nil)
		})
}

var errNoMailbox = huma.Error404NotFound("there is no mailbox here: it comes with the demo, whose mail server and webhook receiver keep what they get")
