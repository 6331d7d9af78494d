package otlp

import (
	"fmt"

	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/reflect/protoreflect"

	"tinbell/internal/collect/bound"
)

// What an export may hold. A message of a few bytes takes a hundred times as many
// once it is unpacked, so messages and values are counted before.
const (
	maxPoints = 50_000
	maxFields = 800_000
	maxNested = 32
)

// checkSize refuses an export that would take too much memory once decoded.
func checkSize(body []byte, json bool, message protoreflect.MessageDescriptor) error {
	fields, depth := 0, 0
	if json {
		fields, depth = bound.Shape(body)
	} else {
		fields, depth = countFields(body, message, 1, maxFields)
	}
	switch {
	case depth > maxNested:
		return fmt.Errorf("it is nested %d deep: an export's values are %d at most", depth, maxNested)
	case fields > maxFields:
		return fmt.Errorf("it has more than %d values: send several exports", maxFields)
	}
	return nil
}

// countFields counts the fields of a message and of all in it, in the wire format,
// and how deep they are nested; it stops when there are more than most. What is
// broken is left for the decoder to name.
func countFields(b []byte, message protoreflect.MessageDescriptor, level, most int) (fields, depth int) {
	depth = level
	for len(b) > 0 && fields <= most && depth <= maxNested {
		number, kind, n := protowire.ConsumeTag(b)
		if n < 0 {
			return fields, depth
		}
		b = b[n:]
		size := protowire.ConsumeFieldValue(number, kind, b)
		if size < 0 {
			return fields, depth
		}
		fields++
		field := message.Fields().ByNumber(number)
		if inner, _ := protowire.ConsumeBytes(b[:size]); kind == protowire.BytesType && field != nil && field.Message() != nil {
			below, deepest := countFields(inner, field.Message(), level+1, most-fields)
			fields, depth = fields+below, max(depth, deepest)
		}
		b = b[size:]
	}
	return fields, depth
}
