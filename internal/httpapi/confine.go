package httpapi

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"tinbell/internal/collect"
	"tinbell/internal/people"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Accounts may be limited to some datasets. What they ask is looked through here, before and
// after: a request may be about those datasets alone, and of an answer what is about others
// is taken out. What is about no dataset, or about all of them, is not for them, but for
// what is named below.

// forAnybody are operations about nothing that belongs to a dataset, or about who asks.
var forAnybody = map[string]bool{
	"me": true, "ways-in": true, "sign-in": true, "sign-out": true, "my-sessions": true, "sign-out-everywhere": true, "end-session": true, "change-password": true, "my-tokens": true, "make-my-token": true, "revoke-my-token": true,
	"events": true, "measures": true, "countries": true, "config-schema": true, "check-template": true,
}

// listsDatasets are lists that say in another way which dataset a record is about.
var listsDatasets = map[string]bool{"datasets": true, "alerts": true, "groups": true, "label-queue": true}

// byPath are the kinds of things that addresses name.
var byPath = map[string]string{
	"datasets": "dataset", "metrics": "metric", "monitors": "monitor", "series": "series", "alerts": "alert", "groups": "group", "incidents": "incident", "slas": "sla", "drift": "comparison",
	"stretches": "stretch", "proposals": "proposal", "notes": "note", "logs": "log", "reconciliations": "reconciliation",
}

// byField are the kinds of things that parameters and bodies name.
var byField = map[string]string{
	"dataset": "dataset", "also": "dataset", "metric": "metric", "metrics": "metric", "monitor": "monitor", "monitors": "monitor", "series": "series", "series_id": "series",
	"job": "elsewhere", "service": "elsewhere", // by which the lineage finds a dataset
	"alert": "alert", "alerts": "alert", "alert_id": "alert", "group": "group", "comparison": "comparison", "log": "log", "upstream": "metric", "downstream": "metric", "into": "incident",
}

// confined are a request's limits.
type confined struct {
	*server
	operation, path, needed string
	who                     record.Account
	hidden                  *strings.Replacer // names of datasets that are not for who asks
	names                   map[string]bool
}

type confinedKey struct{}

func confinedTo(ctx context.Context) *confined {
	c, _ := ctx.Value(confinedKey{}).(*confined)
	return c
}

// whatItIs are fields that say what a record is about: without them nothing of it is left.
var whatItIs = []string{"Dataset", "Metric", "Series", "Monitor", "Alert", "Group", "Incident", "Log"}

// before refuses a request that is about what is not for who asks.
func (c *confined) before(ctx context.Context, in any, list bool) error {
	if forAnybody[c.operation] {
		return nil
	}
	subjects := map[string][]string{}
	c.subjects(reflect.ValueOf(in).Elem(), subjects)
	known := len(subjects["dataset"]) // places that the request is surely about
	if len(subjects["elsewhere"]) > 0 {
		return people.Forbidden{Role: c.who.Role, Needed: c.needed, Limited: true}
	}
	for kind, names := range subjects {
		places, err := c.Store.PlacesOf(ctx, kind, names)
		if err != nil {
			return err
		}
		known += len(places)
		if err := c.all(kind, names, places); err != nil {
			return err
		}
		if kind == "dataset" && len(places) == 0 && c.needed != people.Reader { // one that is to be
			for _, name := range names {
				if !people.MayIn(c.who, c.needed, name, nil) {
					return people.Forbidden{Role: c.who.Role, Needed: c.needed, Dataset: name, Limited: true}
				}
			}
		}
	}
	// What is made anew must say of which dataset it is.
	if len(subjects) == 0 && !list || known == 0 && c.needed != people.Reader {
		return people.Forbidden{Role: c.who.Role, Needed: c.needed, Limited: true}
	}
	return nil
}

// all tells whether somebody may do something about all of some places; to look, one of
// them is enough, since the others are taken out of the answer.
func (c *confined) all(kind string, names []string, places []store.Place) error {
	seen, refused := 0, ""
	for _, p := range places {
		if people.MayIn(c.who, people.Reader, p.Dataset, p.Tags) {
			seen++
		}
		if !people.MayIn(c.who, c.needed, p.Dataset, p.Tags) {
			refused = cmp.Or(refused, p.Dataset, "what is about no dataset")
		}
	}
	switch {
	case len(places) > 0 && seen == 0: // nobody learns from this that it is there
		return record.NotFound{Kind: kind, Name: strings.Join(names, ", ")}
	case refused == "" || c.needed == people.Reader:
		return nil
	case seen < len(places):
		return people.Forbidden{Role: c.who.Role, Needed: c.needed, Limited: true}
	}
	return people.Forbidden{Role: c.who.Role, Needed: c.needed, Dataset: refused, Limited: true}
}

// pushed tells of each metric whether samples of it may be pushed, and of a dataset whether
// metrics of it may be declared; nil where all may.
func (c *confined) pushed(ctx context.Context) collect.May {
	if c == nil {
		return nil
	}
	return func(metric, dataset string) error {
		kind, name := "metric", metric
		if dataset != "" {
			kind, name = "dataset", dataset
		}
		places, err := c.Store.PlacesOf(ctx, kind, []string{name})
		if len(places) == 0 && dataset != "" {
			places = []store.Place{{Dataset: dataset}} // that is to be
		}
		if err == nil && !slices.ContainsFunc(places, func(p store.Place) bool { return people.MayIn(c.who, c.needed, p.Dataset, p.Tags) }) {
			err = record.NotFound{Kind: kind, Name: name}
		}
		return err
	}
}

