package sheet_test

import (
	"bytes"
	"encoding/binary"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/sheet"
	"kembrel/core/sheet/intake"
	"kembrel/core/sheet/where"
	"kembrel/core/table"
	"kembrel/core/tensor"
)

func npy(t *testing.T, dtype string, shape []int64, values ...float32) string {
	data := []byte{}
	for _, v := range values {
		if dtype == "I64" {
			data = binary.LittleEndian.AppendUint64(data, uint64(int64(v)))
		} else {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(v))
		}
	}
	var out bytes.Buffer
	require.NoError(t, tensor.WriteNPY(&out, tensor.Tensor{Info: tensor.Info{Name: "x", Dtype: dtype, Shape: shape},
		Data: data}))
	return out.String()
}

func read(says sheet.Says, files map[string]string) (*sheet.Sheet, error) {
	in := map[string]sheet.File{}
	for name, content := range files {
		in[name] = bytes.NewReader([]byte(content))
	}
	return sheet.Read(says, in)
}

const two = `{"key": "val/v1/tug-1.npy", "true": "tug", "group": "v1", "own": {"depth": 12.5}}
{"key": "val/v2/ferry-1.npy", "true": "ferry", "text": "near the mole", "own": {"calm": true}}
`

func TestRead(t *testing.T) {
	s, err := read(sheet.Says{Task: sheet.Classes, Classes: []string{"ferry", "tug"}}, map[string]string{
		sheet.ExamplesFile: two, sheet.ScoresFile: npy(t, "F32", []int64{2, 2}, 0.25, 0.75, 0.4, 0.6)})
	require.NoError(t, err)
	require.Equal(t, []int32{1, 0}, s.True)
	require.Equal(t, []int32{1, 1}, s.Predicted, "the highest score")
	require.Equal(t, []string{"v1", ""}, s.Groups)
	require.Equal(t, "near the mole", s.Text(1))
	require.Equal(t, []any{12.5, nil}, s.Own[1].Values)
	require.InDelta(t, 0.2, s.Margin(1), 1e-6)
	require.InDelta(t, -math.Log(0.4), s.Loss(1), 1e-6)
	require.True(t, s.Right(0))
	require.False(t, s.Right(1))

	s, err = read(sheet.Says{Task: sheet.Classes}, map[string]string{
		sheet.ExamplesFile: `{"key":"a","true":"tug","predicted":"ferry"}` + "\n\n" + `{"key":"b","predicted":"tug"}`})
	require.NoError(t, err, "classes are found, by name")
	require.Equal(t, []string{"ferry", "tug"}, s.Classes)
	require.Equal(t, []int32{1, sheet.None}, s.True)
	require.Equal(t, []int32{0, 1}, s.Predicted)

	s, err = read(sheet.Says{Task: sheet.Classes}, map[string]string{
		sheet.ExamplesFile:  `{"key":"a","true":2}` + "\n" + `{"key":"b","true":null}`,
		sheet.PredictedFile: npy(t, "I64", []int64{2}, 1, -1)})
	require.NoError(t, err, "classes are told by places")
	require.Equal(t, []string{"0", "1", "2"}, s.Classes)
	require.Equal(t, []int32{1, sheet.None}, s.Predicted)

	s, err = read(sheet.Says{Task: sheet.Number}, map[string]string{
		sheet.ExamplesFile:  `{"key":"a","true":2.5}` + "\n" + `{"key":"b"}`,
		sheet.PredictedFile: npy(t, "F32", []int64{2}, 2, float32(math.NaN()))})
	require.NoError(t, err)
	require.Equal(t, 2.5, s.Target[0])
	require.False(t, s.Labelled(1))
}

