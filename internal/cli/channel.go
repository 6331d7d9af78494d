package cli

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

func (a *app) channelCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List channels", Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var channels []record.Channel
			if err := a.client().Get(c.Context(), "/channels", nil, &channels); err != nil {
				return err
			}
			l := listing{head: []string{"channel", "kind", "to", "form", "an hour", "state"}, right: []int{5}, raw: channels,
				none: "No channel yet. Add one: tinbell channel set night-desk --email night@ferries.example --from bell@ferries.example --host smtp.ferries.example"}
			for _, v := range channels {
				to, state := v.Settings.URL, "reached"
				if v.Kind == record.ChannelEmail {
					to = strings.Join(v.Settings.To, ", ")
				}
				switch {
				case v.Paused:
					state = "paused"
				case v.Message != "":
					state = "not reached since " + a.local(*v.FailingSince, "UTC") + ": " + v.Message
				}
				l.rows = append(l.rows, []string{v.Name, string(v.Kind), to, orNone(v.Settings.Form), strconv.Itoa(v.HourlyLimit), state})
			}
			return a.show(l)
		}}
	named := func(use, short, done string, do func(c *cobra.Command, path, name string) error) *cobra.Command {
		return &cobra.Command{Use: use + " NAME", Short: short, Args: exactly(1, "NAME"), Example: "  tinbell channel " + use +
			" night-desk", RunE: func(c *cobra.Command, args []string) error {
			if err := do(c, "/channels/"+url.PathEscape(args[0]), args[0]); err != nil {
				return err
			}
			if done != "" {
				a.say(done, args[0])
			}
			return nil
		}}
	}
	test := named("test", "Send a test message at once and say whether it arrived", "", func(c *cobra.Command, path, name string) error {
		var m record.Message
		if err := a.client().Send(c.Context(), "POST", path+"/test", nil, &m); err != nil {
			return err
		}
		if m.State != record.MessageSent {
			return fmt.Errorf("%s could not be reached: %s", name, m.Error)
		}
		a.say("Arrived at %s as %s.", name, m.ID)
		return nil
	})
	rotate := named("rotate", "Give a webhook a new signing secret", "", func(c *cobra.Command, path, name string) error {
		var r httpapi.Rotated
		if err := a.client().Send(c.Context(), "POST", path+"/rotate", nil, &r); err != nil {
			return err
		}
		a.println(r.Secret)
		a.say("This is shown once. Until %s UTC messages are signed with the secret before as well.", r.OldUntil.Format("2 Jan 15:04"))
		return nil
	})
	retry := named("retry", "Try what could not be sent again at once", "", func(c *cobra.Command, path, name string) error {
		var n struct {
			Messages int `json:"messages"`
		}
		if err := a.client().Send(c.Context(), "POST", path+"/retry", nil, &n); err != nil {
			return err
		}
		a.say("%s for %s are tried now.", words.Plural(n.Messages, "message"), name)
		return nil
	})
	remove := named("remove", "Remove a channel with its routes and messages", "Channel %s is removed.",
		func(c *cobra.Command, path, _ string) error {
			return a.client().Send(c.Context(), "DELETE", path, nil, nil)
		})
	return group("channel", "Where messages go: e-mail and webhooks", list, a.channelSet(), test, rotate, retry, remove)
}

