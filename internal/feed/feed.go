// Package feed keeps calendars that are fetched by address. What was fetched last stays
// in force while an address does not answer, or answers something that is no calendar.
package feed

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"tinbell/internal/calendar"
	"tinbell/internal/outward"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	usually     = 6 * time.Hour
	oftenest    = 5 * time.Minute
	answersSoon = time.Minute
	retryWithin = time.Hour
	mostRead    = 32 << 20
)

// Reader fetches calendars.
type Reader struct {
	store     *store.Store
	calendars *calendar.Desk
	safe      *people.Safe
	client    *http.Client
	now       func() time.Time
}

// New makes a reader that calls public addresses, and those allowed.
func New(s *store.Store, d *calendar.Desk, safe *people.Safe, allowed []netip.Prefix, now func() time.Time) *Reader {
	transport := &http.Transport{DialContext: outward.Guard(allowed).Dial, TLSHandshakeTimeout: 10 * time.Second,
		ResponseHeaderTimeout: 30 * time.Second, MaxResponseHeaderBytes: 64 << 10}
	return &Reader{s, d, safe, &http.Client{Transport: transport, Timeout: answersSoon}, now}
}

// Wanted is a calendar to be fetched by address.
type Wanted struct {
	Address      string        `json:"address" doc:"http or https, of an iCalendar file; kept encrypted"`
	EverySeconds int64         `json:"every_seconds,omitempty" minimum:"0" doc:"how often it is fetched; six hours if left out"`
	Dataset      string        `json:"dataset,omitempty" doc:"that events are for which name none; left out: all"`
	Effect       record.Effect `json:"effect,omitempty" enum:"mute,widen,leave out," doc:"mute if left out"`
}

// Follow fetches a calendar now and keeps its address, or says why it cannot be.
func (r *Reader) Follow(ctx context.Context, name string, w Wanted) (record.Feed, error) {
	v, err := r.wanted(name, w)
	if err != nil {
		return v, err
	}
	if v.ETag, err = r.read(ctx, v); err != nil {
		return v, unreadable(v, err)
	}
	return v, r.store.SetFeed(ctx, v)
}

// Try fetches a calendar once and keeps nothing.
func (r *Reader) Try(ctx context.Context, name string, w Wanted) error {
	v, err := r.wanted(name, w)
	if err != nil {
		return err
	}
	response, err := r.ask(ctx, v)
	if err != nil {
		return unreadable(v, err)
	}
	defer response.Body.Close()
	text, err := io.ReadAll(io.LimitReader(response.Body, mostRead))
	if err == nil {
		_, err = r.calendars.Read(&record.Calendar{Name: name, Dataset: v.Dataset, Effect: v.Effect, ICal: string(text)})
	}
	if err != nil {
		return unreadable(v, err)
	}
	return nil
}

// wanted checks what is asked for.
func (r *Reader) wanted(name string, w Wanted) (record.Feed, error) {
	address, err := url.Parse(strings.TrimSpace(w.Address))
	if err != nil || address.Scheme != "http" && address.Scheme != "https" || address.Host == "" {
		return record.Feed{}, record.Invalid{Field: "address", Given: hostOf(address), Allowed: "an http or https address"}
	}
	every := time.Duration(w.EverySeconds) * time.Second
	if every == 0 {
		every = usually
	}
	if every < oftenest {
		return record.Feed{}, record.Invalid{Field: "every", Given: every.String(), Allowed: oftenest.String() + " or longer"}
	}
	now := r.now().UTC()
	v := record.Feed{Calendar: name, Host: address.Host, Address: r.safe.Lock(address.String()), Dataset: w.Dataset,
		Effect: w.Effect, EverySeconds: int64(every / time.Second),
		FetchedAt: &now, NextAt: now.Add(every)}
	if v.Effect == "" {
		v.Effect = record.EffectMute
	}
	return v, nil
}

func unreadable(v record.Feed, err error) error {
	return record.Invalid{Field: "address", Given: v.Host, Allowed: "one that answers with an iCalendar file: " + err.Error()}
}

func hostOf(u *url.URL) string {
	if u == nil {
		return ""
	}
	return u.Host
}

// Due fetches the calendars whose time has come.
func (r *Reader) Due(ctx context.Context) error {
	feeds, err := r.store.Feeds(ctx)
	if err != nil {
		return err
	}
	var failed []error
	for _, v := range feeds {
		if !v.NextAt.After(r.now()) {
			_, err := r.Fetch(ctx, v.Calendar)
			failed = append(failed, err)
		}
	}
	return errors.Join(failed...)
}

// Fetch fetches a calendar now and gives what became of it; what is wrong with the
// address is its state and no failure of ours.
func (r *Reader) Fetch(ctx context.Context, name string) (record.Feed, error) {
	v, err := r.store.Feed(ctx, name)
	if err != nil {
		return v, err
	}
	now, every, why := r.now().UTC(), time.Duration(v.EverySeconds)*time.Second, ""
	etag, err := r.read(ctx, v)
	if ctx.Err() != nil {
		return v, ctx.Err()
	}
	if err != nil {
		why, every = err.Error(), min(every, retryWithin)
	} else {
		v.ETag = etag
	}
	if err := r.store.Fetched(ctx, v, why, now, now.Add(every)); err != nil {
		return v, err
	}
	return r.store.Feed(ctx, name)
}

// read asks for a calendar's file and puts its events in force, unless it is as it was.
func (r *Reader) read(ctx context.Context, v record.Feed) (etag string, err error) {
	response, err := r.ask(ctx, v)
	if err != nil {
		return "", err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNotModified {
		return v.ETag, nil
	}
	if _, err := r.calendars.Import(ctx, record.Calendar{Name: v.Calendar, Dataset: v.Dataset, Effect: v.Effect},
		response.Body, false); err != nil {
		return "", err
	}
	return response.Header.Get("ETag"), nil
}

// ask gets an answer with a file, or the word that the one there is is the newest.
func (r *Reader) ask(ctx context.Context, v record.Feed) (*http.Response, error) {
	address, err := r.safe.Unlock(v.Address)
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, errors.New("the address cannot be asked")
	}
	request.Header.Set("Accept", "text/calendar")
	if v.ETag != "" {
		request.Header.Set("If-None-Match", v.ETag)
	}
	response, err := r.client.Do(request)
	if err != nil {
		return nil, bare(err)
	}
	if response.StatusCode != http.StatusOK && (response.StatusCode != http.StatusNotModified || v.ETag == "") {
		response.Body.Close()
		return nil, fmt.Errorf("%s answered %s", v.Host, response.Status)
	}
	return response, nil
}

// bare is what went wrong, without the address, which is a secret.
func bare(err error) error {
	var at *url.Error
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}
