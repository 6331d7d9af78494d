package logs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"tinbell/core/template"
	"tinbell/internal/collect/otlp"
	"tinbell/internal/record"
)

// Export counts the log records of an OTLP export: each service's are the log of its
// name. The same export sent again does not count again. It gives what was refused.
func (k *Keeper) Export(ctx context.Context, body []byte, json bool) (lines int64, refused []string, err error) {
	list, err := otlp.DecodeLogs(body, json)
	if err != nil {
		return 0, nil, record.Invalid{Field: "body", Given: "an export", Allowed: err.Error()}
	}
	sum := sha256.Sum256(body)
	source := fmt.Sprintf("export %x", sum[:12])
	r := reader{now: k.now()}
	by := map[string][]entry{}
	for _, l := range list {
		name := strings.ToLower(l.Service)
		text, _, _ := strings.Cut(strings.TrimSpace(l.Body), "\n") // of a trace the first line
		switch {
		case name == "":
			refused = append(refused, "a record without service.name")
			continue
		case strings.TrimSpace(text) == "":
			refused = append(refused, name+": a record that says nothing")
			continue
		case l.At.IsZero():
			l.At = r.now
		case !r.sane(l.At):
			refused = append(refused, fmt.Sprintf("%s: its time %s lies more than %s ahead, or more than 25 years back", name,
				l.At.Format("2006-01-02T15:04:05Z"), ahead))
			continue
		}
		e := entry{number: int64(len(by[name])) + 1, at: l.At, severity: template.SeverityOf(l.Severity), text: clean([]byte(text))}
		e.text = bytes.Clone(e.text[:min(len(e.text), longestLine)])
		e.attributes = l.Attributes
		by[name] = append(by[name], e)
	}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		log, err := k.store.Log(ctx, name)
		if missing := (record.NotFound{}); errors.As(err, &missing) {
			for range by[name] {
				refused = append(refused, fmt.Sprintf("there is no log %q: tinbell log add %s --dataset DATASET", name, name))
			}
			continue
		}
		if err != nil {
			return lines, refused, err
		}
		for i := range by[name] {
			e := &by[name][i]
			for _, attribute := range log.By {
				e.by = append(e.by, e.attributes[attribute])
			}
		}
		receipt, err := k.keep(ctx, log.ID, Order{Log: name, Source: source}, by[name])
		if err != nil {
			return lines, refused, err
		}
		lines += receipt.Lines
	}
	return lines, refused, nil
}

// Add makes a log before its first line comes.
func (k *Keeper) Add(ctx context.Context, name string, o Owner) (record.Log, error) {
	return k.log(ctx, Order{Log: name, Owner: o})
}
