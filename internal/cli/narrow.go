package cli

import (
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
)

// narrowing says what the lists of a group can be narrowed to, beside what their
// commands say themselves. All can be sorted and cut.
var narrowing = map[string]string{
	"dataset": "owner tag", "metric": "dataset owner tag", "monitor": "dataset owner tag", "alert": "owner tag",
	"group": "owner tag", "incident": "tag", "note": "tag",
	"label": "dataset tag", "drift": "dataset owner tag", "sla": "dataset owner tag",
}

// narrowFlags are what they are called, and what they say.
var narrowFlags = map[string]string{"dataset": "of this dataset alone", "owner": "of this team alone",
	"tag": "with this tag alone, a dataset's counted"}

// narrow gives every list the same options.
func (a *app) narrow(root *cobra.Command) {
	for _, of := range root.Commands() {
		for _, c := range of.Commands() {
			if c.Name() == "list" || c.HasAlias("list") {
				a.narrowed(c, strings.Fields(narrowing[of.Name()])...)
			}
		}
	}
}

func (a *app) narrowed(c *cobra.Command, names ...string) {
	values := map[string]*string{}
	f := c.Flags()
	for _, name := range names {
		if f.Lookup(name) == nil {
			values[name] = f.String(name, "", narrowFlags[name])
		}
	}
	values["sort"] = f.String("sort", "", "by this column, as --output csv names it; -column the other way round")
	limit := new(int)
	if f.Lookup("limit") == nil {
		f.IntVar(limit, "limit", 0, "at most so many; 0 for all")
	}
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		a.only = url.Values{}
		for name, value := range values {
			if *value != "" {
				a.only.Set(name, *value)
			}
		}
		if *limit > 0 {
			a.only.Set("limit", strconv.Itoa(*limit))
		}
		return run(c, args)
	}
}
