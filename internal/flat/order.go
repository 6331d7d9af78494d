package flat

import (
	"cmp"
	"fmt"
	"reflect"
	"sort"
	"strings"
	"time"
)

// Order sorts a slice of records by one of their columns, a "-" before its name turns it
// round. Records that are alike in it keep their order; those without a value come last.
// The error names the columns there are.
func Order(list reflect.Value, by string) error {
	name, down := strings.CutPrefix(by, "-")
	columns := columnsOf(list.Type().Elem(), "", nil)
	var names []string
	for _, c := range columns {
		if c.name != name && c.name != name+"_name" { // a thing within is known by its name
			names = append(names, c.name)
			continue
		}
		sort.Stable(ordered{list, c, down, reflect.Swapper(list.Interface())})
		return nil
	}
	return fmt.Errorf("one of %s", strings.Join(names, ", "))
}

// Value gives one column of a record as text; empty where it has none of the name.
func Value(record reflect.Value, name string) string {
	for _, c := range columnsOf(record.Type(), "", nil) {
		if c.name == name || c.name == name+"_name" {
			return plain(c.of(record))
		}
	}
	return ""
}

// Has tells whether records of a type have a column.
func Has(t reflect.Type, name string) bool {
	for _, c := range columnsOf(t, "", nil) {
		if c.name == name || c.name == name+"_name" {
			return true
		}
	}
	return false
}

type ordered struct {
	list reflect.Value
	by   column
	down bool
	swap func(i, j int)
}

func (o ordered) Len() int      { return o.list.Len() }
func (o ordered) Swap(i, j int) { o.swap(i, j) }
func (o ordered) Less(i, j int) bool {
	a, b := o.by.of(o.list.Index(i)), o.by.of(o.list.Index(j))
	if !a.IsValid() || !b.IsValid() {
		return a.IsValid() && !b.IsValid()
	}
	if o.down {
		return compare(a, b) > 0
	}
	return compare(a, b) < 0
}

// compare puts two values of one type in order.
func compare(a, b reflect.Value) int {
	if at, is := a.Interface().(time.Time); is {
		return at.Compare(b.Interface().(time.Time))
	}
	switch {
	case a.CanInt():
		return cmp.Compare(a.Int(), b.Int())
	case a.CanUint():
		return cmp.Compare(a.Uint(), b.Uint())
	case a.CanFloat():
		return cmp.Compare(a.Float(), b.Float())
	}
	return cmp.Compare(strings.ToLower(plain(a)), strings.ToLower(plain(b)))
}