// What is wrong is said with its file and line, at once.
func TestReadRefuses(t *testing.T) {
	named := sheet.Says{Task: sheet.Classes, Classes: []string{"ferry", "tug"}}
	for want, in := range map[string]struct {
		says  sheet.Says
		files map[string]string
	}{
		"it is not there":           {named, map[string]string{sheet.ScoresFile: "x"}},
		"a sheet has no such file":  {named, map[string]string{sheet.ExamplesFile: two, "notes.txt": "x"}},
		"there is no example in it": {named, map[string]string{sheet.ExamplesFile: "\n"}},
		"line 2: example": {named,
			map[string]string{sheet.ExamplesFile: `{"key":"a"}` + "\n" + `{"key":"a"}`}},
		"is none of the classes":   {named, map[string]string{sheet.ExamplesFile: `{"key":"a","true":"barge"}`}},
		"class 2 is none of the 2": {named, map[string]string{sheet.ExamplesFile: `{"key":"a","true":2}`}},
		"-1 is no class":           {named, map[string]string{sheet.ExamplesFile: `{"key":"a","true":-1}`}},
		"unknown field":            {named, map[string]string{sheet.ExamplesFile: `{"key":"a","label":"tug"}`}},
		"more than 65536 bytes": {named,
			map[string]string{sheet.ExamplesFile: `{"key":"` + strings.Repeat("a", 1<<17)}},
		"its shape is [1 2]": {named,
			map[string]string{sheet.ExamplesFile: two, sheet.ScoresFile: npy(t, "F32", []int64{1, 2}, 1, 0)}},
		"3 columns for 2 classes": {named,
			map[string]string{sheet.ExamplesFile: two,
				sheet.ScoresFile: npy(t, "F32", []int64{2, 3}, 1, 0, 0, 1, 0, 0)}},
		"name the classes": {sheet.Says{Task: sheet.Classes},
			map[string]string{sheet.ExamplesFile: two, sheet.ScoresFile: npy(t, "F32", []int64{2, 2}, 1, 0, 0, 1)}},
		"2 dimensions is wanted": {named,
			map[string]string{sheet.ExamplesFile: two, sheet.ScoresFile: npy(t, "F32", []int64{4}, 1, 0, 0, 1)}},
		"1 answers for 2 examples": {named,
			map[string]string{sheet.ExamplesFile: two, sheet.PredictedFile: npy(t, "F32", []int64{1}, 1)}},
		"answer 2 is 0.5": {named,
			map[string]string{sheet.ExamplesFile: two, sheet.PredictedFile: npy(t, "F32", []int64{2}, 1, 0.5)}},
		"scores belong to classes": {sheet.Says{Task: sheet.Number},
			map[string]string{sheet.ExamplesFile: `{"key":"a"}`, sheet.ScoresFile: npy(t, "F32", []int64{1, 1}, 1)}},
		"is no number": {sheet.Says{Task: sheet.Number},
			map[string]string{sheet.ExamplesFile: `{"key":"a","true":"tug"}`}},
		"its picture lies at": {named,
			map[string]string{sheet.ExamplesFile: `{"key":"a","media":{"picture":{"at":3,"size":9}}}`,
				sheet.MediaFile: "0123456789"}},
		"media cannot be called": {named,
			map[string]string{sheet.ExamplesFile: `{"key":"a","media":{"../x":{"at":0,"size":1}}}`,
				sheet.MediaFile: "0123456789"}},
		"it means something here": {named, map[string]string{sheet.ExamplesFile: `{"key":"a","own":{"loss":1}}`}},
		"texts, numbers and booleans": {named,
			map[string]string{sheet.ExamplesFile: `{"key":"a","own":{"depth":[1]}}`}},
		"some by place": {sheet.Says{Task: sheet.Classes},
			map[string]string{sheet.ExamplesFile: `{"key":"a","true":"tug","predicted":0}`}},
		`class "tug" is there twice`: {sheet.Says{Task: sheet.Classes, Classes: []string{"tug", "tug"}},
			map[string]string{sheet.ExamplesFile: two}},
		"none of [classes labels number text masks]": {sheet.Says{Task: "notes"},
			map[string]string{sheet.ExamplesFile: two}},
		"say the classes of the masks": {sheet.Says{Task: "masks"},
			map[string]string{sheet.ExamplesFile: two}},
		"no list of classes": {sheet.Says{Task: "labels"},
			map[string]string{sheet.ExamplesFile: two}},
		"is no text": {sheet.Says{Task: "text"},
			map[string]string{sheet.ExamplesFile: `{"key":"a","true":3}`}},
		"answers that are a text have no classes": {sheet.Says{Task: "text", Classes: []string{"a"}},
			map[string]string{sheet.ExamplesFile: two}},
		"its shape is [2 1]": {sheet.Says{Task: "labels", Classes: []string{"ferry", "tug"}}, map[string]string{
			sheet.ExamplesFile:  `{"key":"a","true":["tug"]}` + "\n" + `{"key":"b"}`,
			sheet.PredictedFile: npy(t, "F32", []int64{2, 1}, 1, 0)}},
		"masks lie in it": {sheet.Says{Task: "masks", Classes: []string{"water"}},
			map[string]string{sheet.ExamplesFile: `{"key":"a"}`}},
		"masks are among its media": {sheet.Says{Task: "masks", Classes: []string{"water"}},
			map[string]string{sheet.ExamplesFile: two}},
		"is no PNG": {sheet.Says{Task: "masks", Classes: []string{"water"}}, map[string]string{
			sheet.ExamplesFile: `{"key":"a","media":{"predicted":{"at":0,"size":4}}}`, sheet.MediaFile: "nope"}},
	} {
		_, err := read(in.says, in.files)
		var wrong *sheet.Wrong
		require.ErrorAs(t, err, &wrong, want)
		require.Contains(t, err.Error(), want)
	}
}

