// Package readers reads what Kembrel exports with readers that are not ours.
package readers

import (
	"encoding/json"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/history"
)

// Every type keeps itself through Parquet, as two readers from npm find it: zero and the empty text are values, whole
// numbers keep all their digits.
func TestTypesInParquet(t *testing.T) {
	began := time.Date(2026, 11, 28, 7, 16, 41, 250_000_000, time.UTC)
	path := filepath.Join(t.TempDir(), "runs.parquet")
	file, err := os.Create(path)
	require.NoError(t, err)
	table := history.NewTable("parquet", file)
	table.Add(history.Row{{Name: "run", Value: "vessels/1"}, {Name: "title", Value: ""},
		{Name: "started", Value: began}, {Name: "step", Value: int64(0)},
		{Name: "seed", Value: json.Number("9007199254740993")},
		{Name: "flag", Value: false}, {Name: "lr", Value: 0.0}, {Name: "mixed", Value: int64(3)},
		{Name: "loss", Value: math.NaN()}, {Name: "huge", Value: json.Number("123456789012345678901")}})
	table.Add(history.Row{{Name: "run", Value: "vessels/2"}, {Name: "step", Value: int64(12)},
		{Name: "seed", Value: json.Number("7")}, {Name: "flag", Value: true}, {Name: "lr", Value: json.Number("0.25")},
		{Name: "mixed", Value: "auto"},
		{Name: "huge", Value: json.Number("1")}})
	require.NoError(t, table.Close())
	require.NoError(t, file.Close())
	if _, err := os.Stat("../../console/node_modules/parquet-wasm"); err != nil {
		t.Skip("the console's modules are not installed; make test does")
	}
	cmd := exec.Command("node", "read-table.mjs", path)
	cmd.Dir = "../../console"
	out, err := cmd.Output()
	require.NoError(t, err)
	var found struct {
		Types, Arrow  map[string]string
		First, Second []map[string]any
	}
	require.NoError(t, json.Unmarshal(out, &found))
	want := []map[string]any{
		{"run": "vessels/1", "title": "", "started": "2026-11-28T07:16:41.250Z", "step": "0",
			"seed": "9007199254740993", "flag": false, "lr": 0.0, "mixed": "3", "loss": "NaN",
			"huge": "123456789012345678901"},
		{"run": "vessels/2", "title": nil, "started": nil, "step": "12", "seed": "7", "flag": true, "lr": 0.25,
			"mixed": "auto", "loss": nil, "huge": "1"}}
	require.Equal(t, want, found.First, "hyparquet")
	require.Equal(t, want, found.Second, "parquet-wasm")
	require.Equal(t, "Int64", found.Arrow["step"])
	require.Equal(t, "Bool", found.Arrow["flag"])
	require.Contains(t, found.Arrow["started"], "Timestamp<MICROSECOND")
	require.Equal(t, "DOUBLE", found.Types["lr"])
}
