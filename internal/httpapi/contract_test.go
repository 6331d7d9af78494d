package httpapi_test

import (
	"bytes"
	"net/url"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"tinbell/internal/httpapi"
)

// contract is the API's description as any JSON value.
func contract(t *testing.T) map[string]any {
	t.Helper()
	text, err := httpapi.OpenAPI()
	if err != nil {
		t.Fatal(err)
	}
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	return document.(map[string]any)
}

// compiler knows the documents by their addresses; none is fetched.
func compiler(t *testing.T, documents map[string]any) *jsonschema.Compiler {
	t.Helper()
	c := jsonschema.NewCompiler()
	c.DefaultDraft(jsonschema.Draft2020)
	for address, document := range documents {
		if err := c.AddResource(address, document); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// The schema is the one that the OpenAPI Initiative gives for version 3.1 (2022-10-07).
func TestTheContractIsValidOpenAPI(t *testing.T) {
	text, err := os.ReadFile("testdata/openapi-3.1.json")
	if err != nil {
		t.Fatal(err)
	}
	schema, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	const address = "https://spec.openapis.org/oas/3.1/schema/2022-10-07"
	rules, err := compiler(t, map[string]any{address: schema}).Compile(address)
	if err != nil {
		t.Fatal(err)
	}
	document := contract(t)
	if err := rules.Validate(document); err != nil {
		t.Errorf("%v", err)
	}
	document["paths"].(map[string]any)["/api/v1/alerts"].(map[string]any)["get"].(map[string]any)["responses"] = "all of them"
	if rules.Validate(document) == nil {
		t.Error("a contract that is not valid is not noticed")
	}
}

// eachOf calls see with every value of a document and where it stands, as a JSON pointer.
func eachOf(v any, at string, see func(at string, v any)) {
	see(at, v)
	switch v := v.(type) {
	case map[string]any:
		for key, inner := range v {
			eachOf(inner, at+"/"+strings.NewReplacer("~", "~0", "/", "~1").Replace(key), see)
		}
	case []any:
		for _, inner := range v {
			eachOf(inner, at+"/-", see)
		}
	}
}

func TestEverySchemaOfTheContractCanBeFollowed(t *testing.T) {
	const address = "https://contract.example/openapi.json"
	document := contract(t)
	schemas := document["components"].(map[string]any)["schemas"].(map[string]any)
	c := compiler(t, map[string]any{address: document})
	for name := range schemas {
		if _, err := c.Compile(address + "#/components/schemas/" + url.PathEscape(name)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	seen := 0
	eachOf(document, "", func(at string, v any) {
		object, _ := v.(map[string]any)
		to, is := object["$ref"].(string)
		if !is {
			return
		}
		seen++
		if name, here := strings.CutPrefix(to, "#/components/schemas/"); !here || schemas[name] == nil {
			t.Errorf("%s refers to %s, which is not there", at, to)
		}
	})
	if seen < 100 {
		t.Errorf("%d references were looked at", seen)
	}
}

func TestEachCallHasItsOwnNameAndSaysItsParameters(t *testing.T) {
	named, inPath := map[string]string{}, regexp.MustCompile(`\{([^}]+)\}`)
	for path, of := range contract(t)["paths"].(map[string]any) {
		for method, what := range of.(map[string]any) {
			call, ok := what.(map[string]any)
			if !ok {
				continue
			}
			id, _ := call["operationId"].(string)
			if other := named[id]; id == "" || other != "" {
				t.Errorf("%s %s has the name %q, and so has %q", method, path, id, other)
			}
			named[id] = method + " " + path
			said := map[string]bool{}
			list, _ := call["parameters"].([]any)
			for _, p := range list {
				if p := p.(map[string]any); p["in"] == "path" {
					said[p["name"].(string)] = true
				}
			}
			for _, name := range inPath.FindAllStringSubmatch(path, -1) {
				if !said[name[1]] {
					t.Errorf("%s %s does not say what %s is", method, path, name[1])
				}
				delete(said, name[1])
			}
			if len(said) > 0 {
				t.Errorf("%s %s has no place for %v", method, path, said)
			}
		}
	}
}
