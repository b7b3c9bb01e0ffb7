package web_test

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/assess"
	"kembrel/core/sheet"
)

// task adds a sheet of a task, of lines of examples and media.
func (s *served) task(t *testing.T, run api.RunInput, says sheet.Says, epoch int, lines string,
	media []byte) *api.Sheet {
	t.Helper()
	files := map[string][]byte{sheet.ExamplesFile: []byte(lines)}
	if media != nil {
		files[sheet.MediaFile] = media
	}
	in := s.newSheet(t, run, "val", epoch, files)
	in.Body.Says = says
	return call(t, s, api.AddSheet, in)
}

// keysOf lists the examples that fulfil a condition, in an order.
func (s *served) keysOf(t *testing.T, at api.SheetInput, condition, order string) (out []string) {
	t.Helper()
	got := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Where: condition, Order: order, Limit: 100})
	for _, e := range got.Items {
		out = append(out, e.Key)
	}
	return out
}

func TestSheetsOfSeveralLabels(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	var lines strings.Builder
	for i := range 20 { // tugs are never heard, ferries once too often
		answer := `["ferry"]`
		if i%2 == 1 {
			answer = `[]`
		}
		fmt.Fprintf(&lines, `{"key":"clip-%02d","true":["tug"%s],"predicted":%s}`+"\n", i,
			map[bool]string{true: `,"ferry"`}[i%4 == 0], answer)
	}
	one := s.task(t, leg.RunInput, sheet.Says{Task: sheet.Labels}, 1, lines.String(), nil)
	require.Equal(t, "exact match 0.000 (95 % 0.000 to 0.161) on 20 examples.", one.Says)
	require.Equal(t, []string{"ferry", "tug"}, one.Classes)
	require.Equal(t, assess.NeverAnswered, one.Alarms[0].Kind)
	require.Equal(t, `"tug" in true`, one.Alarms[0].Where)
	at := api.SheetInput{RunInput: leg.RunInput, Sheet: 1}
	d := call(t, s, api.GetSheet, &at)
	require.Equal(t, "Tug missed, and nothing said in its place: 15 of 20 (95 % 53 to 89 %).", d.Says)
	require.Equal(t, `"tug" in missed`, d.Pairs[0].Where)
	require.Equal(t, `"tug" in missed && "ferry" in added`, d.Pairs[1].Where)
	require.Len(t, s.keysOf(t, at, d.Pairs[1].Where, ""), int(d.Pairs[1].Count))
	first := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Order: "error", Limit: 1}).Items[0]
	require.Equal(t, []any{"clip-01", []string{"tug"}, 1.0}, []any{first.Key, first.Labels, float64(*first.Error)})
	require.NotNil(t, first.Right)
	refuse(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Order: "surest", Limit: 1}, api.Invalid,
		"cannot be ordered by surest")
	refuse(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Where: `true == "tug"`, Limit: 1}, api.Invalid,
		`true is a list: write "tug" in true`)

	example := api.ExampleInput{SheetInput: at, Row: 1}
	marked := &api.NewMark{ExampleInput: example}
	marked.Body.Mark, marked.Body.Label = "wrong", "ferry"
	require.Equal(t, "tug", call(t, s, api.SetMark, marked).Marks[0].Was)
	s.task(t, leg.RunInput, sheet.Says{Task: sheet.Labels}, 2, strings.ReplaceAll(lines.String(), `[]`, `["tug"]`), nil)
	over := call(t, s, api.GetExample, &example).Over
	require.Equal(t, []string{"", "tug"}, []string{over[0].Predicted, over[1].Predicted})
	require.Zero(t, float64(*over[1].Error))

	other := s.leg(t)
	s.task(t, other.RunInput, sheet.Says{Task: sheet.Labels}, 1, strings.ReplaceAll(lines.String(), `[]`, `["tug"]`),
		nil)
	apart := call(t, s, api.GetDisagreement, &api.DisagreementInput{SheetInput: at, Run: "vessels/2", Kind: "second",
		Limit: 5})
	require.EqualValues(t, []int64{0, 10, 10}, []int64{apart.Disagreement.First, apart.Disagreement.Second,
		apart.Disagreement.Neither})
	require.Empty(t, apart.Classes)
	require.Equal(t, "tug", apart.Items[0].Other)

	body, err := client.Stream(ctx, s.Client, api.GetExamplesFile, &api.ExamplesFileInput{SheetInput: at,
		Format: "csv"})
	require.NoError(t, err)
	defer body.Close()
	var table bytes.Buffer
	_, err = table.ReadFrom(body)
	require.NoError(t, err)
	require.Contains(t, table.String(), "key,true,predicted,error\nclip-00,ferry; tug,ferry,0.5\n")
}

