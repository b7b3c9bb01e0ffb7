package protocol

import (
	"maps"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.UnixMilli(1_790_000_000_000)

func TestReadings(t *testing.T) {
	m, err := Parse([]byte(`{"kind":"readings","id":7,"step":40,"epoch":1,"values":{"loss.val":"NaN","loss.train":0.5}}`), now)
	require.NoError(t, err)
	require.EqualValues(t, 7, m.ID)
	require.Equal(t, []string{"loss.train", "loss.val"}, m.Names)
	require.Equal(t, 0.5, m.Batch.Columns[0].Values[0])
	require.True(t, math.IsNaN(m.Batch.Columns[1].Values[0]))
	require.Equal(t, now.UnixMilli(), m.Batch.Axis[0].Time, "a time that was not given is now")

	m, err = Parse([]byte(`{"kind":"readings","step":[1,2,3],"time":[5,6,7],"values":{"a":[1,null,"Infinity"],"b":[1,2,3]}}`), now)
	require.NoError(t, err)
	require.Equal(t, []int{0, 2}, m.Batch.Columns[0].Rows)
	require.True(t, math.IsInf(m.Batch.Columns[0].Values[1], 1))
	require.Nil(t, m.Batch.Columns[1].Rows)
	require.EqualValues(t, 6, m.Batch.Axis[1].Time)
	require.True(t, math.IsNaN(m.Batch.Axis[0].Epoch))

	m, err = Parse([]byte(`{"kind":"readings","epoch":3,"values":{"a":1}}`), now)
	require.NoError(t, err)
	require.EqualValues(t, 3, m.Batch.Axis[0].Step, "a whole epoch stands for the step")
}

// One bad name or value costs itself, never its neighbours.
func TestBadReadingsCostThemselves(t *testing.T) {
	m, err := Parse([]byte(`{"kind":"readings","step":1,"values":{"train/loss":1,"val/acc/top 1":2,"gradient@layer,1":3,"lr":"fast","loss":[1,2],"momentum":true,"":4,"rate":5,"good.val":"NaN"}}`), now)
	require.NoError(t, err)
	require.Equal(t, []string{"acc.top 1.val", "good.val", "gradient_layer_1", "loss.train", "rate"}, m.Names)
	require.Equal(t, map[string]string{"train/loss": "loss.train", "val/acc/top 1": "acc.top 1.val", "gradient@layer,1": "gradient_layer_1"}, m.Renamed)
	require.ElementsMatch(t, []string{"lr", "loss", "momentum", ""}, slices.Collect(maps.Keys(m.Bad)))
	require.EqualValues(t, 1, m.Batch.Columns[3].Values[0])

	m, err = Parse([]byte(`{"kind":"readings","step":1,"values":{"train/loss":1,"loss.train":2,"train\\loss":3}}`), now)
	require.NoError(t, err)
	require.Equal(t, []string{"loss.train"}, m.Names)
	require.EqualValues(t, 2, m.Batch.Columns[0].Values[0], "the name that is one goes before those that are made the same")
	require.Len(t, m.Bad, 2)
	_, err = Parse([]byte(`{"kind":"readings","step":1,"values":{"/":1,"lr":null}}`), now)
	require.ErrorContains(t, err, `curve "/"`)
}

func TestOtherKinds(t *testing.T) {
	m, err := Parse([]byte(`{"kind":"checkpoint","do":"commit","id":9,"checkpoint":"k","parts":{"weights":["w.bin"],"optimiser":["a/o.bin"]}}`), now)
	require.NoError(t, err)
	require.Equal(t, []File{{"optimiser", "a/o.bin"}, {"weights", "w.bin"}}, m.Files)
	m, err = Parse([]byte(`{"kind":"checkpoint","do":"begin","epoch":12}`), now)
	require.NoError(t, err)
	require.EqualValues(t, 12, m.Step)
	m, err = Parse([]byte(`{"kind":"hyper","values":{"lr":0.01,"layers":[384,6]}}`), now)
	require.NoError(t, err)
	require.Len(t, m.Hyper, 2)
}

func TestBadLinesSayWhatIsWrong(t *testing.T) {
	for line, want := range map[string]string{
		``:                                      "not a JSON object",
		`[]`:                                    "not a JSON object",
		`{"kind":"log"}`:                        "none of hello",
		`{"kind":"hello","protocol":2}`:         "speaks protocol 1",
		`{"kind":"note","id":-1}`:               "id -1",
		`{"kind":"note","id":"x"}`:              "not a JSON object",
		`{"kind":"note"}`:                       "1 to 10000 bytes",
		`{"kind":"end","state":"victory"}`:      "none of finished",
		`{"kind":"hyper","values":{"lr":null}}`: "hyperparameter \"lr\"",
		`{"kind":"readings","values":{"a":1}}`:  "needs a step",
		`{"kind":"readings","step":1}`:          "without values",
		`{"kind":"readings","step":1,"values":{"a":"high"}}`:                                  `"high" is not a number`,
		`{"kind":"readings","step":1,"values":{"a":"0.5"}}`:                                   "not a number",
		`{"kind":"readings","step":1.5,"values":{"a":1}}`:                                     "step 1.5",
		`{"kind":"readings","step":-1,"values":{"a":1}}`:                                      "step -1",
		`{"kind":"readings","step":1,"epoch":-1,"values":{"a":1}}`:                            "epoch",
		`{"kind":"readings","epoch":1.5,"values":{"a":1}}`:                                    "not whole",
		`{"kind":"readings","step":1,"values":{"":1}}`:                                        "needs a name",
		`{"kind":"readings","step":[2,1],"values":{"a":[1,2]}}`:                               "goes back",
		`{"kind":"readings","step":[1,2],"values":{"a":[1]}}`:                                 "1 values for 2 points",
		`{"kind":"readings","step":[1,2],"time":[1],"values":{"a":[1,2]}}`:                    "do not fit together",
		`{"kind":"checkpoint","do":"drop"}`:                                                   "none of begin, join, commit",
		`{"kind":"checkpoint","do":"begin"}`:                                                  "step",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k"}`:                                "at least one part",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"weights":[]}}`:         "has no file",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"weights":["../x"]}}`:   "leaves its folder",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"weights":["/etc/x"]}}`: "not relative",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"Weights":["x"]}}`:      "part name",
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"a":["x"],"b":["x"]}}`:  "twice",
		`{"kind":"items","do":"begin"}`:                                                       "nothing that data is used for",
		`{"kind":"items","do":"begin","use":"val","data":"hydrophone#3"}`:                     "cannot be called",
		`{"kind":"items","do":"end","use":"val"}`:                                             "none of begin, commit",
		"{\"kind\":\"note\",\"text\":\"\xff\"}":                                               "UTF-8",
		`{"kind":"readings","step":1,"values":{"a":1e999}}`:                                   "outside",
	} {
		_, err := Parse([]byte(line), now)
		require.ErrorContains(t, err, want, line)
	}
	_, err := Parse([]byte(`{"kind":"note","text":"`+strings.Repeat("a", MaxLine)+`"}`), now)
	require.ErrorContains(t, err, "too long")
}

func FuzzParse(f *testing.F) {
	for _, line := range []string{
		`{"kind":"readings","id":7,"step":[40,41],"epoch":[1,"NaN"],"values":{"loss.val":["NaN",null]}}`,
		`{"kind":"checkpoint","do":"commit","checkpoint":"k","parts":{"weights":["w"]}}`,
		`{"kind":"hyper","values":{"a":[1,"x",true]}}`, `{"kind":"hello","protocol":1}`, `{"kind":"end"}`,
	} {
		f.Add([]byte(line))
	}
	f.Fuzz(func(t *testing.T, line []byte) {
		m, err := Parse(line, now)
		if err != nil || m.Kind != Readings {
			return
		}
		if err := m.Batch.Check(0); err != nil {
			t.Fatalf("accepted what does not hold: %v", err)
		}
		if len(m.Names) != len(m.Batch.Columns) {
			t.Fatal("names and columns differ")
		}
	})
}
