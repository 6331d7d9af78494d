// Package wire writes the bodies of requests and answers: JSON in which a list or
// an object that holds nothing is an empty one, and never null.
package wire

import (
	"io"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	plain "github.com/go-json-experiment/json/v1"
)

var options = json.JoinOptions(plain.DefaultOptionsV1(),
	json.FormatNilSliceAsNull(false), json.FormatNilMapAsNull(false), jsontext.EscapeForHTML(false))

// Marshal gives a value as JSON.
func Marshal(v any) ([]byte, error) { return json.Marshal(v, options) }

// Write writes a value as JSON, and ends the line.
func Write(w io.Writer, v any) error {
	if err := json.MarshalWrite(w, v, options); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
