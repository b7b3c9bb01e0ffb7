package sheet_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/sheet"
	"kembrel/core/sheet/where"
)

// listed are the keys of the examples that fulfil a condition.
func listed(t *testing.T, s *sheet.Sheet, condition string) (out []string) {
	c, err := where.Parse(s, condition, time.Now())
	require.NoError(t, err, condition)
	for i := range s.Len() {
		if c.Holds(i) {
			out = append(out, s.Keys[i])
		}
	}
	return out
}

const several = `{"key":"a","true":["tug","ferry"],"predicted":["ferry"]}
{"key":"b","true":[],"predicted":["dredger"]}
{"key":"c","true":["tug"],"predicted":["tug"]}
{"key":"d","predicted":["tug"]}
`

func TestSeveralLabels(t *testing.T) {
	s, err := read(sheet.Says{Task: sheet.Labels}, map[string]string{sheet.ExamplesFile: several})
	require.NoError(t, err)
	require.Equal(t, []string{"dredger", "ferry", "tug"}, s.Classes)
	require.Equal(t, [][]int32{{1, 2}, {}, {2}, nil}, s.TrueSets)
	require.Equal(t, [][]int32{{1}, {0}, {2}, {2}}, s.AnswerSets)
	require.Equal(t, []bool{true, true, true, false}, []bool{s.Labelled(0), s.Labelled(1), s.Labelled(2),
		s.Labelled(3)})
	require.Equal(t, []bool{false, false, true, false}, []bool{s.Right(0), s.Right(1), s.Right(2), s.Right(3)})
	require.InDelta(t, 0.5, s.Error(0), 1e-12)
	require.InDelta(t, 1, s.Error(1), 1e-12)
	require.NotEqual(t, s.Error(3), s.Error(3), "not known")
	require.Equal(t, []string{"a"}, listed(t, s, `"tug" in missed`))
	require.Equal(t, []string{"b"}, listed(t, s, `"dredger" in added`))
	require.Equal(t, []string{"a", "c"}, listed(t, s, `"tug" in true`))
	require.Equal(t, []string{"c"}, listed(t, s, `right && error < 0.1`))
	_, err = where.Parse(s, `loss > 1`, time.Now())
	require.Error(t, err, "several labels have no loss")

	s, err = read(sheet.Says{Task: sheet.Labels, Classes: []string{"ferry", "tug"}}, map[string]string{
		sheet.ExamplesFile: `{"key":"a","true":[1]}` + "\n" + `{"key":"b","true":[0,1]}`,
		sheet.ScoresFile:   npy(t, "F32", []int64{2, 2}, 0.2, 0.5, 0.9, 0.4)})
	require.NoError(t, err)
	require.Equal(t, [][]int32{{1}, {0}}, s.AnswerSets, "scores from a half on")
	s, err = read(sheet.Says{Task: sheet.Labels, Classes: []string{"ferry", "tug"}}, map[string]string{
		sheet.ExamplesFile:  `{"key":"a","true":[1]}` + "\n" + `{"key":"b","true":[0,1]}`,
		sheet.PredictedFile: npy(t, "I64", []int64{2, 2}, 0, 0, 1, 1)})
	require.NoError(t, err)
	require.Equal(t, [][]int32{{}, {0, 1}}, s.AnswerSets)
}

func TestTexts(t *testing.T) {
	s, err := read(sheet.Says{Task: sheet.Text}, map[string]string{sheet.ExamplesFile: `
{"key":"a","true":"wind north","predicted":"wind forth"}
{"key":"b","true":"","predicted":""}
{"key":"c","true":"fog"}
{"key":"d","predicted":"gale"}`})
	require.NoError(t, err)
	require.Equal(t, []bool{false, true, false, false}, []bool{s.Right(0), s.Right(1), s.Right(2), s.Right(3)})
	require.InDelta(t, 0.1, s.Error(0), 1e-12)
	require.Zero(t, s.Error(1))
	require.Equal(t, []string{"a"}, listed(t, s, `error > 0.05 && true.contains("north")`))
	require.Equal(t, []string{"c"}, listed(t, s, `predicted == "" && true != ""`))
}

