package cli

import (
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

func (a *app) auditCommand() *cobra.Command {
	var limit int
	var s overStretch
	var who, what, about string
	c := &cobra.Command{Use: "audit", Short: "Who did what, from where, newest first", Args: exactly(0, "nothing"),
		Long: `Every change is kept with who made it, from which address, what was there before and after
(secrets masked), and so is looking at rows. Entries are added and never changed: each is
sealed with the one before it, which audit verify computes anew. --output json has what was
there before and after.`,
		Example: "  tinbell audit --who 'Ines Vautrin' --since 7d\n  tinbell audit --about monitors/ --output json\n  tinbell audit verify",
		RunE: func(c *cobra.Command, _ []string) error {
			q := url.Values{"limit": {fmt.Sprint(limit)}, "who": {who}, "what": {what}, "about": {about}}
			if err := s.ask(q); err != nil {
				return err
			}
			var entries []record.Audit
			if err := a.client().Get(c.Context(), "/audit", q, &entries); err != nil {
				return err
			}
			l := listing{head: []string{"at", "who", "role", "what", "of", "from", "which"}, raw: entries, none: "Nothing yet.",
				keep: []string{"at", "who", "what", "of"}}
			for _, x := range entries {
				l.rows = append(l.rows, []string{a.local(x.At, "UTC"), x.Who, orNone(x.Role), x.What, x.About, orNone(x.Origin), x.Note})
			}
			return a.show(l)
		}}
	s.bind(c, "")
	c.Flags().IntVar(&limit, "limit", 100, "at most so many")
	c.Flags().StringVar(&who, "who", "", "of this account alone")
	c.Flags().StringVar(&what, "what", "", "with this in what was done")
	c.Flags().StringVar(&about, "about", "", "with this in what it was done to")
	c.AddCommand(a.auditVerify())
	return c
}

// errTampered is a trail that is not as it was written.
var errTampered = errors.New("the audit trail is not as it was written")

func (a *app) auditVerify() *cobra.Command {
	return &cobra.Command{Use: "verify", Short: "Compute the seals of the audit trail anew: is it as it was written?",
		Args: exactly(0, "nothing"),
		RunE: func(c *cobra.Command, _ []string) error {
			var p store.Proof
			if err := a.client().Get(c.Context(), "/audit/proof", nil, &p); err != nil {
				return err
			}
			if done, err := a.data(p); done {
				return err
			}
			if p.Broken > 0 {
				return fmt.Errorf("%w: entry %d does not follow from the one before it", errTampered, p.Broken)
			}
			a.say("The audit trail is as it was written: each of %s follows from the one before it, up to entry %d.",
				words.Agree(int(p.Entries), "sealed entry", "sealed entries"), p.Last)
			a.say("Its seal is %s: kept elsewhere, it proves later that nothing was cut off.", hex.EncodeToString(p.Seal))
			return nil
		}}
}
