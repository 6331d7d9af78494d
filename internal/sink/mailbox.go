// Package sink holds stand-ins for the services that messages go to: an SMTP
// server and a webhook receiver that keep what they get in a folder, to be read.
// They are for trying things out and ship with the demo.
package sink

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Letter is one message as a stand-in got it.
type Letter struct {
	ID        int       `json:"id"`
	At        time.Time `json:"at"`
	Through   string    `json:"through" enum:"email,webhook"`
	Key       string    `json:"key" doc:"Message-ID, or webhook-id: the same in every attempt"`
	Times     int       `json:"times" doc:"how often it came under this key"`
	From      string    `json:"from"`
	To        string    `json:"to" doc:"addresses, or the path of a webhook"`
	Subject   string    `json:"subject"`
	Text      string    `json:"text" doc:"of an e-mail its plain text, of a webhook its body"`
	HTML      string    `json:"html"`
	Picture   []byte    `json:"picture" doc:"PNG that the HTML shows"`
	Signature string    `json:"signature" enum:"valid,wrong,none,not checked," doc:"of a webhook"`
}

// Mailbox keeps letters, each in a file of its own.
type Mailbox struct {
	dir string

	mu      sync.Mutex
	letters []Letter
	secrets map[string]string // signing secrets by webhook path
}

// Open reads the mailbox in a folder, or makes one there.
func Open(dir string) (*Mailbox, error) {
	m := &Mailbox{dir: dir, secrets: map[string]string{}}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("make mailbox: %w", err)
	}
	files, err := filepath.Glob(filepath.Join(dir, "letter-*.json"))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		content, err := os.ReadFile(file)
		var l Letter
		if err == nil {
			err = json.Unmarshal(content, &l)
		}
		if err != nil {
			return nil, fmt.Errorf("read letter %s: %w", file, err)
		}
		m.letters = append(m.letters, l)
	}
	slices.SortFunc(m.letters, func(a, b Letter) int { return cmp.Compare(a.ID, b.ID) })
	if content, err := os.ReadFile(m.secretFile()); err == nil {
		if err := json.Unmarshal(content, &m.secrets); err != nil {
			return nil, fmt.Errorf("read secrets of the mailbox: %w", err)
		}
	}
	return m, nil
}

func (m *Mailbox) secretFile() string { return filepath.Join(m.dir, "secrets.json") }

// Expect tells which secret the webhooks of a path are signed with.
func (m *Mailbox) Expect(path, secret string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.secrets[path] = secret
	content, err := json.Marshal(m.secrets)
	if err != nil {
		return err
	}
	return os.WriteFile(m.secretFile(), content, 0o600)
}

// Close has the stand-ins of a folder refuse everything, as if they were down,
// whichever process they run in; Reopen ends that.
func Close(dir string) error { return os.WriteFile(filepath.Join(dir, closedFile), nil, 0o600) }

// Reopen has them take messages again.
func Reopen(dir string) error {
	if err := os.Remove(filepath.Join(dir, closedFile)); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

const closedFile = "closed"

// Closed tells whether the stand-ins refuse everything.
func (m *Mailbox) Closed() bool {
	_, err := os.Stat(filepath.Join(m.dir, closedFile))
	return err == nil
}

// keep adds a letter; one that came before under its key counts once more.
func (m *Mailbox) keep(l Letter) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	i := slices.IndexFunc(m.letters, func(x Letter) bool { return x.Key == l.Key && x.Through == l.Through && l.Key != "" })
	if i < 0 {
		l.ID, l.Times = len(m.letters)+1, 1
		m.letters = append(m.letters, l)
		i = len(m.letters) - 1
	} else {
		m.letters[i].Times++
	}
	content, err := json.Marshal(m.letters[i])
	if err != nil {
		return err
	}
	file := filepath.Join(m.dir, fmt.Sprintf("letter-%06d.json", m.letters[i].ID))
	if err := os.WriteFile(file+".new", content, 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// Letters gives what came, newest first, at most so many.
func (m *Mailbox) Letters(limit int) []Letter {
	m.mu.Lock()
	defer m.mu.Unlock()
	list := slices.Clone(m.letters)
	slices.Reverse(list)
	return list[:min(limit, len(list))]
}

// Letter gives one letter.
func (m *Mailbox) Letter(id int) (Letter, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if id < 1 || id > len(m.letters) {
		return Letter{}, false
	}
	return m.letters[id-1], true
}

// WithPicture is the letter's HTML with its picture in it, so that it shows
// anywhere.
func (l Letter) WithPicture() string {
	return strings.ReplaceAll(l.HTML, "cid:chart.png", "data:image/png;base64,"+base64.StdEncoding.EncodeToString(l.Picture))
}
