package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"tinbell/internal/backup"
	"tinbell/internal/localpg"
	"tinbell/internal/words"
)

// onRecords does something with the database of records: the one that is named, or the
// private one of the data directory, which is started for it where it does not run.
func (a *app) onRecords(ctx context.Context, database string, fresh bool, do func(backup.Order) error) error {
	dir := or(a.dir, ".tinbell")
	o := backup.Order{Database: or(database, os.Getenv("TINBELL_DATABASE")), Key: filepath.Join(dir, "secret.key")}
	if o.Database != "" {
		return do(o)
	}
	home := filepath.Join(dir, "postgres")
	if _, err := os.Stat(home); !fresh && errors.Is(err, fs.ErrNotExist) {
		return missingFile{fmt.Errorf("%s: there is no private database; name one with --database, or its directory with --dir", home)}
	}
	if address, ok := localpg.Running(ctx, home, records); ok {
		o.Database = address
		return do(o)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	server, err := localpg.Start(ctx, localpg.Options{Dir: home})
	if err != nil {
		return err
	}
	defer server.Stop()
	if _, err := server.EnsureDatabase(ctx, records); err != nil {
		return err
	}
	o.Database = server.URL(records)
	return do(o)
}

// records is the database of a private service.
const records = "tinbell_records"

func (a *app) backupCommand() *cobra.Command {
	var database string
	var withKey bool
	c := &cobra.Command{Use: "backup FILE", Short: "Write all records of a service to a file, also while it runs", Args: exactly(1, "FILE"),
		Long: `Writes the state of one instant. Secrets stay encrypted in it: the key of them,
secret.key of the data directory, is kept elsewhere, or goes along with --with-key.`,
		Example: "  tinbell backup tinbell.backup\n  tinbell backup tinbell.backup --database postgres://tinbell@db.internal/records",
		RunE: func(c *cobra.Command, args []string) error {
			return a.onRecords(c.Context(), database, false, func(o backup.Order) error {
				o.WithKey = withKey
				file, err := os.OpenFile(args[0], os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
				if errors.Is(err, fs.ErrExist) {
					return wrongUsage{fmt.Errorf("%s is there already: another is not written over it", args[0])}
				}
				if err != nil {
					return err
				}
				m, err := backup.Write(c.Context(), file, o, time.Now())
				if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
					return errors.Join(err, os.Remove(args[0]))
				}
				a.say("%s holds %s of records, of %s.", args[0], words.Bytes(float64(m.Bytes)), m.MadeAt.Format(time.RFC3339))
				if !withKey {
					a.say("Its secrets are encrypted: keep %s too, elsewhere.", o.Key)
				}
				return nil
			})
		}}
	c.Flags().StringVar(&database, "database", "",
		"address of the database of records (TINBELL_DATABASE); the private one of --dir if left out")
	c.Flags().BoolVar(&withKey, "with-key", false, "put the key of the secrets in too: whoever has the file can then read them")
	return c
}

func (a *app) restoreCommand() *cobra.Command {
	var database string
	c := &cobra.Command{Use: "restore FILE", Short: "Put a backup into an empty database, all or nothing", Args: exactly(1, "FILE"),
		Example: "  tinbell restore tinbell.backup --dir anew\n  tinbell restore tinbell.backup --database postgres://tinbell@db.internal/empty",
		RunE: func(c *cobra.Command, args []string) error {
			file, err := os.Open(args[0])
			if err != nil {
				return err
			}
			defer file.Close()
			return a.onRecords(c.Context(), database, true, func(o backup.Order) error {
				m, err := backup.Restore(c.Context(), file, o)
				if err != nil {
					return err
				}
				a.say("Restored are the records of %s.", m.MadeAt.Format(time.RFC3339))
				if _, err := os.Stat(o.Key); errors.Is(err, fs.ErrNotExist) {
					a.say("Put the key of its secrets to %s before the service starts.", o.Key)
				}
				return nil
			})
		}}
	c.Flags().StringVar(&database, "database", "", "address of an empty database (TINBELL_DATABASE); the private one of --dir if left out")
	return c
}