func (a *app) channelSet() *cobra.Command {
	var in httpapi.NewChannel
	var mail []string
	var template string
	c := &cobra.Command{Use: "set NAME", Short: "Add a channel or replace the one of that name", Args: exactly(1, "NAME"),
		Long: `Adds an e-mail channel (--email) or a webhook (--webhook).

Webhooks send CloudEvents 1.0 as JSON, signed as the Standard Webhooks
specification says; the secret is shown once. --form chat sends {"text": …} and
--form ticket a title, a description and a reference that stays the same for one
fault. --template FILE sends a body of your own, in which {{.Sentence}} and the
like stand; it is checked before it is kept.`,
		Example: "  tinbell channel set night-desk --email night@ferries.example --from bell@ferries.example --host smtp.ferries.example --user bell --password \"$SMTP_PASSWORD\"\n  tinbell channel set pager --webhook https://pager.example/hooks/1\n  tinbell channel set harbour-chat --webhook https://chat.example/hooks/2 --form chat",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name, in.Kind = args[0], record.ChannelEmail
			in.Settings.To = mail
			if in.Settings.URL != "" {
				in.Kind = record.ChannelWebhook
			}
			if (in.Settings.URL == "") == (len(mail) == 0) {
				return wrongUsage{fmt.Errorf("give either --email or --webhook")}
			}
			if template != "" {
				content, err := os.ReadFile(template)
				if err != nil {
					return err
				}
				in.Settings.Form, in.Settings.Template = "own", string(content)
			}
			var set httpapi.SetChannel
			if err := a.client().Send(c.Context(), "POST", "/channels", in, &set); err != nil {
				return err
			}
			if done, err := a.data(set); done {
				return err
			}
			if set.Secret != "" {
				a.println(set.Secret)
				a.say("This is the secret that messages are signed with, shown once.")
			}
			a.say("Channel %s is set. Try it: tinbell channel test %s", set.Name, set.Name)
			return nil
		}}
	f := c.Flags()
	f.StringSliceVar(&mail, "email", nil, "addresses")
	f.StringVar(&in.Settings.From, "from", "", "address of the sender")
	f.StringVar(&in.Settings.Host, "host", "", "SMTP server")
	f.IntVar(&in.Settings.Port, "port", 0, "of the SMTP server; 587, or 465 with tls")
	f.StringVar(&in.Settings.Security, "security", "", "starttls (if left out), tls or none")
	f.StringVar(&in.Settings.User, "user", "", "SMTP login")
	f.StringVar(&in.Secret, "password", "", "of the SMTP login")
	f.StringToStringVar(&in.Headers, "header", nil,
		"sent along with a webhook's messages, as Authorization='Bearer …'; kept encrypted, and as they are if left out")
	f.StringVar(&in.Secret, "secret", "", "signing secret of a webhook, instead of a new one")
	f.StringVar(&in.Settings.URL, "webhook", "", "address of a webhook")
	f.StringVar(&in.Settings.Form, "form", "", "of a webhook: cloudevent (if left out), chat or ticket")
	f.StringVar(&template, "template", "", "of a webhook: file with a body of your own")
	f.StringVar(&in.Settings.Type, "type", "", "content type of your own body, application/json if left out")
	f.IntVar(&in.HourlyLimit, "hourly-limit", 0, "messages an hour, 30 if left out; what is beyond comes as one summary")
	f.BoolVar(&in.Paused, "paused", false, "keep what is to be sent until it is set again without this")
	return c
}

func (a *app) routeCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List routes", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		var routes []record.Route
		if err := a.client().Get(c.Context(), "/routes", nil, &routes); err != nil {
			return err
		}
		l := listing{head: []string{"route", "channel", "datasets", "owners", "tags", "from", "hours", "waits", "reminds",
			"escalates"}, raw: routes,
			none: "No route yet: nobody hears of alerts. Add one: tinbell route set everything CHANNEL"}
		every := func(s int64) string {
			if s == 0 {
				return "–"
			}
			return words.Seconds(float64(s))
		}
		for _, r := range routes {
			escalates := "–"
			if r.EscalateSeconds > 0 {
				escalates = "to " + r.EscalateTo + " after " + every(r.EscalateSeconds)
			}
			l.rows = append(l.rows, []string{r.Name, r.Channel, or(strings.Join(r.Datasets, ", "), "all"),
				or(strings.Join(r.Owners, ", "), "all"), or(strings.Join(r.Tags, ", "), "all"), string(r.Severity),
				or(strings.Join(r.Hours, ", "), "always"),
				every(r.WaitSeconds), every(r.RemindSeconds), escalates})
		}
		return a.show(l)
	}}
	var in httpapi.NewRoute
	var wait, remind, escalate string
	set := &cobra.Command{Use: "set NAME CHANNEL", Short: "Say which groups a channel hears of", Args: exactly(2, "NAME CHANNEL"),
		Example: "  tinbell route set everything data-desk --remind 4h\n  tinbell route set nights pager --severity critical --hours 'mon-fri 18:00-08:00' --hours 'sat,sun 00:00-24:00' --zone America/Halifax --escalate 30m --escalate-to night-desk",
		RunE: func(c *cobra.Command, args []string) error {
			in.Name, in.Channel = args[0], args[1]
			for text, into := range map[*string]*int64{&remind: &in.RemindSeconds, &escalate: &in.EscalateSeconds} {
				if *text != "" {
					var err error
					if *into, err = seconds(*text); err != nil {
						return err
					}
				}
			}
			if wait != "" {
				s := int64(0)
				if wait != "0" {
					var err error
					if s, err = seconds(wait); err != nil {
						return err
					}
				}
				in.WaitSeconds = &s
			}
			var r record.Route
			if err := a.client().Send(c.Context(), "POST", "/routes", in, &r); err != nil {
				return err
			}
			a.say("Route %s leads to %s.", r.Name, r.Channel)
			return nil
		}}
	f := set.Flags()
	f.StringSliceVar((*[]string)(&in.Datasets), "dataset", nil, "names or patterns such as ops.*; all if left out")
	f.StringSliceVar((*[]string)(&in.Owners), "owner", nil, "all if left out")
	f.StringSliceVar((*[]string)(&in.Tags), "tag", nil, "one of them is enough; all if left out")
	f.StringVar((*string)(&in.Severity), "severity", "", "the least that is told: warning (if left out) or critical")
	f.StringArrayVar((*[]string)(&in.Hours), "hours", nil, "when it tells, as 'mon-fri 08:00-18:00'; always if left out")
	f.StringVar(&in.Zone, "zone", "", "of the hours; UTC if left out")
	f.StringVar(&wait, "wait", "", "for other alerts of the same cause; 10s if left out")
	f.StringVar(&remind, "remind", "", "remind so often while nobody looks after it")
	f.StringVar(&escalate, "escalate", "", "when to tell --escalate-to, if nobody looks after it")
	f.StringVar(&in.EscalateTo, "escalate-to", "", "another channel")
	f.BoolVar(&in.NoRecovery, "no-recovery", false, "do not tell when it is over")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a route", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/routes/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("Route %s is removed.", args[0])
			return nil
		}}
	return group("route", "Which groups which channel hears of", list, set, remove)
}

