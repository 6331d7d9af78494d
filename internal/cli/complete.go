package cli

import (
	"context"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"
)

// namesOf says where the names lie that stand for a placeholder of a command: by itself,
// or where it is only called NAME, by the group that the command is in.
var namesOf = map[string]string{
	"MONITOR": "/monitors", "monitor": "/monitors", "METRIC": "/metrics", "metric": "/metrics", "DATASET": "/datasets",
	"dataset": "/datasets",
	"SOURCE":  "/sources", "source": "/sources", "calendar": "/calendars", "sla": "/slas", "channel": "/channels",
	"route": "/routes", "drift": "/drift", "reconcile": "/reconciliations", "log": "/logs", "TAG": "/tags", "tag": "/tags",
}

var placeholder = regexp.MustCompile(`^[A-Z]+`)

// complete lets the shell complete the names of what is set up.
func (a *app) complete(c *cobra.Command, group string) {
	for _, child := range c.Commands() {
		under := group
		if under == "" {
			under = child.Name()
		}
		a.complete(child, under)
	}
	var places []string
	for _, word := range strings.Fields(c.Use)[1:] {
		name := placeholder.FindString(strings.Trim(word, "[]"))
		if path := namesOf[name]; path != "" {
			places = append(places, path)
		} else if name == "NAME" {
			places = append(places, namesOf[group])
		} else {
			places = append(places, "")
		}
	}
	if len(places) == 0 || c.ValidArgsFunction != nil || c.Name() == "add" || group == "demo" {
		return
	}
	many := strings.Contains(c.Use, "…")
	c.ValidArgsFunction = func(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		at := len(args)
		if many {
			at = min(at, len(places)-1)
		}
		if at >= len(places) || places[at] == "" {
			return nil, cobra.ShellCompDirectiveDefault
		}
		for name, known := range map[string]*string{"server": &a.server, "token": &a.token} {
			if !c.Flags().Changed(name) {
				*known = "" // as it was found before --dir was read
			}
		}
		if a.connect() != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var list []struct {
			Name string `json:"name"`
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second) // a shell waits for it
		defer cancel()
		if a.client().Get(ctx, places[at], nil, &list) != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var names []string
		for _, v := range list {
			if strings.HasPrefix(v.Name, begun) {
				names = append(names, v.Name)
			}
		}
		return names, cobra.ShellCompDirectiveNoFileComp
	}
}
