package cli

import (
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/backup"
	"tinbell/internal/store"
)

func (a *app) partitionCommand() *cobra.Command {
	var database string
	var parts int
	c := &cobra.Command{Use: "partition", Short: "Lay the samples into parts, by a hash of their series", Args: cobra.NoArgs,
		Long: `Moves the samples into partitions by a hash of their series, so that the tables and
their indexes stay of a size that one server, or one node of a distributed database,
looks after easily; --parts 1 makes them whole again. Without --parts it says in how
many they lie. While rows move, a running service waits and tries again; when it
fails, everything is as it was.`,
		Example: "  tinbell partition\n  tinbell partition --parts 16\n  tinbell partition --parts 16 --database postgres://tinbell@db.internal/records",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.onRecords(c.Context(), database, false, func(o backup.Order) error {
				if c.Flags().Changed("parts") {
					began := time.Now()
					if err := store.Partition(c.Context(), o.Database, parts); err != nil {
						return err
					}
					a.say("Moved in %s.", time.Since(began).Round(10*time.Millisecond))
				}
				n, err := store.Parts(c.Context(), o.Database)
				if err != nil {
					return err
				}
				if n == 1 {
					a.printf("The samples lie whole.\n")
				} else {
					a.printf("The samples lie in %d parts.\n", n)
				}
				return nil
			})
		}}
	c.Flags().StringVar(&database, "database", "",
		"address of the database of records (TINBELL_DATABASE); the private one of --dir if left out")
	c.Flags().IntVar(&parts, "parts", 16, "how many; 1 is whole")
	return c
}