// subjects gathers what a request's parameters and body name.
func (c *confined) subjects(v reflect.Value, into map[string][]string) {
	for i := range v.NumField() {
		f, field := v.Type().Field(i), v.Field(i)
		if !f.IsExported() {
			continue
		}
		kind := ""
		switch parameter := f.Tag.Get("path"); {
		case parameter == "name" || parameter == "id":
			first, _, _ := strings.Cut(strings.TrimPrefix(c.path, "/api/v1/"), "/")
			kind = byPath[first]
		case f.Tag.Get("query") != "":
			kind = byField[f.Tag.Get("query")]
		case f.Tag.Get("json") != "":
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			kind = byField[name]
		}
		for field.Kind() == reflect.Pointer && !field.IsNil() {
			field = field.Elem()
		}
		switch {
		case kind != "" && field.Kind() == reflect.Slice:
			for n := range field.Len() {
				named(into, kind, field.Index(n))
			}
		case kind != "":
			named(into, kind, field)
		case field.Kind() == reflect.Struct && (f.Anonymous || f.Name == "Body"):
			c.subjects(field, into)
		}
	}
}

func named(into map[string][]string, kind string, v reflect.Value) {
	if text := fmt.Sprint(v.Interface()); !v.IsZero() && (v.Kind() == reflect.String || v.CanInt()) {
		into[kind] = append(into[kind], text)
	}
}

// after takes out of an answer what is about datasets that are not for who asks. What is
// about such a one altogether is not there.
func (c *confined) after(ctx context.Context, out any) error {
	if forAnybody[c.operation] {
		return nil
	}
	var err error
	if c.names, err = c.hides(ctx); err != nil {
		return err
	}
	longer := func(a, b string) int { return cmp.Or(len(b)-len(a), strings.Compare(a, b)) } // the longer first, where one begins as another
	var pairs []string
	for _, name := range slices.SortedFunc(maps.Keys(c.names), longer) {
		pairs = append(pairs, name, "another dataset")
	}
	if len(pairs) == 0 {
		return nil
	}
	c.hidden = strings.NewReplacer(pairs...)
	if body := reflect.ValueOf(out).Elem().FieldByName("Body"); body.IsValid() && !c.shown(body) {
		return record.NotFound{Kind: "thing", Name: "of that name"}
	}
	return nil
}

// hides gives the datasets that are not for who asks.
func (c *confined) hides(ctx context.Context) (map[string]bool, error) {
	all, err := c.Store.Places(ctx)
	hidden := map[string]bool{}
	for _, p := range all {
		if !people.MayIn(c.who, people.Reader, p.Dataset, p.Tags) {
			hidden[p.Dataset] = true
		}
	}
	return hidden, err
}

// shown takes out of a value what is not for who asks; false of one that is nothing else.
func (c *confined) shown(v reflect.Value) bool {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() || !v.CanSet() {
			return true
		}
		if v.Elem().Kind() == reflect.Pointer {
			return c.shown(v.Elem())
		}
		copied := reflect.New(v.Elem().Type()) // what is kept elsewhere stays as it is
		copied.Elem().Set(v.Elem())
		shown := c.shown(copied.Elem())
		if v.Kind() == reflect.Pointer {
			v.Set(copied)
		} else {
			v.Set(copied.Elem())
		}
		return shown
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.Uint8 || !v.CanSet() || v.IsNil() {
			return true
		}
		copied := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		reflect.Copy(copied, v)
		v.Set(copied)
		keep(v, c.shown)
		return true
	case reflect.Map:
		return c.shownMap(v)
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); !f.IsExported() || f.Tag.Get("json") == "-" {
				continue
			}
			several := v.Type().Field(i).Name == "Datasets" && v.Field(i).Kind() == reflect.Slice && v.Field(i).Len() > 0
			if shown := c.shown(v.Field(i)); several && v.Field(i).Len() == 0 {
				return false // all that it is about
			} else if !shown {
				f := v.Type().Field(i)
				if k := f.Type.Kind(); k == reflect.Pointer || k == reflect.Struct && !f.Anonymous && !slices.Contains(whatItIs, f.Name) {
					v.Field(i).SetZero()
					continue
				}
				return false
			}
		}
		return true
	case reflect.String:
		if c.names[v.String()] {
			return false
		}
		if v.CanSet() && v.Len() > 0 {
			v.SetString(c.hidden.Replace(v.String()))
		}
	}
	return true
}

func (c *confined) shownMap(v reflect.Value) bool {
	if v.Type().Key().Kind() != reflect.String {
		return true
	}
	if v.IsNil() || !v.CanSet() {
		return true
	}
	copied := reflect.MakeMap(v.Type())
	for _, key := range v.MapKeys() {
		one := reflect.New(v.Type().Elem()).Elem()
		one.Set(v.MapIndex(key))
		if !c.names[key.String()] && c.shown(one) {
			copied.SetMapIndex(key, one)
		}
	}
	v.Set(copied)
	return true
}
