package cli

import (
	"fmt"
	"net/url"

	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/words"

	"github.com/spf13/cobra"
)

func (a *app) tokenCommand() *cobra.Command {
	var role, what, expires string
	var datasets []string
	make := &cobra.Command{Use: "make NAME", Short: "Make a token for a person or program; shown once", Args: exactly(1, "NAME"),
		Long: `Makes a token, and the account if it is new. Roles: a reader looks; a responder labels,
takes, snoozes and writes incidents and notes; an editor sets up; an admin looks after
people, secrets and sources. A token may say less than its account, and not more.`,
		Example: "  tinbell token make 'Ines Vautrin' --role editor\n  tinbell token make wallboard --role reader --expires 90d",
		RunE: func(c *cobra.Command, args []string) error {
			var out struct {
				Token string `json:"token"`
			}
			order := map[string]any{"name": args[0], "role": role, "for": what, "datasets": datasets}
			if expires != "" {
				n, err := seconds(expires)
				if err != nil {
					return wrongUsage{err}
				}
				order["expires_seconds"] = n
			}
			if err := a.client().Send(c.Context(), "POST", "/tokens", order, &out); err != nil {
				return err
			}
			a.println(out.Token)
			return nil
		}}
	own := &cobra.Command{Use: "own", Short: "Make a token of one's own account, which says at most what one may; shown once",
		Args: exactly(0, "nothing"), Example: "  tinbell token own --role reader --for 'my notebook' --expires 30d",
		RunE: func(c *cobra.Command, _ []string) error {
			var out httpapi.MadeToken
			order := map[string]any{"for": what, "datasets": datasets}
			if c.Flags().Changed("role") {
				order["role"] = role
			}
			if expires != "" {
				n, err := seconds(expires)
				if err != nil {
					return wrongUsage{err}
				}
				order["expires_seconds"] = n
			}
			if err := a.client().Send(c.Context(), "POST", "/me/tokens", order, &out); err != nil {
				return err
			}
			a.println(out.Token)
			return nil
		}}
	own.Flags().StringVar(&role, "role", "", "reader, responder, editor or admin; one's own if left out")
	own.Flags().StringVar(&what, "for", "", "what it is for")
	own.Flags().StringSliceVar(&datasets, "datasets", nil, "datasets that it is for; all of one's own if left out")
	own.Flags().StringVar(&expires, "expires", "", "after so long it no longer signs in, as 90d; never if left out")
	make.Flags().StringVar(&role, "role", "editor", "reader, responder, editor or admin")
	make.Flags().StringVar(&what, "for", "", "what it is for")
	make.Flags().StringSliceVar(&datasets, "datasets", nil,
		"datasets that it is for: names, with * for any part, or tag:NAME; all of its account's if left out")
	make.Flags().StringVar(&expires, "expires", "", "after so long it no longer signs in, as 90d; never if left out")
	list := &cobra.Command{Use: "list", Short: "List the tokens there are; what they say is not kept",
		Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
			var tokens []record.Token
			if err := a.client().Get(c.Context(), "/tokens", nil, &tokens); err != nil {
				return err
			}
			l := listing{head: []string{"token", "of", "role", "in", "for", "made", "expires", "last used"}, right: []int{1},
				raw: tokens, none: "No token."}
			for _, t := range tokens {
				l.rows = append(l.rows, []string{fmt.Sprint(t.ID), t.Account, t.Role, everywhere(t.Datasets), orNone(t.For),
					a.local(t.CreatedAt, "UTC"), a.optional(t.ExpiresAt, "UTC", "never"), a.optional(t.UsedAt, "UTC", "never")})
			}
			return a.show(l)
		}}
	revoke := &cobra.Command{Use: "revoke ID", Short: "Take a token back: whoever has it is signed out at once",
		Args: exactly(1, "ID"), RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/tokens/"+args[0], nil, nil); err != nil {
				return err
			}
			a.say("Token %s is revoked.", args[0])
			return nil
		}}
	change := &cobra.Command{Use: "role NAME ROLE", Short: "Change what an account may do; its tokens say no more than that",
		Args: exactly(2, "NAME ROLE"), Example: "  tinbell token role 'Ines Vautrin' responder",
		RunE: func(c *cobra.Command, args []string) error {
			var account record.Account
			if err := a.client().Send(c.Context(), "PUT", "/accounts/"+url.PathEscape(args[0])+"/role",
				map[string]string{"role": args[1]}, &account); err != nil {
				return err
			}
			a.say("%s is %s.", account.Name, account.Role)
			return nil
		}}
	return group("token", "Tokens to sign in with, and what accounts may do", list, make, own, change, revoke)
}

func (a *app) secretCommand() *cobra.Command {
	rekey := &cobra.Command{Use: "rekey", Short: "Keep all secrets with a new key, without a stop", Args: exactly(0, "nothing"),
		Long: `Writes the logins of sources, passwords, signing secrets, headers and secret addresses
anew with a new key, all or none, and puts it in the place of secret.key. Processes that
share the directory take it by themselves; elsewhere copy the file. Links in messages that
were sent before work until the service starts again.`,
		RunE: func(c *cobra.Command, _ []string) error {
			var done httpapi.Rekeyed
			if err := a.client().Send(c.Context(), "POST", "/secrets/rekey", nil, &done); err != nil {
				return err
			}
			if shown, err := a.data(done); shown {
				return err
			}
			a.say("%s kept with a new key. Keep secret.key of the data directory elsewhere too: backups from now on need it.",
				words.Agree(done.Secrets, "secret is", "secrets are"))
			return nil
		}}
	return group("secret", "The key with which secrets are kept", rekey)
}
