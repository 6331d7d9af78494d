package demo

import (
	"context"
	"net/url"

	"tinbell/internal/client"
	"tinbell/internal/people"
	"tinbell/internal/sink"
)

// Staff are the people of the ferry line that the stand-in directory knows.
var Staff = []sink.Guest{
	{Name: "Ines Vautrin", Groups: []string{"data reliability"}},
	{Name: "Tobin Achterberg", Groups: []string{"harbour data"}},
	{Name: "Maud Okonjo", Groups: []string{"front desk"}},
}

// StaffRoles are what the groups of the directory give.
var StaffRoles = []people.GroupRole{
	{Group: "data reliability", Role: people.Admin}, {Group: "harbour data", Role: people.Reader},
	{Group: "harbour data", Team: "harbour data"}, {Group: "front desk", Role: people.Responder},
}

// SetPeople makes the team that looks after gates and loads, and one for partners.
func SetPeople(ctx context.Context, c *client.Client) error {
	for name, team := range map[string]map[string]any{
		"harbour data":    {"role": people.Editor, "datasets": []string{"raw.*", "edge.*"}},
		"freight partner": {"role": people.Reader, "datasets": []string{"landing.*"}},
	} {
		if err := c.Send(ctx, "PUT", "/teams/"+url.PathEscape(name), team, nil); err != nil {
			return err
		}
	}
	return nil
}
