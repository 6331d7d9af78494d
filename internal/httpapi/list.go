package httpapi

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tinbell/internal/flat"
	"tinbell/internal/record"
)

// Every list can be narrowed, sorted and read page by page in the same way. The address
// of the next page comes as a link (RFC 8288); what a list is of says what it can be
// narrowed to: a dataset, an owner, a tag.

// mostListed is the largest page.
const mostListed = 10000

// listOf gives the type of the records that an answer lists; nil if it is no list.
func listOf(answer reflect.Type) reflect.Type {
	f, there := answer.FieldByName("Body")
	if !there || f.Type.Kind() != reflect.Slice || f.Type.Elem().Kind() != reflect.Struct {
		return nil
	}
	return f.Type.Elem()
}

// listParameters are what a list of records takes beside what its operation names itself.
func listParameters(of, in reflect.Type) []*huma.Param {
	text := &huma.Schema{Type: huma.TypeString}
	least, most := 1.0, float64(mostListed)
	all := []*huma.Param{
		{Name: "sort", In: "query", Schema: text, Description: "by this column, as CSV names it; with a - before it the other way round"},
		{Name: "limit", In: "query", Schema: &huma.Schema{Type: huma.TypeInteger, Minimum: &least, Maximum: &most},
			Description: "at most so many; all if left out"},
		{Name: "cursor", In: "query", Schema: text,
			Description: "where a page begins; the header Link of the page before has the whole address"},
	}
	for name, what := range map[string]string{"dataset": "of this dataset alone", "owner": "of this team alone",
		"tag": "with this tag alone, its dataset's counted"} {
		if narrows(of, name) {
			all = append(all, &huma.Param{Name: name, In: "query", Schema: text, Description: what})
		}
	}
	slices.SortFunc(all, func(a, b *huma.Param) int { return strings.Compare(a.Name, b.Name) })
	return slices.DeleteFunc(all, func(p *huma.Param) bool { return takes(in, p.Name) })
}

// narrows tells whether a list can be narrowed to a dataset, an owner or a tag.
func narrows(of reflect.Type, name string) bool {
	switch name {
	case "owner":
		return flat.Has(of, "owner") || flat.Has(of, "dataset_owner")
	case "tag":
		return flat.Has(of, "tags") || flat.Has(of, "dataset")
	}
	return flat.Has(of, name)
}

// takes tells whether an operation's input names a parameter itself.
func takes(in reflect.Type, name string) bool {
	return slices.ContainsFunc(reflect.VisibleFields(in), func(f reflect.StructField) bool { return f.Tag.Get("query") == name })
}

type askedKey struct{}

// asked is what a request for a list asks for, and where its next page begins.
type asked struct {
	*server
	url  url.URL
	next string
}

// linked is a request whose answer says where the next page is.
type linked struct {
	exchange
	asked *asked
}

type exchange huma.Context

func (l linked) SetStatus(code int) {
	if l.asked.next != "" {
		at := l.asked.url
		q := at.Query()
		q.Set("cursor", l.asked.next)
		at.RawQuery = q.Encode()
		l.SetHeader("Link", fmt.Sprintf("<%s>; rel=%q", at.RequestURI(), "next"))
	}
	l.exchange.SetStatus(code)
}

// listed lets the answer to a request for a list be cut into pages.
func (s *server) listed(ctx huma.Context, next func(huma.Context)) {
	if ctx.Operation().Metadata["list"] == nil {
		next(ctx)
		return
	}
	one := &asked{server: s, url: ctx.URL()}
	next(linked{huma.WithValue(ctx, askedKey{}, one), one})
}

// askedFor gives what is asked of a list; nil for other requests.
func askedFor(ctx context.Context) *asked {
	one, _ := ctx.Value(askedKey{}).(*asked)
	return one
}

