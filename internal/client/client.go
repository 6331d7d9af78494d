// Package client speaks to a service over HTTP, with the same Go types the
// service answers with.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/record"
	"tinbell/internal/wire"
)

// Client is a connection to a service.
type Client struct {
	Server string // http://host:port
	Token  string
	Only   url.Values // what lists are narrowed to, by what, and how many of it
	http   http.Client
}

// New makes a client; requests may take as long as their context allows.
func New(server, token string) *Client {
	return &Client{Server: strings.TrimSuffix(server, "/"), Token: token}
}

// Refused is an answer other than success.
type Refused struct {
	Status int
	huma.ErrorModel
}

func (r *Refused) Error() string {
	text := r.Detail
	if text == "" {
		text = http.StatusText(r.Status)
	}
	for _, d := range r.Errors {
		if d.Location != "" && !strings.Contains(text, d.Message) {
			text += fmt.Sprintf("\n  %s: %s", strings.TrimPrefix(d.Location, "body."), d.Message)
			if d.Value != nil {
				text += fmt.Sprintf(" (given: %v)", d.Value)
			}
		}
	}
	return text
}

// Missing tells whether an error says that the thing asked for is not there.
func Missing(err error) bool {
	var refused *Refused
	return errors.As(err, &refused) && refused.Status == http.StatusNotFound
}

// Wrong tells whether an error says that what was given is not allowed.
func Wrong(err error) bool {
	var refused *Refused
	return errors.As(err, &refused) && (refused.Status == http.StatusUnprocessableEntity || refused.Status == http.StatusBadRequest)
}

// Get reads path into out.
func (c *Client) Get(ctx context.Context, path string, query url.Values, out any) error {
	if len(c.Only) > 0 {
		all := maps.Clone(c.Only)
		maps.Copy(all, query)
		query = all
	}
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return c.do(ctx, http.MethodGet, path, "", nil, out)
}

// Send sends a value as JSON with a method.
func (c *Client) Send(ctx context.Context, method, path string, in, out any) error {
	encoded, err := wire.Marshal(in)
	if err != nil {
		return err
	}
	return c.do(ctx, method, path, "application/json", bytes.NewReader(encoded), out)
}

// Stream sends a body of a media type as it is read.
func (c *Client) Stream(ctx context.Context, method, path, media string, body io.Reader, out any) error {
	return c.do(ctx, method, path, media, body, out)
}

// Export sends OTLP metrics as JSON.
func (c *Client) Export(ctx context.Context, body io.Reader) error {
	return c.send(ctx, http.MethodPost, "/v1/metrics", "application/json", body, nil)
}

func (c *Client) do(ctx context.Context, method, path, media string, body io.Reader, out any) error {
	return c.send(ctx, method, "/api/v1"+path, media, body, out)
}

func (c *Client) send(ctx context.Context, method, path, media string, body io.Reader, out any) error {
	request, err := http.NewRequestWithContext(ctx, method, c.Server+path, body)
	if err != nil {
		return err
	}
	if media != "" {
		request.Header.Set("Content-Type", media)
	}
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	response, err := c.http.Do(request)
	if err != nil {
		return fmt.Errorf("no answer from %s: %w; is 'tinbell serve' running there?", c.Server, err)
	}
	defer response.Body.Close()
	if response.StatusCode >= 300 {
		refused := &Refused{Status: response.StatusCode}
		json.NewDecoder(response.Body).Decode(&refused.ErrorModel)
		return refused
	}
	if out == nil || response.StatusCode == http.StatusNoContent {
		return nil
	}
	if to, plain := out.(io.Writer); plain {
		_, err := io.Copy(to, response.Body)
		return err
	}
	return json.NewDecoder(response.Body).Decode(out)
}

// Fetch copies what path answers.
func (c *Client) Fetch(ctx context.Context, path string, to io.Writer) error {
	return c.do(ctx, http.MethodGet, path, "", nil, to)
}

// Follow waits for a task, telling its progress.
func (c *Client) Follow(ctx context.Context, task int64, progress func(done, total int)) error {
	for {
		var t record.Task
		if err := c.Get(ctx, fmt.Sprintf("/tasks/%d", task), nil, &t); err != nil {
			return err
		}
		progress(t.Done, t.Total)
		switch t.State {
		case "done":
			return nil
		case "paused", "cancelled":
			return fmt.Errorf("%s of %s was %s: tinbell task resume %d", t.What, t.Subject, t.State, task)
		case "failed":
			return fmt.Errorf("%s of %s failed: %s", t.What, t.Subject, t.Message)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
