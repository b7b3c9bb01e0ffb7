package web_test

import (
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/web"
)

// shape is what is compared of JSON Schema: which values there are, and of which kind.
type shape struct {
	Ref        string           `json:"$ref"`
	Type       any              `json:"type"` // a text, or a list of them
	Properties map[string]shape `json:"properties"`
	Items      *shape           `json:"items"`
	Required   []string         `json:"required"`
	Additional json.RawMessage  `json:"additionalProperties"`
	OneOf      []shape          `json:"oneOf"`
}

// openAPI is a document.
type openAPI struct {
	Paths map[string]map[string]struct {
		RequestBody struct {
			Content map[string]struct{ Schema shape }
		} `json:"requestBody"`
		Responses map[string]struct {
			Content map[string]struct{ Schema shape }
		}
	}
	Components struct{ Schemas map[string]shape }
}

func (d *openAPI) of(s shape) shape {
	if name, ok := strings.CutPrefix(s.Ref, "#/components/schemas/"); ok {
		return d.Components.Schemas[name]
	}
	return s
}

// outgrown says where a shape is no longer what one of the oldest clients that are served reads, or writes: a value
// that is gone or of another kind; a value that must be sent and did not have to be.
func outgrown(was, is *openAPI, a, b shape, sent bool, at string, seen map[string]bool) (out []string) {
	if key := fmt.Sprint(a.Ref, b.Ref, sent); a.Ref != "" {
		if seen[key] {
			return nil
		}
		seen[key] = true
	}
	a, b = was.of(a), is.of(b)
	if kinds(a.Type) != "" && !fits(a.Type, b.Type) {
		return []string{fmt.Sprintf("%s was %v and is %v", at, a.Type, b.Type)}
	}
	for name, inner := range a.Properties {
		now, ok := b.Properties[name]
		if !ok {
			out = append(out, at+"."+name+" is gone")
			continue
		}
		out = append(out, outgrown(was, is, inner, now, sent, at+"."+name, seen)...)
	}
	for _, name := range b.Required {
		if sent && !slices.Contains(a.Required, name) {
			out = append(out, at+"."+name+" must be sent, and did not have to be")
		}
	}
	if a.Items != nil && b.Items != nil {
		out = append(out, outgrown(was, is, *a.Items, *b.Items, sent, at+"[]", seen)...)
	}
	return out
}

// kinds is a shape's type as text, without null.
func kinds(of any) string {
	list, ok := of.([]any)
	if !ok {
		list = []any{of}
	}
	var out []string
	for _, k := range list {
		if text, ok := k.(string); ok && text != "null" {
			out = append(out, text)
		}
	}
	return strings.Join(out, " ")
}

func fits(was, is any) bool { return kinds(is) == "" || kinds(was) == kinds(is) }

// What a client of the oldest level that is served reads of every answer is still there and of the same kind, and
// what it sends is still enough. Where this fails on purpose, api.LowestLevel rises, and with it this file.
func TestOldestClientsAreUnderstood(t *testing.T) {
	f, err := os.Open("testdata/oldest-openapi.json.gz")
	require.NoError(t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(t, err)
	var was, is openAPI
	require.NoError(t, json.NewDecoder(z).Decode(&was))
	text, err := web.New(nil, web.Options{Version: "1"}).OpenAPI()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &is))
	require.Greater(t, len(was.Paths), 100)
	var out []string
	for path, methods := range was.Paths {
		for method, op := range methods {
			now, ok := is.Paths[path][method]
			at := strings.ToUpper(method) + " " + path
			if !ok {
				out = append(out, at+" is gone")
				continue
			}
			for media, content := range op.RequestBody.Content {
				out = append(out, outgrown(&was, &is, content.Schema, now.RequestBody.Content[media].Schema, true,
					at+" body",
					map[string]bool{})...)
			}
			for status, response := range op.Responses {
				for media, content := range response.Content {
					out = append(out, outgrown(&was, &is, content.Schema,
						now.Responses[status].Content[media].Schema, false,
						at+" "+status, map[string]bool{})...)
				}
			}
		}
	}
	require.Empty(t, out)

	// the comparison finds what it is there for
	gone := shape{Type: "object", Properties: map[string]shape{"a": {Type: "string"}, "b": {Type: "integer"}}}
	other := shape{Type: "object", Properties: map[string]shape{"a": {Type: "object"}}, Required: []string{"c"}}
	require.Len(t, outgrown(&was, &is, gone, other, false, "", map[string]bool{}), 2)
	require.Len(t, outgrown(&was, &is, gone, other, true, "", map[string]bool{}), 3)
}
