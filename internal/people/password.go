package people

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/argon2id"

	"tinbell/internal/record"
)

const (
	shortestPassword, longestPassword = 12, 200

	hashedAtOnce = 4 // each takes 19 MB
	freeTries    = 5 // under a name from an address, until one has to wait
	shortestWait = 10 * time.Second
	longestWait  = 15 * time.Minute
	triesHere    = 50  // from an address in an hour, under any names
	triesNamed   = 100 // under a name in an hour; then only from where it has signed in before
)

// ofPasswords is what a password costs to look at (OWASP's second choice for argon2id).
var ofPasswords = &argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// nobodys is looked at where an account has no password, so that it takes as long.
var nobodys = sync.OnceValue(func() string {
	kept, err := argon2id.CreateHash("of nobody", ofPasswords)
	if err != nil {
		panic(err) // only of parameters that are none
	}
	return kept
})

// ErrPassword is what a wrong name or password gives; which of them is not said.
var ErrPassword = errors.New("name or password is wrong")

// Wait says that somebody has to wait before the next try.
type Wait struct{ For time.Duration }

func (w Wait) Error() string {
	return fmt.Sprintf("too many tries: the next one is possible in %s; signing in with a token, or from where you have signed in before, is not held up by it", w.For.Round(time.Second))
}

// checkPassword refuses what is easily guessed: length counts, not which signs there are
// (NIST SP 800-63B).
func checkPassword(name, password string) error {
	n := len([]rune(password))
	folded := strings.ToLower(password)
	switch {
	case n < shortestPassword || n > longestPassword:
		return record.Invalid{Field: "password", Given: fmt.Sprintf("%d characters", n),
			Allowed: fmt.Sprintf("%d to %d characters", shortestPassword, longestPassword)}
	case strings.Contains(folded, strings.ToLower(name)), strings.Contains(folded, "tin bell"),
		strings.Contains(folded, "tinbell"), strings.Contains(folded, "password"), fewSigns(password):
		return record.Invalid{Field: "password", Given: "one that is easily guessed",
			Allowed: "without the account's name, the service's or the word password in it, and of at least five different characters"}
	}
	return nil
}

func fewSigns(text string) bool {
	signs := map[rune]bool{}
	for _, r := range text {
		signs[r] = true
	}
	return len(signs) < 5
}

// SetPassword gives an account a password, or (empty) takes it away, and signs out its
// browsers.
func (d *Desk) SetPassword(ctx context.Context, name, password string) error {
	account, _, err := d.store.Password(ctx, name)
	if err != nil {
		return err
	}
	return d.keepPassword(ctx, account, password, 0)
}

// ChangePassword has somebody change the own password: the one before must be given where
// there is one. All browsers are signed out but the one that asks.
func (d *Desk) ChangePassword(ctx context.Context, who Who, before, password, origin string) error {
	if who.Less {
		return ErrLess // else a token for a screen would open the whole account
	}
	account, kept, err := d.store.Password(ctx, who.Name)
	if err != nil {
		return err
	}
	if kept != "" {
		if err := d.compare(ctx, account.Name, origin, before, kept); err != nil {
			return err
		}
	}
	return d.keepPassword(ctx, account, password, who.Session)
}

func (d *Desk) keepPassword(ctx context.Context, account record.Account, password string, but int64) error {
	kept := ""
	if password != "" {
		if err := checkPassword(account.Name, password); err != nil {
			return err
		}
		var err error
		if kept, err = argon2id.CreateHash(password, ofPasswords); err != nil {
			return fmt.Errorf("keep password: %w", err)
		}
	}
	return d.store.SetPassword(ctx, account.ID, kept, but)
}

// ByPassword signs somebody in by name and password. Wrong tries make waiting longer for
// that name from that address, and for that address; for a name from everywhere only where
// it has never signed in from, so that nobody can keep anybody else out.
func (d *Desk) ByPassword(ctx context.Context, name, password string, from Browser) (record.Account, string, error) {
	account, kept, err := d.store.Password(ctx, name)
	if err != nil && !errors.As(err, new(record.NotFound)) {
		return account, "", err
	}
	if err := d.compare(ctx, name, from.Origin, password, kept); err != nil {
		return account, "", err
	}
	secret, err := d.enter(ctx, account, 0, "password", from)
	return capped(account, "", nil), secret, err
}

// compare looks whether a password is the one that is kept, and keeps how it ended.
func (d *Desk) compare(ctx context.Context, name, origin, password, kept string) error {
	origin = network(origin)
	if len(name) > 200 || len(password) > 4*longestPassword {
		return ErrPassword
	}
	now := d.now().UTC()
	tries, err := d.store.TriesOf(ctx, name, origin, now)
	if err != nil {
		return err
	}
	wait := time.Duration(0)
	if tries.Failed >= freeTries && tries.FailedAt != nil {
		wait = min(shortestWait<<min(tries.Failed-freeTries, 10), longestWait) - now.Sub(*tries.FailedAt)
	}
	known := tries.WentAt != nil && now.Sub(*tries.WentAt) < 90*24*time.Hour
	if tries.Here >= triesHere && !known || tries.Named >= triesNamed && !known {
		wait = max(wait, longestWait)
	}
	if wait > 0 {
		return Wait{wait}
	}
	select {
	case d.hashing <- struct{}{}:
		defer func() { <-d.hashing }()
	case <-ctx.Done():
		return ctx.Err()
	}
	against := kept
	if against == "" {
		against = nobodys()
	}
	fits, err := argon2id.ComparePasswordAndHash(password, against)
	if err != nil {
		return fmt.Errorf("compare password: %w", err)
	}
	fits = fits && kept != ""
	if err := d.store.Tried(ctx, name, origin, fits, now); err != nil {
		return err
	}
	if !fits {
		return ErrPassword
	}
	return nil
}

// network is what tries are counted by: an address, of IPv6 the half that a network has.
func network(origin string) string {
	a, err := netip.ParseAddr(origin)
	if err != nil {
		return origin
	}
	if a = a.Unmap(); a.Is6() {
		if p, err := a.Prefix(64); err == nil {
			return p.String()
		}
	}
	return a.String()
}