func (a *app) messageCommand() *cobra.Command {
	var channel, state string
	var limit int
	list := &cobra.Command{Use: "list", Short: "What was and is to be sent, newest first", Args: exactly(0, "nothing"),
		Example: "  tinbell message list --state waiting",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"channel": {channel}, "state": {state}, "limit": {strconv.Itoa(limit)}}
			var list []record.Message
			if err := a.client().Get(c.Context(), "/messages", q, &list); err != nil {
				return err
			}
			return a.show(a.messageTable(list, "No such message."))
		}}
	list.Flags().StringVar(&channel, "channel", "", "only to this channel")
	list.Flags().StringVar(&state, "state", "", "waiting, sent, failed, dropped or summed")
	list.Flags().IntVar(&limit, "limit", 40, "at most so many")
	show := &cobra.Command{Use: "show ID", Short: "Show a message as it is sent", Args: exactly(1, "ID"),
		RunE: func(c *cobra.Command, args []string) error {
			var m httpapi.MessageDetail
			if err := a.client().Get(c.Context(), "/messages/"+url.PathEscape(args[0]), nil, &m); err != nil {
				return err
			}
			if done, err := a.data(m); done {
				return err
			}
			a.printf("%s to %s, %s after %s. %s\n\n", m.What, m.Channel, m.State, words.Plural(m.Attempts, "attempt"), m.Error)
			b, _ := m.Body.(map[string]any)
			for _, part := range []string{"text", "payload"} {
				if text, _ := b[part].(string); text != "" {
					a.println(pretty(text))
					return nil
				}
			}
			a.println("It has not been written yet: that happens when it is due.")
			return nil
		}}
	return group("message", "The outbox: what was and is to be sent", list, show)
}

// pretty indents JSON and leaves other text as it is.
func pretty(text string) string {
	var v any
	if json.Unmarshal([]byte(text), &v) != nil {
		return text
	}
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return text
	}
	return string(b)
}

func (a *app) messageTable(list []record.Message, none string) listing {
	l := listing{head: []string{"message", "created", "channel", "what", "state", "tries", "group", "subject"},
		right: []int{6, 7}, raw: list, none: none}
	for _, m := range list {
		group, state := "–", string(m.State)
		if m.GroupID != nil {
			group = strconv.FormatInt(*m.GroupID, 10)
		}
		if m.Error != "" && m.State != record.MessageSent {
			state += ": " + m.Error
		}
		l.rows = append(l.rows, []string{m.ID, a.local(m.CreatedAt, "UTC"), m.Channel, string(m.What), state, strconv.Itoa(m.Attempts),
			group, m.Subject})
	}
	return l
}
