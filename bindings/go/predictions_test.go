package kembrel

import (
	"encoding/binary"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A sheet is handed over as files in the folder that the recorder gives; what does not fit together is refused before.
func TestPredictions(t *testing.T) {
	r := listen(t)
	go r.welcome()
	run := record(t)
	folder := t.TempDir()
	done := make(chan map[string]any)
	go func() {
		begun := r.next()
		r.say(`{"kind":"folder","id":1,"sheet":"k1","folder":"` + folder + `"}`)
		done <- begun
		done <- r.next()
	}()
	sent := make(chan error)
	go func() {
		sent <- run.Predictions(Predictions{Split: "val", Step: 40, Epoch: 2, Keys: []string{"a", "b"},
			Classes: []string{"ferry", "tug"}, True: []int{1, -1}, Scores: [][]float32{{0.25, 0.75}, {1, 0}},
			Groups: []string{"v1", "v2"}, Media: map[string][][]byte{"sound": {[]byte("RIFF"), nil}},
			Own: map[string][]any{"depth": {12.5, "?"}}})
	}()
	begun := <-done
	require.Equal(t, "begin", begun["do"])
	require.Equal(t, "val", begun["split"])
	require.Equal(t, "classes", begun["task"])
	committed := <-done
	require.NoError(t, <-sent)
	require.Equal(t, "k1", committed["sheet"])
	require.Equal(t, []any{"examples.jsonl", "scores.npy", "media"}, committed["files"])
	lines, err := os.ReadFile(filepath.Join(folder, "examples.jsonl"))
	require.NoError(t, err)
	require.Equal(t, `{"key":"a","true":1,"group":"v1","media":{"sound":{"at":0,"size":4}},"own":{"depth":12.5}}`+"\n"+
		`{"key":"b","group":"v2","own":{"depth":"?"}}`+"\n", string(lines))
	scores, err := os.ReadFile(filepath.Join(folder, "scores.npy"))
	require.NoError(t, err)
	require.True(t, strings.Contains(string(scores), "'shape': (2, 2,)"))
	require.Equal(t, math.Float32bits(0.75), binary.LittleEndian.Uint32(scores[len(scores)-12:]))

	for _, p := range []Predictions{{Split: "val", Keys: []string{"a"}, Classes: []string{"tug"}, True: []int{0, 0}},
		{Split: "val", Keys: []string{"a"}, Classes: []string{"tug"}, Scores: [][]float32{{1, 0}}}} {
		require.True(t, run.Predictions(p) != nil)
	}
}
