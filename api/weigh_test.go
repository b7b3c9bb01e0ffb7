package api

import (
	"bytes"
	"encoding/json"
	"runtime"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func weigh(w Weigher, body []byte) (weight int64) {
	for piece := range slices.Chunk(body, 7) { // heads and texts are cut anywhere
		weight += w.Add(piece)
	}
	return weight
}

func TestWeighJSON(t *testing.T) {
	require.EqualValues(t, 3*weighObject+weighList+2*weighNumber, weigh(WeighJSON(), []byte(`[{},{},{}]`)))
	require.EqualValues(t, weighObject+weighText+len(`a,{\"`)+weighNumber, weigh(WeighJSON(), []byte(`{"a,{\"":1}`)),
		"what stands in a text is no value")
	require.EqualValues(t, weighList+999*weighNumber, weigh(WeighJSON(), []byte("["+strings.Repeat("0,", 999)+"0]")))
}

func TestWeighCBOR(t *testing.T) {
	of := func(v any) int64 {
		var b bytes.Buffer
		require.NoError(t, Format.Marshal(&b, v))
		return weigh(WeighCBOR(), b.Bytes())
	}
	require.EqualValues(t, weighList+3*weighObject, of([]map[string]int{{}, {}, {}}))
	require.EqualValues(t, weighList+1000*weighNumber, of(make([]int, 1000)))
	require.EqualValues(t, weighText+1000*weighNumber, of(make(Ints, 1000)),
		"a typed array weighs what its numbers weigh")
	require.EqualValues(t, weighText+1000*weighNumber, of(Floats(make([]float64, 1000))))
	require.EqualValues(t, weighObject+2*weighText+len("name")+len("loss.val"),
		of(map[string]string{"name": "loss.val"}))
}

// What is weighed is about what it takes, and never much less.
func TestWeightsAreThoseOfMemory(t *testing.T) {
	for _, body := range []string{
		"[" + strings.Repeat("{},", 100_000) + "{}]",
		`{"a":[` + strings.Repeat(`"x",`, 100_000) + `""]}`,
		"[" + strings.Repeat("[],", 100_000) + "[]]",
		"[" + strings.Repeat("1,", 100_000) + "1]",
		"[" + strings.Repeat(`{"name":"loss.val","curve":12},`, 50_000) + "{}]",
	} {
		weight := weigh(WeighJSON(), []byte(body))
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		var out any
		require.NoError(t, json.Unmarshal([]byte(body), &out))
		runtime.GC()
		runtime.ReadMemStats(&after)
		held := int64(after.HeapAlloc) - int64(before.HeapAlloc)
		require.Less(t, held, 2*weight, "%.20s", body)
		runtime.KeepAlive(out)
	}
}
