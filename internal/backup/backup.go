// Package backup writes all records of a service to one file, while it runs, and puts them
// back into an empty database. Secrets stay encrypted in it.
package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/localpg"
	"tinbell/internal/people"
)

// Manifest says what a backup holds.
type Manifest struct {
	Format      string    `json:"format"`
	MadeAt      time.Time `json:"made_at"`
	Version     int64     `json:"version"`     // of the tables
	Server      string    `json:"server"`      // version of PostgreSQL
	Fingerprint string    `json:"fingerprint"` // of the key of its secrets
	Digest      string    `json:"digest"`      // SHA-256 of the records
	Bytes       int64     `json:"bytes"`
	Key         bool      `json:"key"` // whether the key of its secrets is in it
}

const (
	format  = "tinbell backup 1"
	records = "records.dump"
	about   = "manifest.json"
	keyFile = "secret.key"
)

// Errors of restoring.
var (
	ErrNoBackup = errors.New("this is no backup, or not all of one")
	ErrNotEmpty = errors.New("there are records in that database already: a backup is restored into an empty one")
	ErrKey      = errors.New("the key there is not the one of the backup's secrets: restore where there is no secret.key, or put the right one there")
)

// Order says what is backed up, or where it is put back.
type Order struct {
	Database string // its address
	Key      string // path of the key of its secrets
	WithKey  bool   // whether the key goes into the backup
}

// Write writes a backup: the state of one instant, whatever is written meanwhile.
func Write(ctx context.Context, to io.Writer, o Order, now time.Time) (m Manifest, err error) {
	m = Manifest{Format: format, MadeAt: now.UTC().Truncate(time.Second), Key: o.WithKey}
	conn, err := pgx.Connect(ctx, o.Database)
	if err != nil {
		return m, fmt.Errorf("the database does not answer: %w", err)
	}
	defer conn.Close(ctx)
	var mark []byte
	err = conn.QueryRow(ctx, `select (select max(version_id) from goose_db_version where is_applied), current_setting('server_version'), coalesce((select fingerprint from secret_key), ''::bytea)`).Scan(&m.Version, &m.Server, &mark)
	if err != nil {
		return m, fmt.Errorf("this is not the database of a service: %w", err)
	}
	m.Fingerprint = hex.EncodeToString(mark)
	key, err := os.ReadFile(o.Key)
	if o.WithKey && err != nil {
		return m, fmt.Errorf("the key that is to go along: %w", err)
	}
	dump, err := os.CreateTemp("", "tinbell-backup-*")
	if err != nil {
		return m, err
	}
	defer os.Remove(dump.Name())
	defer dump.Close()
	sum := sha256.New()
	if err := program(ctx, "pg_dump", o.Database, io.MultiWriter(dump, sum), nil, "--format=custom", "--no-owner",
		"--no-privileges"); err != nil {
		return m, err
	}
	m.Digest = hex.EncodeToString(sum.Sum(nil))
	if m.Bytes, err = dump.Seek(0, io.SeekCurrent); err != nil {
		return m, err
	}
	if _, err := dump.Seek(0, io.SeekStart); err != nil {
		return m, err
	}
	out := tar.NewWriter(to)
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	put := func(name string, size int64, from io.Reader) error {
		if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: size, ModTime: m.MadeAt}); err != nil {
			return err
		}
		_, err := io.Copy(out, from)
		return err
	}
	if err := put(about, int64(len(text)), bytes.NewReader(text)); err != nil {
		return m, err
	}
	if o.WithKey {
		if err := put(keyFile, int64(len(key)), bytes.NewReader(key)); err != nil {
			return m, err
		}
	}
	if err := put(records, m.Bytes, dump); err != nil {
		return m, err
	}
	return m, out.Close()
}

// Restore puts a backup into an empty database, all or nothing. The key of its secrets is
// written to its place where the backup has it and none is there; one that is there must be
// theirs.
func Restore(ctx context.Context, from io.Reader, o Order) (m Manifest, err error) {
	in := tar.NewReader(from)
	head, err := in.Next()
	if err != nil || head.Name != about || head.Size > 1<<20 {
		return m, ErrNoBackup
	}
	if err := json.NewDecoder(in).Decode(&m); err != nil || m.Format != format {
		return m, ErrNoBackup
	}
	var key []byte
	head, err = in.Next()
	if err == nil && head.Name == keyFile && head.Size < 1<<10 {
		if key, err = io.ReadAll(in); err == nil {
			head, err = in.Next()
		}
	}
	if err != nil || head.Name != records {
		return m, ErrNoBackup
	}
	if err := fits(o.Key, m); err != nil {
		return m, err
	}
	if err := empty(ctx, o.Database); err != nil {
		return m, err
	}
	dump, err := os.CreateTemp("", "tinbell-restore-*")
	if err != nil {
		return m, err
	}
	defer os.Remove(dump.Name())
	defer dump.Close()
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(dump, sum), in)
	if err != nil || n != m.Bytes || hex.EncodeToString(sum.Sum(nil)) != m.Digest {
		return m, fmt.Errorf("%w: its records are not those that were written", ErrNoBackup)
	}
	if _, err := dump.Seek(0, io.SeekStart); err != nil {
		return m, err
	}
	if err := program(ctx, "pg_restore", o.Database, nil, dump, "--no-owner", "--no-privileges", "--exit-on-error",
		"--single-transaction"); err != nil {
		return m, err
	}
	if _, err := os.Stat(o.Key); key != nil && errors.Is(err, os.ErrNotExist) {
		return m, os.WriteFile(o.Key, key, 0o600)
	}
	return m, nil
}

// fits tells whether the key that is there, if there is one, is that of a backup's secrets.
func fits(path string, m Manifest) error {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) || m.Fingerprint == "" {
		return nil
	}
	safe, err := people.OpenSafe(path)
	if err != nil {
		return err
	}
	if hex.EncodeToString(safe.Fingerprint()) != m.Fingerprint {
		return fmt.Errorf("%s: %w", path, ErrKey)
	}
	return nil
}

func empty(ctx context.Context, database string) error {
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return fmt.Errorf("the database does not answer: %w", err)
	}
	defer conn.Close(ctx)
	var tables int
	if err := conn.QueryRow(ctx, `select count(*) from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname = 'public' and c.relkind in ('r', 'p')`).Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return ErrNotEmpty
	}
	return nil
}

// program runs one of PostgreSQL's programs on a database; its password goes by the
// environment, where no list of processes shows it.
func program(ctx context.Context, name, database string, out io.Writer, in io.Reader, options ...string) error {
	folder, err := localpg.Programs()
	if err != nil {
		return err
	}
	at, err := url.Parse(database)
	if err != nil {
		return errors.New("the address of the database cannot be read")
	}
	password, _ := at.User.Password()
	at.User = url.User(at.User.Username())
	c := exec.CommandContext(ctx, filepath.Join(folder, name), append(options, "--dbname="+at.String())...)
	c.Env = append(os.Environ(), "PGPASSWORD="+password)
	c.Stdout, c.Stdin = out, in
	var said bytes.Buffer
	c.Stderr = &said
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.Join(strings.Fields(said.String()), " "))
	}
	return nil
}
