package cli

import (
	"fmt"

	"tinbell/internal/record"

	"github.com/spf13/cobra"
)

func (a *app) tokenCommand() *cobra.Command {
	var role, what string
	make := &cobra.Command{Use: "make NAME", Short: "Make a token for a person or program; shown once", Args: exactly(1, "NAME"), Example: "  tinbell token make 'Ines Vautrin' --role editor",
		RunE: func(c *cobra.Command, args []string) error {
			var out struct {
				Token string `json:"token"`
			}
			if err := a.client().Send(c.Context(), "POST", "/tokens", map[string]string{"name": args[0], "role": role, "for": what}, &out); err != nil {
				return err
			}
			fmt.Fprintln(a.out, out.Token)
			return nil
		}}
	make.Flags().StringVar(&role, "role", "editor", "reader, editor or admin")
	make.Flags().StringVar(&what, "for", "", "what it is for")
	list := &cobra.Command{Use: "list", Short: "List the tokens there are; what they say is not kept", Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
		var tokens []record.Token
		if err := a.client().Get(c.Context(), "/tokens", nil, &tokens); err != nil {
			return err
		}
		l := listing{head: []string{"token", "of", "role", "for", "made"}, right: []int{1}, raw: tokens, none: "No token."}
		for _, t := range tokens {
			l.rows = append(l.rows, []string{fmt.Sprint(t.ID), t.Account, t.Role, orNone(t.For), a.local(t.CreatedAt, "UTC")})
		}
		return a.show(l)
	}}
	revoke := &cobra.Command{Use: "revoke ID", Short: "Take a token back: whoever has it is signed out at once", Args: exactly(1, "ID"), RunE: func(c *cobra.Command, args []string) error {
		if err := a.client().Send(c.Context(), "DELETE", "/tokens/"+args[0], nil, nil); err != nil {
			return err
		}
		a.say("Token %s is revoked.", args[0])
		return nil
	}}
	return group("token", "Tokens to sign in with", list, make, revoke)
}
