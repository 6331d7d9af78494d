package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"testing"

	"tinbell/core/timeline"
	"tinbell/internal/collect"
	"tinbell/internal/dbtest"
	"tinbell/internal/httpapi"
)

// schema is what the contract says of a value.
type schema struct {
	Ref        string `json:"$ref"`
	Type       any
	Items      *schema
	Properties map[string]*schema
	More       any `json:"additionalProperties"`
}

// contract is what of the API's description says what answers are made of.
type contract struct {
	Paths map[string]map[string]struct {
		OperationID string
		Responses   map[string]struct {
			Content map[string]struct{ Schema *schema }
		}
	}
	Components struct{ Schemas map[string]*schema }
}

// nulls gives where a value has null in the place of a list.
func (c contract) nulls(of *schema, value any, at string) (found []string) {
	if of == nil {
		return nil
	}
	if name, is := strings.CutPrefix(of.Ref, "#/components/schemas/"); is {
		of = c.Components.Schemas[name]
	}
	switch v := value.(type) {
	case nil:
		if of.Type == "array" {
			return []string{at}
		}
	case []any:
		for _, one := range v {
			found = append(found, c.nulls(of.Items, one, at+"[]")...)
		}
	case map[string]any:
		for name, one := range v {
			found = append(found, c.nulls(of.Properties[name], one, at+"."+name)...)
		}
	}
	return found
}

// No list of any answer is null, however little there is: each read of the contract is asked
// for, with names and numbers that there are.
func TestNoListOfAnAnswerIsNull(t *testing.T) {
	t.Parallel()
	s := twoDatasets(t)
	declared(t, s, collect.Declaration{Metric: "bare", Kind: timeline.Count, Period: "1h"}, seasonal()) // nothing came of it
	bare, err := s.Parts.Store.Metric(t.Context(), "bare")
	dbtest.Must(t, err)
	dbtest.Must(t, s.Parts.Health.Refresh(t.Context(), bare.DatasetID))
	text, err := httpapi.OpenAPI()
	dbtest.Must(t, err)
	var c contract
	dbtest.Must(t, json.Unmarshal(text, &c))
	gap := regexp.MustCompile(`\{[a-z_]+\}`)
	read := 0
	for path, methods := range c.Paths {
		operation, there := methods["get"]
		if !there || operation.OperationID == "events" {
			continue
		}
		for _, name := range []string{"raw.open", "open-rows", "log-of-open", "ops.bare", "bare", "1", "2", "INC-0001"} {
			one := gap.ReplaceAllString(path, name)
			if strings.HasSuffix(path, "/find") {
				one += "?words=open"
			}
			request, err := http.NewRequestWithContext(t.Context(), "GET", s.Address+one, nil)
			dbtest.Must(t, err)
			request.Header.Set("Authorization", "Bearer "+s.Token)
			answer, err := http.DefaultClient.Do(request)
			dbtest.Must(t, err)
			said, err := io.ReadAll(answer.Body)
			answer.Body.Close()
			dbtest.Must(t, err)
			of := operation.Responses["200"].Content["application/json"].Schema
			var value any
			if answer.StatusCode != http.StatusOK || of == nil || json.Unmarshal(said, &value) != nil {
				continue
			}
			read++
			if found := c.nulls(of, value, ""); len(found) > 0 {
				t.Errorf("%s: null at %v", one, found)
			}
			if gap.FindString(path) == "" {
				break // it is the same with every name
			}
		}
	}
	if read < 60 {
		t.Errorf("only %d answers were read", read)
	}
}