// Classes that are told by their places get the names that the run saved with its checkpoint.
func TestNamesOfClasses(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	lines := `{"key":"a","true":[1]}` + "\n" + `{"key":"b","true":[0,1],"predicted":[2]}`
	require.Equal(t, []string{"0", "1", "2"}, s.task(t, leg.RunInput, sheet.Says{Task: sheet.Labels}, 1, lines,
		nil).Classes)
	saved := []byte(`{"bands": 24, "classes": ["tug", "ferry", "trawler", "dredger"]}`)
	s.put(t, saved)
	in := manifest(leg, 10, map[string][]byte{"preprocess.json": saved})
	in.Body.Files[0].Part = "preprocess"
	call(t, s, api.CommitCheckpoint, in)
	require.Equal(t, []string{"tug", "ferry", "trawler"},
		s.task(t, leg.RunInput, sheet.Says{Task: sheet.Labels}, 12, lines, nil).Classes)
	require.Equal(t, []string{"x", "y", "z"}, s.task(t, leg.RunInput,
		sheet.Says{Task: sheet.Labels, Classes: []string{"x", "y", "z"}}, 12, lines, nil).Classes,
		"names that are given hold")
}

func TestSheetsOfTexts(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	lines := `{"key":"a","true":"wind north","predicted":"wind forth"}
{"key":"b","true":"fog","predicted":"fog"}
{"key":"c","predicted":"gale"}
`
	one := s.task(t, leg.RunInput, sheet.Says{Task: sheet.Text}, 1, lines, nil)
	require.Contains(t, one.Says, "exact match 0.500")
	require.Equal(t, "character error rate", one.Figures[1].Name)
	require.InDelta(t, 1.0/13, one.Figures[1].Value, 1e-12)
	at := api.SheetInput{RunInput: leg.RunInput, Sheet: 1}
	require.Equal(t, []string{"a", "b", "c"}, s.keysOf(t, at, "", "error"), "what is not known comes last")
	require.Equal(t, []string{"a"}, s.keysOf(t, at, `text("forth")`, ""))
	d := call(t, s, api.GetExample, &api.ExampleInput{SheetInput: at})
	require.Equal(t, []string{"wind north", "wind forth"}, []string{d.True, d.Predicted})
	require.InDelta(t, 0.1, float64(*d.Error), 1e-12)
	require.Empty(t, call(t, s, api.GetSheet, &at).Pairs)
	refuse(t, s, api.GetCutoffs, &api.CutoffsInput{SheetInput: at}, api.Conflict, "no scores")
}

func TestSheetsOfMasks(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	mask := func(pixels ...uint8) []byte {
		p := image.NewPaletted(image.Rect(0, 0, len(pixels), 1), color.Palette{color.Black, color.White, color.Gray{9}})
		copy(p.Pix, pixels)
		var out bytes.Buffer
		require.NoError(t, png.Encode(&out, p))
		return out.Bytes()
	}
	truth, answer := mask(0, 0, 0, 1, 1, 1), mask(0, 0, 0, 0, 1, 1)
	lines := fmt.Sprintf(`{"key":"a","media":{"true":{"at":0,"size":%d},"predicted":{"at":%d,"size":%d}}}`, len(truth),
		len(truth), len(answer))
	says := sheet.Says{Task: sheet.Masks, Classes: []string{"water", "hull"}}
	one := s.task(t, leg.RunInput, says, 1, lines, append(truth, answer...))
	require.Equal(t, "IoU, mean of classes", one.Figures[0].Name)
	require.InDelta(t, (0.75+2.0/3)/2, one.Figures[0].Value, 1e-12)
	at := api.SheetInput{RunInput: leg.RunInput, Sheet: 1}
	d := call(t, s, api.GetSheet, &at)
	require.Equal(t, "Hull taken for water: 1 of 3 pixels (33 %).", d.Says)
	require.EqualValues(t, 6, d.Assessed.Pixels)
	require.Equal(t, []string{"a"}, s.keysOf(t, at, d.Pairs[0].Where, "error"))
	e := call(t, s, api.GetExample, &api.ExampleInput{SheetInput: at})
	require.Equal(t, []string{"predicted", "true"}, e.Media)
	require.Equal(t, []string{"water", "hull"}, e.Labels)

	bad := s.newSheet(t, leg.RunInput, "val", 2, map[string][]byte{sheet.ExamplesFile: []byte(lines),
		sheet.MediaFile: bytes.Repeat([]byte("x"), len(truth)+len(answer))})
	bad.Body.Says = says
	refuse(t, s, api.AddSheet, bad, api.Invalid, "is no PNG")
}
