package web

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// The committed description must be the one that this code emits. KEMBREL_WRITE=1 writes it (make openapi).
func TestOpenAPIIsCommitted(t *testing.T) {
	emitted, err := New(nil, Options{Version: "1"}).OpenAPI()
	require.NoError(t, err)
	var pretty bytes.Buffer
	require.NoError(t, json.Indent(&pretty, emitted, "", "  "))
	pretty.WriteByte('\n')
	const file = "../docs/openapi.json"
	if os.Getenv("KEMBREL_WRITE") == "1" {
		require.NoError(t, os.WriteFile(file, pretty.Bytes(), 0o644))
	}
	committed, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, string(committed), pretty.String(),
		"docs/openapi.json is not what the code emits; run make openapi")
}

// Every operation that is declared is bound, and nothing else is.
func TestEveryOperationIsBound(t *testing.T) {
	paths := New(nil, Options{Version: "1"}).huma.OpenAPI().Paths
	bound := 0
	for _, item := range paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch} {
			if op != nil {
				bound++
			}
		}
	}
	require.Equal(t, len(api.Operations()), bound)
	for _, spec := range api.Operations() {
		require.Contains(t, paths, api.Base+spec.Path)
	}
}

// Every list and map that comes in says how long it may be. Lists of numbers in batches and histories are bounded by
// what their bodies weigh.
func TestWhatComesInIsBounded(t *testing.T) {
	weighed := map[string]bool{"Axis.step": true, "Axis.epoch": true, "Axis.time": true, "Column.rows": true,
		"Column.values": true, "Info.shape": true}
	described := New(nil, Options{Version: "1"}).huma.OpenAPI()
	seen := map[string]bool{}
	var walk func(at string, s *huma.Schema)
	walk = func(at string, s *huma.Schema) {
		if s.Ref != "" {
			name := s.Ref[strings.LastIndex(s.Ref, "/")+1:]
			if seen[name] {
				return
			}
			seen[name] = true
			walk(name, described.Components.Schemas.SchemaFromRef(s.Ref))
			return
		}
		if s.Type == "array" {
			require.True(t, s.MaxItems != nil || weighed[at], "%s is a list of any length", at)
			walk(at, s.Items)
		}
		if values, ok := s.AdditionalProperties.(*huma.Schema); ok {
			require.NotNil(t, s.MaxProperties, "%s is a map of any size", at)
			walk(at, values)
		}
		for name, property := range s.Properties {
			walk(at+"."+name, property)
		}
	}
	for _, item := range described.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Put, item.Post, item.Delete, item.Patch} {
			if op == nil {
				continue
			}
			for _, p := range op.Parameters {
				walk(op.OperationID+" "+p.Name, p.Schema)
			}
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Content {
					walk(op.OperationID, media.Schema)
				}
			}
		}
	}
	require.Greater(t, len(seen), 10)
}
