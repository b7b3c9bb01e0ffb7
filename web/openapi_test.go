package web

import (
	"bytes"
	"encoding/json"
	"os"
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
	require.Equal(t, string(committed), pretty.String(), "docs/openapi.json is not what the code emits; run make openapi")
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