// Inputs that are shown twice are counted, by their bytes and by their text.
func TestDoubled(t *testing.T) {
	lines := `{"key":"a","true":0,"media":{"sound":{"at":0,"size":4}}}
{"key":"b","true":0,"media":{"sound":{"at":4,"size":4}}}
{"key":"c","true":0,"media":{"sound":{"at":8,"size":4}}}
{"key":"d","true":0,"text":"same"}
{"key":"e","true":0,"text":"same"}
`
	s, err := read(sheet.Says{Task: sheet.Classes}, map[string]string{sheet.ExamplesFile: lines,
		sheet.MediaFile: "sameothesame"})
	require.NoError(t, err)
	n, _, err := s.Inputs(bytes.NewReader([]byte("sameothesame")))
	require.NoError(t, err)
	require.EqualValues(t, 4, n, "a and c, d and e")
}

func TestWhere(t *testing.T) {
	s, err := read(sheet.Says{Task: sheet.Classes, Classes: []string{"ferry", "tug"}}, map[string]string{
		sheet.ExamplesFile: two + `{"key": "new/1.npy", "own": {"depth": 40}}`,
		sheet.ScoresFile:   npy(t, "F32", []int64{3, 2}, 0.25, 0.75, 0.4, 0.6, 0.5, 0.5)})
	require.NoError(t, err)
	for text, want := range map[string][]int{
		`true == "tug"`:                           {0},
		`true == predicted`:                       {0},
		`true != predicted`:                       {1, 2},
		`right == false`:                          {1},
		`right == true`:                           {0},
		`right`:                                   {0},
		`predicted == "tug" && true == "ferry"`:   {1},
		`true in ["tug", "ferry"] && score > 0.7`: {0},
		`true.startsWith("f")`:                    {1},
		`score < 0.7 && margin < 0.3`:             {1, 2},
		`loss > 0.5`:                              {1},
		`depth > 20`:                              {2},
		`calm`:                                    {1},
		`text("mole")`:                            {1},
		`column["depth"] < 20`:                    {0},
		`group == "v1"`:                           {0},
	} {
		c, err := where.Parse(s, text, time.Now())
		require.NoError(t, err, text)
		got := []int{}
		for i := range s.Len() {
			if c.Holds(i) {
				got = append(got, i)
			}
		}
		require.Equal(t, want, got, text)
	}
	for _, text := range []string{`true = "tug"`, `label == "tug"`, `error > 1`, `true > 3`, `hyper.lr > 1`} {
		_, err := where.Parse(s, text, time.Now())
		require.Error(t, err, text)
	}
}