// The edit distance by columns of bits is that of the table that everybody fills.
func TestDistance(t *testing.T) {
	slow := func(a, b []rune) int {
		row := make([]int, len(b)+1)
		for j := range row {
			row[j] = j
		}
		for i := range a {
			last := row[0]
			row[0] = i + 1
			for j := range b {
				cost := last
				if a[i] != b[j] {
					cost++
				}
				last = row[j+1]
				row[j+1] = min(cost, row[j]+1, row[j+1]+1)
			}
		}
		return row[len(b)]
	}
	random := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		texts := [2]string{}
		for k := range texts {
			for range random.IntN([]int{5, 70, 300}[random.IntN(3)]) {
				texts[k] += string([]rune("abcé語")[random.IntN(5)])
			}
		}
		if random.IntN(3) == 0 { // nearly the same
			texts[1] = texts[0] + "x"
		}
		off, of := sheet.CharactersOff(texts[0], texts[1])
		require.Equal(t, slow([]rune(texts[0]), []rune(texts[1])), off, "%q %q", texts[0], texts[1])
		require.Equal(t, len([]rune(texts[0])), of)
	}
	off, of := sheet.WordsOff("the tug  leaves at noon", "a tug leaves noon")
	require.Equal(t, []int{2, 5}, []int{off, of})
}

// maskOf is a mask of so many pixels to a row, as PNG.
func maskOf(t *testing.T, width int, pixels ...uint8) string {
	p := image.NewPaletted(image.Rect(0, 0, width, len(pixels)/width), color.Palette{})
	for i := range 256 {
		p.Palette = append(p.Palette, color.Gray{uint8(i)})
	}
	copy(p.Pix, pixels)
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, p))
	return out.String()
}

// masked are the files of a sheet of pairs of masks: what is true ("": nothing), then what is answered.
func masked(pairs ...[2]string) map[string]string {
	var lines, media strings.Builder
	for i, pair := range pairs {
		var spans []string
		for k, name := range []string{sheet.TrueMask, sheet.AnswerMask} {
			if pair[k] != "" {
				spans = append(spans, fmt.Sprintf(`"%s":{"at":%d,"size":%d}`, name, media.Len(), len(pair[k])))
				media.WriteString(pair[k])
			}
		}
		fmt.Fprintf(&lines, `{"key":"%c","media":{%s}}`+"\n", 'a'+i, strings.Join(spans, ","))
	}
	return map[string]string{sheet.ExamplesFile: lines.String(), sheet.MediaFile: media.String()}
}

func TestMasks(t *testing.T) {
	says := sheet.Says{Task: sheet.Masks, Classes: []string{"water", "hull", "quay"}}
	s, err := read(says, masked([2]string{maskOf(t, 2, 0, 1, 1, 255), maskOf(t, 2, 0, 1, 0, 2)},
		[2]string{"", maskOf(t, 2, 2, 2)}, [2]string{maskOf(t, 1, 0, 0), maskOf(t, 1, 0, 0)}))
	require.NoError(t, err)
	require.Equal(t, []sheet.PixelCount{{True: 0, Answer: 0, Count: 1}, {True: 1, Answer: 0, Count: 1},
		{True: 1, Answer: 1, Count: 1}}, s.Pixels[0], "what is of no class is left out")
	require.Equal(t, []bool{true, false, true}, []bool{s.Labelled(0), s.Labelled(1), s.Labelled(2)})
	require.Equal(t, []bool{false, false, true}, []bool{s.Right(0), s.Right(1), s.Right(2)})
	require.InDelta(t, 0.5, s.Error(0), 1e-12, "1 of 2 both of water and of hull")
	require.Equal(t, []string{"a"}, listed(t, s, `"hull" in true`))
	require.Equal(t, []string{"a", "b"}, listed(t, s, `"quay" in predicted`))

	for want, pair := range map[string][2]string{
		"its masks are 2 x 1 and 1 x 2 pixels": {maskOf(t, 2, 0, 0), maskOf(t, 1, 0, 0)},
		"a pixel is 7":                         {maskOf(t, 1, 0), maskOf(t, 1, 7)},
		"no example has a mask":                {maskOf(t, 1, 0), ""},
	} {
		_, err := read(says, masked(pair))
		require.ErrorContains(t, err, want)
	}
	var coloured bytes.Buffer
	require.NoError(t, png.Encode(&coloured, image.NewRGBA(image.Rect(0, 0, 1, 1))))
	_, err = read(says, masked([2]string{"", coloured.String()}))
	require.ErrorContains(t, err, "has colours")
	huge := []byte(maskOf(t, 1, 0))
	copy(huge[16:24], []byte{0, 0, 0xc3, 0x50, 0, 0, 0xc3, 0x50}) // 50,000 by 50,000, said in 100 bytes
	_, err = read(says, masked([2]string{"", string(huge)}))
	require.Error(t, err)
}

