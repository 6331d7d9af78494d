package httpapi

import (
	"testing"

	"github.com/pb33f/libopenapi"
	validator "github.com/pb33f/libopenapi-validator"
)

func TestTheContractIsValidOpenAPI(t *testing.T) {
	text, err := OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	document, err := libopenapi.NewDocument(text)
	if err != nil {
		t.Fatal(err)
	}
	v, problems := validator.NewValidator(document)
	for _, p := range problems {
		t.Errorf("%v", p)
	}
	if len(problems) > 0 {
		return
	}
	if ok, found := v.ValidateDocument(); !ok {
		for _, f := range found {
			t.Errorf("%s: %s", f.Message, f.Reason)
			for _, s := range f.SchemaValidationErrors {
				t.Errorf("  %s at %s", s.Reason, s.FieldPath)
			}
		}
	}
}
