package service_test

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tinbell/core/timeline"
	"tinbell/internal/backup"
	"tinbell/internal/client"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
	"tinbell/internal/service"
	"tinbell/internal/store"
)

// A backup that is written while samples come in is the state of one instant: restored into
// an empty database it is a service with the same records, whose secrets open and whose
// tokens sign in. One that is cut or altered, one for another key, and a database that is
// not empty are refused, and nothing is written.
func TestABackupIsTheSameServiceElsewhere(t *testing.T) {
	t.Parallel()
	folder := dbtest.Folder(t)
	s := dbtest.Start(t, now, func(o *service.Options) { o.Dir = folder })
	key := filepath.Join(folder, "secret.key")
	dbtest.Must(t, s.Admin.Send(t.Context(), "POST", "/sources", httpapi.NewSource{Name: "house", Address: s.NewDatabase(t)}, nil))
	told(t, s, "log=gates&dataset=raw.gates", "text/plain", loader(now.Add(-time.Hour), 30))
	stop := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				told(t, s, "log=gates", "text/plain", loader(now.Add(-time.Hour), 5))
			}
		}
	})
	var file bytes.Buffer
	m, err := backup.Write(t.Context(), &file, backup.Order{Database: s.Database, Key: key}, now)
	close(stop)
	wait.Wait()
	dbtest.Must(t, err)
	if bytes.Contains(file.Bytes(), []byte("tinbell:")) || m.Bytes == 0 || m.Key {
		t.Errorf("made: %+v", m)
	}
	whole := file.Bytes()
	elsewhere := s.NewDatabase(t)
	restore := func(text []byte, database, key string) error {
		_, err := backup.Restore(t.Context(), bytes.NewReader(text), backup.Order{Database: database, Key: key})
		return err
	}
	altered := bytes.Clone(whole)
	altered[len(altered)-3000] ^= 1
	other := filepath.Join(t.TempDir(), "secret.key")
	dbtest.Must(t, os.WriteFile(other, bytes.Repeat([]byte{7}, 32), 0o600))
	for what, c := range map[string]struct {
		text          []byte
		database, key string
		want          error
	}{
		"cut": {whole[:len(whole)/2], elsewhere, key, backup.ErrNoBackup}, "altered": {altered, elsewhere, key,
			backup.ErrNoBackup}, "no backup": {[]byte("nothing of the kind"), elsewhere, key, backup.ErrNoBackup},
		"another key": {whole, elsewhere, other, backup.ErrKey}, "not empty": {whole, s.Database, key, backup.ErrNotEmpty},
	} {
		if err := restore(c.text, c.database, c.key); !errors.Is(err, c.want) {
			t.Errorf("%s: %v", what, err)
		}
	}
	dbtest.Must(t, restore(whole, elsewhere, key))
	there, err := service.Start(t.Context(), service.Options{Dir: folder, Database: elsewhere, Listen: "127.0.0.1:0",
		SignIn: true, Now: s.Clock.Now, Log: s.Parts.Log})
	dbtest.Must(t, err)
	t.Cleanup(there.Stop)
	if there.FirstToken != "" {
		t.Error("it knows no administrator")
	}
	admin := client.New(there.Address, s.Token)
	var logs []record.Log
	dbtest.Must(t, admin.Get(t.Context(), "/logs", nil, &logs))
	var counted int64
	dbtest.Must(t, there.Parts.Store.DB.Get(&counted, `select sum(n) from log_count`))
	if len(logs) != 1 || logs[0].Lines < 90 || logs[0].Lines != counted {
		t.Errorf("%d lines by the log, %d by its counts: not of one instant", logs[0].Lines, counted)
	}
	dbtest.Must(t, admin.Get(t.Context(), "/sources/house/tables", nil, nil)) // its login opens
}

// Samples that lie in parts come back in parts, all of them, and are gone on with.
func TestABackupOfSamplesInPartsIsRestored(t *testing.T) {
	t.Parallel()
	folder := dbtest.Folder(t)
	s := dbtest.Start(t, now, func(o *service.Options) { o.Dir = folder })
	key := filepath.Join(folder, "secret.key")
	declared(t, s, collect.Declaration{Metric: "queue", Kind: timeline.Count, Period: "1h"}, nil)
	sent := pushed(t, s, samples("queue", "", now.AddDate(0, 0, -30), now, time.Hour, rush)).Accepted
	dbtest.Must(t, store.Partition(t.Context(), s.Database, 4))
	var file bytes.Buffer
	_, err := backup.Write(t.Context(), &file, backup.Order{Database: s.Database, Key: key}, now)
	dbtest.Must(t, err)
	elsewhere := s.NewDatabase(t)
	_, err = backup.Restore(t.Context(), &file, backup.Order{Database: elsewhere, Key: key})
	dbtest.Must(t, err)
	there, err := service.Start(t.Context(), service.Options{Dir: folder, Database: elsewhere, Listen: "127.0.0.1:0",
		SignIn: true, Now: s.Clock.Now, Log: s.Parts.Log})
	dbtest.Must(t, err)
	t.Cleanup(there.Stop)
	parts, err := store.Parts(t.Context(), elsewhere)
	dbtest.Must(t, err)
	m, err := there.Parts.Store.Metric(t.Context(), "queue")
	dbtest.Must(t, err)
	series, err := there.Parts.Store.SeriesOf(t.Context(), m.ID)
	dbtest.Must(t, err)
	list, err := there.Parts.Store.Samples(t.Context(), []int64{series[0].ID}, now.AddDate(-1, 0, 0), now)
	dbtest.Must(t, err)
	if got := list[series[0].ID]; parts != 4 || int64(len(got)) != sent || got[0].Value != rush(now.AddDate(0, 0, -30)) {
		t.Errorf("in %d parts %d samples came back of %d", parts, len(got), sent)
	}
}

// With its key a backup is restored where nothing was.
func TestABackupWithItsKeyNeedsNothingElse(t *testing.T) {
	t.Parallel()
	folder := dbtest.Folder(t)
	s := dbtest.Start(t, now, func(o *service.Options) { o.Dir = folder })
	var file bytes.Buffer
	key := filepath.Join(folder, "secret.key")
	_, err := backup.Write(t.Context(), &file, backup.Order{Database: s.Database, Key: key, WithKey: true}, now)
	dbtest.Must(t, err)
	anew := filepath.Join(t.TempDir(), "secret.key")
	_, err = backup.Restore(t.Context(), &file, backup.Order{Database: s.NewDatabase(t), Key: anew})
	dbtest.Must(t, err)
	before, err := os.ReadFile(key)
	dbtest.Must(t, err)
	after, err := os.ReadFile(anew)
	if err != nil || !bytes.Equal(before, after) {
		t.Errorf("the key: %v", err)
	}
	if info, err := os.Stat(anew); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("who may read it: %v", info.Mode())
	}
	_, err = backup.Write(t.Context(), io.Discard, backup.Order{Database: s.NewDatabase(t), Key: key}, now)
	if err == nil || !strings.Contains(err.Error(), "not the database of a service") {
		t.Errorf("another database: %v", err)
	}
}