// A table of anybody's becomes a sheet; its columns are recognised, or said.
func TestTable(t *testing.T) {
	open := func(text string) *intake.Table {
		from, err := table.Open("csv", strings.NewReader(text), table.Options{})
		require.NoError(t, err)
		return intake.NewTable(from)
	}
	made, err := open("id,label,score.tug,score.ferry,depth,error\n1,tug,0.9,0.1,3,yes\n2,ferry,0.3,,4,no\n").Make("",
		nil)
	require.NoError(t, err)
	files := map[string]string{}
	for name, content := range made.Files {
		files[name] = string(content)
	}
	s, err := read(made.Says, files)
	require.NoError(t, err)
	require.Equal(t, []string{"tug", "ferry"}, s.Classes)
	require.Equal(t, []string{"1", "2"}, s.Keys)
	require.True(t, math.IsNaN(float64(s.Row(1)[1])))
	require.Equal(t, "error_", s.Own[1].Name, "error means something")
	require.Equal(t, 3.0, s.Own[0].Values[0])

	m := open("a,b,c\ntug,ferry,0.5\n")
	require.NoError(t, m.Set("a", "true"))
	require.NoError(t, m.Set("b", "predicted"))
	require.Error(t, m.Set("z", "true"))
	require.Error(t, m.Set("c", "score"))
	made, err = m.Make("", nil)
	require.NoError(t, err)
	require.True(t, made.Rows)
	require.Equal(t, sheet.Classes, made.Task)

	made, err = open("key,true,predicted\na,1.5,1.25\nb,,2\n").Make("", nil)
	require.NoError(t, err)
	require.Equal(t, sheet.Number, made.Task)
	for text, want := range map[string]string{"depth\n3\n": "no column is what is true",
		"key,true,score.tug\na,tug,high\n": `"high" is no score`} {
		_, err := open(text).Make("", nil)
		require.ErrorContains(t, err, want, text)
	}
}

// Whatever the files hold, reading ends, with a sheet or with what is wrong.
func FuzzRead(f *testing.F) {
	f.Add([]byte(two), []byte("\x93NUMPY"), []byte{0, 0})
	f.Add([]byte(`{"key":"a","true":[1],"predicted":[0,1]}`), []byte{}, []byte{})
	f.Add([]byte(`{"key":"a","media":{"predicted":{"at":0,"size":4},"true":{"at":0,"size":4}}}`), []byte{},
		[]byte("\x89PNG"))
	f.Add([]byte(`{"key":"a","true":1,"media":{"x":{"at":0,"size":1}}}`), []byte{}, []byte("x"))
	f.Fuzz(func(t *testing.T, lines, scores, media []byte) {
		for _, says := range []sheet.Says{{Task: sheet.Classes}, {Task: sheet.Classes, Classes: []string{"ferry",
			"tug"}},
			{Task: sheet.Number}, {Task: sheet.Labels}, {Task: sheet.Text}, {Task: sheet.Masks, Classes: []string{"a",
				"b"}}} {
			files := map[string]sheet.File{sheet.ExamplesFile: bytes.NewReader(lines)}
			if len(scores) > 0 {
				files[sheet.ScoresFile] = bytes.NewReader(scores)
			}
			if len(media) > 0 {
				files[sheet.MediaFile] = bytes.NewReader(media)
			}
			s, err := sheet.Read(says, files)
			if err != nil {
				continue
			}
			for i := range s.Len() {
				s.Labelled(i)
				s.Margin(i)
				s.Right(i)
				s.Error(i)
			}
			s.Inputs(bytes.NewReader(media))
		}
	})
}
