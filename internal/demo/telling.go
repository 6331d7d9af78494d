package demo

import (
	"context"
	"fmt"
	"net/url"

	"tinbell/internal/client"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// Receivers are the stand-ins for mail server and webhooks, on loopback.
type Receivers struct {
	SMTP, HTTP int // ports
	Expect     func(path, secret string) error
}

// SetTelling sets up who hears of what at Vellamar Ferries, and what was promised
// to whom; then the desks are told of what is open already.
func SetTelling(ctx context.Context, c *client.Client, r Receivers) error {
	mail := func(to ...string) record.ChannelSettings {
		return record.ChannelSettings{To: to, From: "bell@vellamar.example", Host: "127.0.0.1", Port: r.SMTP, Security: "none"}
	}
	hook := func(path, form string) record.ChannelSettings {
		return record.ChannelSettings{URL: fmt.Sprintf("http://127.0.0.1:%d%s", r.HTTP, path), Form: form}
	}
	for _, v := range []httpapi.NewChannel{
		{Name: "data-desk", Kind: record.ChannelEmail, Settings: mail("data-desk@vellamar.example")},
		{Name: "freight", Kind: record.ChannelEmail, Settings: mail("freight@vellamar.example", "partners@vellamar.example")},
		{Name: "pager", Kind: record.ChannelWebhook, Settings: hook("/pager", "")},
		{Name: "harbour-chat", Kind: record.ChannelWebhook, Settings: hook("/harbour", "chat")},
	} {
		var set httpapi.SetChannel
		if err := c.Send(ctx, "POST", "/channels", v, &set); err != nil {
			return err
		}
		if set.Secret == "" {
			continue
		}
		address, err := url.Parse(v.Settings.URL)
		if err != nil {
			return err
		}
		if err := r.Expect(address.Path, set.Secret); err != nil {
			return err
		}
	}
	for _, v := range []httpapi.NewRoute{
		{Name: "everything", Channel: "data-desk", RemindSeconds: 4 * hour},
		{Name: "critical", Channel: "pager", Severity: "critical", EscalateSeconds: hour / 2, EscalateTo: "data-desk"},
		{Name: "harbour", Channel: "harbour-chat", Owners: record.Strings{"Harbour data", "Fleet"}},
		{Name: "freight", Channel: "freight", Owners: record.Strings{"Freight"}, Hours: record.Strings{"mon-fri 05:00-19:00"},
			Zone: zoneName},
	} {
		if err := c.Send(ctx, "POST", "/routes", v, nil); err != nil {
			return err
		}
	}
	for _, v := range []httpapi.NewSLA{
		{Name: "parcels", Dataset: "landing.parcels", Counts: "files", AtLeast: 5, Days: "mon-fri", ToMinute: 6*60 + 30,
			LeadSeconds: 2 * hour},
		{Name: "roster", Dataset: "ops.crew_rosters", Counts: "loads", AtLeast: 1, ToMinute: 5 * 60},
		{Name: "revenue", Dataset: "mart.daily_revenue", Counts: "loads", AtLeast: 1, ToMinute: 6 * 60},
		{Name: "evening-sales", Dataset: "ops.ticket_sales", Counts: "rows", AtLeast: 700, FromMinute: 17 * 60, ToMinute: 22 * 60,
			LeadSeconds: 2 * hour},
	} {
		if err := c.Send(ctx, "POST", "/slas", v, nil); err != nil {
			return err
		}
	}
	var open httpapi.GroupPage
	if err := c.Get(ctx, "/groups", url.Values{"state": {"open"}}, &open); err != nil {
		return err
	}
	for _, g := range open.Groups {
		channels := []string{"data-desk"}
		if g.Severity == "critical" {
			channels = append(channels, "pager")
		}
		for _, name := range channels {
			if err := c.Send(ctx, "POST", fmt.Sprintf("/groups/%d/tell", g.ID), map[string]string{"channel": name}, nil); err != nil {
				return err
			}
		}
	}
	return nil
}
