package kembrel

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/png"
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

// Several labels, texts and masks are files like the others.
func TestTasksOfPredictions(t *testing.T) {
	written := func(p Predictions) string {
		folder := t.TempDir()
		require.NoError(t, p.check())
		_, err := p.write(folder)
		require.NoError(t, err)
		lines, err := os.ReadFile(filepath.Join(folder, "examples.jsonl"))
		require.NoError(t, err)
		return string(lines)
	}
	labels := Predictions{Keys: []string{"a", "b"}, TrueLabels: [][]string{{"tug", "ferry"}, {}},
		PredictedLabels: [][]string{{"tug"}, nil}}
	require.Equal(t, "labels", labels.task())
	require.Equal(t, `{"key":"a","true":["tug","ferry"],"predicted":["tug"]}`+"\n"+`{"key":"b","true":[]}`+"\n",
		written(labels))
	text := Predictions{Keys: []string{"a"}, TrueTexts: []string{"fog"}, PredictedTexts: []string{""}}
	require.Equal(t, "text", text.task())
	require.Equal(t, `{"key":"a","true":"fog","predicted":""}`+"\n", written(text))

	m := image.NewPaletted(image.Rect(0, 0, 2, 1), color.Palette{color.Black, color.White})
	m.Pix = []uint8{1, 255}
	masks := Predictions{Keys: []string{"a", "b"}, Classes: []string{"water", "hull"}, TrueMasks: []*image.Paletted{m,
		nil},
		PredictedMasks: []*image.Paletted{m, m}}
	require.Equal(t, "masks", masks.task())
	media, err := masks.media()
	require.NoError(t, err)
	back, err := png.Decode(bytes.NewReader(media["true"][0]))
	require.NoError(t, err)
	require.Equal(t, string([]byte{1, 255}), string(back.(*image.Paletted).Pix))
	require.True(t, media["true"][1] == nil)
	require.Equal(t, 2, len(m.Palette))
}
