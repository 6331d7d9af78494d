package cli

import (
	"bufio"
	"errors"
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tinbell/internal/record"
	"tinbell/internal/words"
)

const limitsTold = "datasets that the role is for: names, with * for any part, or tag:NAME; all if left out"

func (a *app) accountCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the accounts there are: what they may, and how they sign in",
		Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
			var people []record.Person
			if err := a.client().Get(c.Context(), "/accounts", nil, &people); err != nil {
				return err
			}
			l := listing{head: []string{"account", "role", "in", "teams", "signs in by", "last seen"}, raw: people, none: "No account."}
			for _, p := range people {
				l.rows = append(l.rows, []string{p.Name, p.Role, everywhere(p.Datasets), orNone(strings.Join(p.Teams, ", ")),
					orNone(waysOf(p)), a.optional(p.UsedAt, "UTC", "never")})
			}
			return a.show(l)
		}}
	var role string
	var datasets []string
	put := &cobra.Command{Use: "put NAME", Short: "Say what an account may do, and make it if it is new", Args: exactly(1, "NAME"),
		Example: "  tinbell account put 'Maud Okonjo' --role responder\n  tinbell account put loader --role editor --datasets 'raw.*'",
		RunE: func(c *cobra.Command, args []string) error {
			var account record.Account
			if err := a.client().Send(c.Context(), "PUT", "/accounts/"+url.PathEscape(args[0]),
				map[string]any{"role": role, "datasets": datasets}, &account); err != nil {
				return err
			}
			a.say("%s is %s in %s. Give a password with 'tinbell account password', or a token with 'tinbell token make'.",
				args[0], role, everywhere(datasets))
			return nil
		}}
	put.Flags().StringVar(&role, "role", "reader", "reader, responder, editor, admin, or none: what its teams give")
	put.Flags().StringSliceVar(&datasets, "datasets", nil, limitsTold)
	var without bool
	password := &cobra.Command{Use: "password NAME",
		Short: "Give an account a password, asked for or read from standard input; its browsers are signed out", Args: exactly(1, "NAME"),
		RunE: func(c *cobra.Command, args []string) error {
			text := ""
			if !without {
				var err error
				if text, err = a.asked("Password of " + args[0] + ": "); err != nil {
					return err
				}
			}
			if err := a.client().Send(c.Context(), "PUT", "/accounts/"+url.PathEscape(args[0])+"/password",
				map[string]string{"password": text}, nil); err != nil {
				return err
			}
			a.say("%s.", map[bool]string{false: args[0] + " signs in with the new password",
				true: args[0] + " has no password any more"}[without])
			return nil
		}}
	password.Flags().BoolVar(&without, "none", false, "take the password away")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an account with its tokens; the last administrator stays",
		Args: exactly(1, "NAME"), RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/accounts/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("%s is removed.", args[0])
			return nil
		}}
	return group("account", "People and programs: what they may, and their passwords", list, put, password, remove)
}

func (a *app) teamCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List the teams there are: what they give, and to whom",
		Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
			var teams []record.Team
			if err := a.client().Get(c.Context(), "/teams", nil, &teams); err != nil {
				return err
			}
			l := listing{head: []string{"team", "role", "in", "members"}, raw: teams, none: "No team."}
			for _, t := range teams {
				l.rows = append(l.rows, []string{t.Name, t.Role, everywhere(t.Datasets), orNone(strings.Join(t.Members, ", "))})
			}
			return a.show(l)
		}}
	var role string
	var datasets, members []string
	set := &cobra.Command{Use: "set NAME", Short: "Keep a team as it is given, with its members", Args: exactly(1, "NAME"),
		Example: "  tinbell team set harbour --role editor --datasets tag:harbour --members 'Ines Vautrin,Maud Okonjo'",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "PUT", "/teams/"+url.PathEscape(args[0]),
				map[string]any{"role": role, "datasets": datasets, "members": members}, nil); err != nil {
				return err
			}
			a.say("%s gives the role %s in %s to %s.", args[0], role, everywhere(datasets), words.Plural(len(members), "account"))
			return nil
		}}
	set.Flags().StringVar(&role, "role", "responder", "reader, responder, editor or admin")
	set.Flags().StringSliceVar(&datasets, "datasets", nil, limitsTold)
	set.Flags().StringSliceVar(&members, "members", nil, "names of accounts; nobody if left out")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove a team; its members keep what they have otherwise",
		Args: exactly(1, "NAME"), RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().Send(c.Context(), "DELETE", "/teams/"+url.PathEscape(args[0]), nil, nil); err != nil {
				return err
			}
			a.say("%s is removed.", args[0])
			return nil
		}}
	return group("team", "Teams, which give their members a role", list, set, remove)
}

func (a *app) sessionCommand() *cobra.Command {
	var all bool
	list := &cobra.Command{Use: "list", Short: "List the browsers that are signed in: one's own, or with --all everybody's",
		Args: exactly(0, "nothing"), RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{}
			if all {
				q.Set("all", "true")
			}
			var sessions []record.Session
			if err := a.client().Get(c.Context(), "/sessions", q, &sessions); err != nil {
				return err
			}
			l := listing{head: []string{"session", "of", "by", "from", "browser", "signed in", "last used"}, right: []int{1},
				raw: sessions, none: "No browser is signed in."}
			for _, s := range sessions {
				l.rows = append(l.rows, []string{fmt.Sprint(s.ID), s.Account, s.By, s.Origin, orNone(s.Agent),
					a.local(s.CreatedAt, "UTC"), a.local(s.UsedAt, "UTC")})
			}
			return a.show(l)
		}}
	list.Flags().BoolVar(&all, "all", false, "of all accounts; for administrators")
	end := &cobra.Command{Use: "end [ID]", Short: "Sign a browser out; without an ID all of one's own",
		Args: cobra.MaximumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
			path, told := "/sessions", "All your browsers are signed out."
			if len(args) == 1 {
				path, told = "/sessions/"+url.PathEscape(args[0]), "Session "+args[0]+" is signed out."
			}
			if err := a.client().Send(c.Context(), "DELETE", path, nil, nil); err != nil {
				return err
			}
			a.say("%s", told)
			return nil
		}}
	return group("session", "Browsers that are signed in", list, end)
}

// everywhere says where a role is for.
func everywhere(datasets []string) string {
	if len(datasets) == 0 {
		return "all datasets"
	}
	return strings.Join(datasets, ", ")
}

// waysOf says how somebody signs in.
func waysOf(p record.Person) string {
	var ways []string
	if p.Password {
		ways = append(ways, "password")
	}
	if p.Provider {
		ways = append(ways, "provider")
	}
	if p.Tokens > 0 {
		ways = append(ways, words.Plural(p.Tokens, "token"))
	}
	return strings.Join(ways, ", ")
}

// asked asks for a secret without showing it, or reads the first line of what is piped in.
func (a *app) asked(prompt string) (string, error) {
	if term.IsTerminal(int(os.Stdin.Fd())) {
		fmt.Fprint(a.errors, prompt)
		text, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(a.errors)
		return string(text), err
	}
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if text := strings.TrimRight(line, "\r\n"); text != "" {
		return text, nil
	}
	if err == nil {
		err = errors.New("nothing on standard input")
	}
	return "", wrongUsage{fmt.Errorf("no password was given: %w; pipe it in, or use --none", err)}
}
