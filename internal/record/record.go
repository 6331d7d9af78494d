// Package record holds what is stored and passed between packages: values
// without behaviour beyond naming and checking themselves. Times are UTC,
// durations whole seconds, shares 0..1.
package record

import (
	"database/sql/driver"
	"encoding/json"
	"fmt"
)

// List is a list stored as JSON.
type List[T any] []T

func (l List[T]) Value() (driver.Value, error) {
	if l == nil {
		return "[]", nil
	}
	b, err := json.Marshal([]T(l))
	return string(b), err
}

func (l *List[T]) Scan(v any) error { return scanJSON(v, (*[]T)(l)) }

// Lists that records hold.
type (
	Strings       = List[string]
	Spans         = List[Span]
	Columns       = List[Column]
	ColumnChanges = List[ColumnChange]
)

func scanJSON(v, into any) error {
	switch b := v.(type) {
	case []byte:
		return json.Unmarshal(b, into)
	case string:
		return json.Unmarshal([]byte(b), into)
	case nil:
		return nil
	}
	return fmt.Errorf("cannot read %T as JSON", v)
}
