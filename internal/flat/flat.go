// Package flat writes records as data that other programs read, CSV, NDJSON and Parquet,
// and reads tables line by line, each refused alone if it is bad.
// Records are laid out in columns, one for each figure, named by the path to it; times
// are RFC 3339 in UTC, lists of words are joined by semicolons, other lists are JSON.
package flat

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"time"
)

// Table lays a list of records out as texts. Of a page, whose only list is what was
// asked for, it takes that. ok is false for what is no list.
func Table(v any) (head []string, rows [][]string, ok bool) {
	list := reflect.Indirect(reflect.ValueOf(v))
	if list.Kind() == reflect.Struct {
		list = onlyList(list)
	}
	if list.Kind() != reflect.Slice || list.Type().Elem().Kind() != reflect.Struct {
		return nil, nil, false
	}
	columns := columnsOf(list.Type().Elem(), "", nil)
	for _, c := range columns {
		head = append(head, c.name)
	}
	for i := range list.Len() {
		rows = append(rows, texts(columns, list.Index(i)))
	}
	return head, rows, true
}

// One lays one record out as texts; what it holds more than one of is JSON. ok is false
// for what is no record.
func One(v any) (head, row []string, ok bool) {
	one := reflect.Indirect(reflect.ValueOf(v))
	if one.Kind() != reflect.Struct {
		return nil, nil, false
	}
	columns := columnsOf(one.Type(), "", nil)
	for _, c := range columns {
		head = append(head, c.name)
	}
	return head, texts(columns, one), true
}

func texts(columns []column, record reflect.Value) []string {
	row := make([]string, len(columns))
	for k, c := range columns {
		if row[k] = plain(c.of(record)); c.kind.Kind() == reflect.String {
			row[k] = Guarded(row[k])
		}
	}
	return row
}

// onlyList is the one list of records that a struct holds; nothing if it holds several.
func onlyList(v reflect.Value) (found reflect.Value) {
	for _, f := range reflect.VisibleFields(v.Type()) {
		if f.Anonymous || !f.IsExported() || f.Type.Kind() != reflect.Slice || f.Type.Elem().Kind() != reflect.Struct ||
			f.Tag.Get("json") == "-" {
			continue
		}
		if found.IsValid() {
			return reflect.Value{}
		}
		found = v.FieldByIndex(f.Index)
	}
	return found
}

// column is a member of a record, however deep.
type column struct {
	name  string
	kind  reflect.Type
	index [][]int // through pointers
}

// columnsOf lists the members that are told in JSON, those of members with members of
// their own by both names.
func columnsOf(t reflect.Type, prefix string, before [][]int) []column {
	var list []column
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || !f.IsExported() || name == "" || name == "-" {
			continue
		}
		path := append(append([][]int{}, before...), f.Index)
		kind := f.Type
		if kind.Kind() == reflect.Pointer {
			kind = kind.Elem()
		}
		if kind.Kind() == reflect.Struct && kind != reflect.TypeFor[time.Time]() && len(before) < 3 {
			list = append(list, columnsOf(kind, prefix+name+"_", path)...)
			continue
		}
		list = append(list, column{prefix + name, kind, path})
	}
	return list
}

// of gives a column's value of a record; an invalid one where there is none.
func (c column) of(v reflect.Value) reflect.Value {
	for _, index := range c.index {
		if v.Kind() == reflect.Pointer {
			if v.IsNil() {
				return reflect.Value{}
			}
			v = v.Elem()
		}
		v = v.FieldByIndex(index)
	}
	if v.Kind() == reflect.Pointer {
		return v.Elem()
	}
	return v
}

// plain writes a value so that another program reads it.
func plain(v reflect.Value) string {
	if !v.IsValid() {
		return ""
	}
	switch x := v.Interface().(type) {
	case time.Time:
		if x.IsZero() {
			return ""
		}
		return x.UTC().Format(time.RFC3339)
	case []byte:
		return string(x)
	}
	switch v.Kind() {
	case reflect.Float64:
		return strconv.FormatFloat(v.Float(), 'g', -1, 64)
	case reflect.Slice:
		if v.Type().Elem().Kind() == reflect.String {
			parts := make([]string, v.Len())
			for i := range parts {
				parts[i] = v.Index(i).String()
			}
			return strings.Join(parts, "; ")
		}
		if v.Len() == 0 {
			return ""
		}
	case reflect.Map:
		if v.Len() == 0 {
			return ""
		}
	case reflect.Struct, reflect.Interface:
	default:
		return fmt.Sprint(v.Interface())
	}
	text, err := json.Marshal(v.Interface())
	if err != nil {
		return fmt.Sprint(v.Interface())
	}
	return string(text)
}