// Inputs that show nothing are counted.
func TestBlankInputs(t *testing.T) {
	flat, spotted := maskOf(t, 2, 3, 3, 3, 3), maskOf(t, 2, 3, 3, 3, 4)
	sound := func(samples string) string { return "RIFF....WAVEfmt ................data\x10\x00\x00\x00" + samples }
	silent, loud := sound(strings.Repeat("\x00", 16)),
		sound("\x00\x00\x01\x00\x02\x00\x03\x00\x00\x00\x01\x00\x02\x00\x03\x00")
	var lines, media strings.Builder
	for i, content := range []string{flat, spotted, silent, loud} {
		fmt.Fprintf(&lines, `{"key":"%d","true":0,"media":{"shown":{"at":%d,"size":%d}}}`+"\n", i, media.Len(),
			len(content))
		media.WriteString(content)
	}
	lines.WriteString(`{"key":"t","true":0,"text":"  "}` + "\n" + `{"key":"u","true":0,"text":"fog"}`)
	s, err := read(sheet.Says{Task: sheet.Classes}, map[string]string{sheet.ExamplesFile: lines.String(),
		sheet.MediaFile: media.String()})
	require.NoError(t, err)
	doubled, blank, err := s.Inputs(strings.NewReader(media.String()))
	require.NoError(t, err)
	require.Equal(t, []int64{0, 3}, []int64{doubled, blank})
}

// Names of classes are found in what programs save of them, as JSON of their own and as a binding's tree.
func TestNamesIn(t *testing.T) {
	for content, want := range map[string][]string{
		`{"bands": 24, "classes": ["tug", "ferry"]}`:                                       {"tug", "ferry"},
		`{"labels": ["x", "y"], "classes": ["tug", "ferry"]}`:                              {"tug", "ferry"},
		`{"tree": {"dict": [["labels", {"list": ["tug", "ferry"]}]]}}`:                     {"tug", "ferry"},
		`{"tree": {"dict": [["labels", {"dict": [[1, "ferry"], [0, "tug"]]}], ["m", 1]]}}`: {"tug", "ferry"},
		`{"input": {"class_names": ["tug", "ferry", "trawler"]}}`:                          {"tug", "ferry", "trawler"},
		`{"classes": ["tug"]}`:                         nil,
		`{"classes": ["tug", 3]}`:                      nil,
		`{"classes": ["tug", "tug"]}`:                  nil,
		`{"classes": {"dict": [[7, "a"], [0, "b"]]}}`:  nil,
		`{"labels": {"dict": [[0.5, "a"], [0, "b"]]}}`: nil,
		`["classes"]`:                                  nil,
		`no JSON`:                                      nil,
	} {
		require.Equal(t, want, sheet.NamesIn([]byte(content), 2), content)
	}
	require.Nil(t, sheet.NamesIn(bytes.Repeat([]byte(" "), sheet.MaxNamesFile+1), 0))
}
