package people

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"
)

// KeyFrom says where the key for stored secrets is: in an environment variable, in what a
// command writes, or (the usual) in a file, which is made where there is none.
type KeyFrom struct {
	File     string
	Variable string // its value is the key in base64 or hex; empty: the file
	Command  string // run by the shell; empty: the file
}

// commandWithin is how long a command that gives a key may take.
const commandWithin = 30 * time.Second

// ErrNoKey is what a secret gives that cannot be read because the key is gone.
var ErrNoKey = errors.New("the key for stored secrets is gone: put secret.key back into the data directory, or give it by --key-variable or --key-command, and start again")

// OpenKey gives the safe that a key opens. Where the file is gone, though secrets have been
// kept with it (known), the safe opens nothing: no other key is made in its place.
func OpenKey(ctx context.Context, from KeyFrom, known bool) (safe *Safe, gone bool, err error) {
	switch {
	case from.Variable != "" && from.Command != "":
		return nil, false, errors.New("the key for stored secrets is given twice: by a variable and by a command")
	case from.Variable != "":
		safe, err = fixed("the variable "+from.Variable, os.Getenv(from.Variable))
		return safe, false, err
	case from.Command != "":
		text, err := said(ctx, from.Command)
		if err != nil {
			return nil, false, err
		}
		safe, err = fixed("what the key command wrote", text)
		return safe, false, err
	}
	if _, err := os.Stat(from.File); known && errors.Is(err, os.ErrNotExist) {
		if _, err := os.Stat(next(from.File)); errors.Is(err, os.ErrNotExist) {
			key := make([]byte, 32) // of nothing that was kept: what is signed with it ends with the process
			rand.Read(key)
			safe, err = safeOf(from.File, key)
			if err == nil {
				safe.lost = true
			}
			return safe, true, err
		}
	}
	safe, err = OpenSafe(from.File)
	return safe, false, err
}

// said runs a command and gives what it writes.
func said(ctx context.Context, command string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, commandWithin)
	defer cancel()
	run := exec.CommandContext(ctx, "/bin/sh", "-c", command)
	var out, wrong bytes.Buffer
	run.Stdout, run.Stderr = &out, &wrong
	if err := run.Run(); err != nil {
		return "", fmt.Errorf("the command that gives the key for stored secrets: %w: %s", err, strings.TrimSpace(wrong.String()))
	}
	return out.String(), nil
}

// fixed is a safe whose key is 32 bytes, given as text.
func fixed(where, text string) (*Safe, error) {
	text = strings.TrimSpace(text)
	for _, read := range []func(string) ([]byte, error){hex.DecodeString, base64.StdEncoding.DecodeString,
		base64.RawStdEncoding.DecodeString, base64.RawURLEncoding.DecodeString} {
		if key, err := read(text); err == nil && len(key) == 32 {
			return safeOf("", key)
		}
	}
	return nil, fmt.Errorf("%s is no key: 32 bytes in base64 or hex are needed, as 'openssl rand -base64 32' gives", where)
}
