package kembrel

import (
	"math"
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// Items are handed over as lines of a file in the folder that the recorder gives.
func TestItems(t *testing.T) {
	r := listen(t)
	go r.welcome()
	run := record(t)
	folder := t.TempDir()
	heard := make(chan map[string]any, 2)
	go func() {
		heard <- r.next()
		r.say(`{"kind":"folder","id":1,"items":"k1","folder":"` + folder + `"}`)
		heard <- r.next()
		heard <- r.next()
		r.say(`{"kind":"folder","id":3,"items":"k2","folder":"` + folder + `"}`)
		heard <- r.next()
	}()
	depth := 12.5
	require.NoError(t, run.Items("val", "hydrophone", slices.Values([]Item{
		{Key: "a", Digest: "b3:00", Group: "v1", Labels: []string{"tug"}}, {Key: "b", Target: &depth}, {Key: "c"}})))
	begun, committed := <-heard, <-heard
	require.Equal(t, "begin", begun["do"])
	require.Equal(t, "val", begun["use"])
	require.Equal(t, "hydrophone", begun["data"])
	require.Equal(t, "k1", committed["items"])
	require.Equal(t, "commit", committed["do"])
	lines, err := os.ReadFile(filepath.Join(folder, "items.jsonl"))
	require.NoError(t, err)
	require.Equal(t, `{"key":"a","digest":"b3:00","group":"v1","label":["tug"]}`+"\n"+`{"key":"b","label":12.5}`+"\n"+
		`{"key":"c"}`+"\n", string(lines))

	nan := math.NaN()
	require.True(t, run.Items("val", "", slices.Values([]Item{{Key: "a", Target: &nan}})) != nil)
	begun, committed = <-heard, <-heard
	require.Equal(t, nil, begun["data"])
	require.Equal(t, "abandon", committed["do"])
	require.Equal(t, "k2", committed["items"])
}
