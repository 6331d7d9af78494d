package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"tinbell/internal/vitals"
)

func (a *app) doctorCommand() *cobra.Command {
	return &cobra.Command{Use: "doctor",
		Short: "Look at how the service is set up and how it is doing, and say what to do; ends with 1 if something is wrong",
		Args:  exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var e vitals.Examination
			if err := a.client().Get(c.Context(), "/doctor", nil, &e); err != nil {
				return err
			}
			l := listing{head: []string{"", "check", "found", "what to do"}, raw: e, data: e.Checks, keep: []string{"", "check", "found"}}
			for _, v := range e.Checks {
				l.rows = append(l.rows, []string{map[string]string{"good": "", "mind": "mind", "wrong": "wrong"}[v.State], v.Name,
					v.Said, v.Do})
			}
			if err := a.show(l); err != nil {
				return err
			}
			a.say("\n%s", e.Sentence)
			if e.Wrong > 0 {
				return fmt.Errorf("%d of the checks found something wrong", e.Wrong)
			}
			return nil
		}}
}