// cut narrows and sorts a list, and leaves the page that was asked for.
func (a *asked) cut(ctx context.Context, in reflect.Type, list reflect.Value) error {
	q := a.url.Query()
	if list.IsNil() {
		list.Set(reflect.MakeSlice(list.Type(), 0, 0))
	}
	for _, name := range []string{"dataset", "owner", "tag"} {
		wanted := q.Get(name)
		if wanted == "" || takes(in, name) || !narrows(list.Type().Elem(), name) {
			continue
		}
		has, err := a.having(ctx, name, wanted)
		if err != nil {
			return err
		}
		keep(list, has)
	}
	if by := q.Get("sort"); by != "" && !takes(in, "sort") {
		if err := flat.Order(list, by); err != nil {
			return record.Invalid{Field: "sort", Given: by, Allowed: err.Error()}
		}
	}
	if takes(in, "cursor") || takes(in, "limit") {
		return nil
	}
	return a.page(list, q.Get("cursor"), q.Get("limit"))
}

// having tells which records of a list belong to a dataset or an owner, or have a tag.
func (s *server) having(ctx context.Context, name, wanted string) (func(reflect.Value) bool, error) {
	switch name {
	case "dataset":
		return func(v reflect.Value) bool { return flat.Value(v, "dataset") == wanted }, s.there(ctx, wanted, "")
	case "owner":
		return func(v reflect.Value) bool {
			return flat.Value(v, "owner") == wanted || flat.Value(v, "dataset_owner") == wanted
		}, nil
	}
	if err := s.tagged(ctx, wanted); err != nil {
		return nil, err
	}
	datasets, err := s.Store.Datasets(ctx)
	tagged := map[string]bool{}
	for _, d := range datasets {
		tagged[d.Name] = slices.Contains(d.Tags, wanted)
	}
	return func(v reflect.Value) bool {
		return tagged[flat.Value(v, "dataset")] || slices.ContainsFunc([]string{"tags", "inherited"}, func(column string) bool {
			return slices.Contains(strings.Split(flat.Value(v, column), "; "), wanted)
		})
	}, err
}

// keep leaves the records of a list for which something holds.
func keep(list reflect.Value, holds func(reflect.Value) bool) {
	kept := reflect.MakeSlice(list.Type(), 0, list.Len())
	for i := range list.Len() {
		if holds(list.Index(i)) {
			kept = reflect.Append(kept, list.Index(i))
		}
	}
	list.Set(kept)
}

// place is where a page ended: after a record, and after how many of them, should that
// one be gone by now.
type place struct {
	After string `json:"after"`
	Count int    `json:"count"`
}

// page leaves one page of a list, and keeps where the next begins.
func (a *asked) page(list reflect.Value, cursor, limit string) error {
	from := 0
	if cursor != "" {
		var at place
		text, err := base64.RawURLEncoding.DecodeString(cursor)
		if err != nil || json.Unmarshal(text, &at) != nil || at.Count < 0 {
			return record.Invalid{Field: "cursor", Given: cursor, Allowed: "the one in the header Link of the page before"}
		}
		from = min(at.Count, list.Len())
		for i := range list.Len() {
			if identity(list.Index(i)) == at.After {
				from = i + 1
			}
		}
		list.Set(list.Slice(from, list.Len()))
	}
	if limit == "" {
		return nil
	}
	n, err := strconv.Atoi(limit)
	if err != nil || n < 1 || n > mostListed {
		return record.Invalid{Field: "limit", Given: limit, Allowed: fmt.Sprintf("1 to %d", mostListed)}
	}
	if list.Len() > n {
		list.Set(list.Slice(0, n))
		text, err := json.Marshal(place{identity(list.Index(n - 1)), from + n})
		if err != nil {
			return err
		}
		a.next = base64.RawURLEncoding.EncodeToString(text)
	}
	return nil
}

// identity is what tells a record of a list from the others.
func identity(v reflect.Value) string {
	for _, name := range []string{"reference", "id", "series_id", "name", "job", "path", "version", "dataset", "at"} {
		if text := flat.Value(v, name); text != "" {
			return name + " " + text
		}
	}
	return ""
}
