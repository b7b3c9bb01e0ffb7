package sheets

import (
	"context"
	"fmt"
	"io"
	"strconv"

	"kembrel/api"
	"kembrel/core/history"
	"kembrel/core/sheet"
)

// Media opens what an example shows of itself.
func (s *Sheets) Media(ctx context.Context, in *api.ExampleMediaInput) (r *io.SectionReader, name string, err error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, "", err
	}
	at, ok := sheet.Span{}, false
	if in.Row < w.Len() && w.Media != nil {
		at, ok = w.Media[in.Row][in.Name]
	}
	if !ok {
		return nil, "", api.Fail(api.NotFound, "example %d of sheet %d has no %.40q to show", in.Row, row.Number,
			in.Name)
	}
	files, err := s.db.SheetFiles(ctx, row.Run, row.ID)
	if err != nil {
		return nil, "", err
	}
	for _, f := range files {
		if f.Name != sheet.MediaFile {
			continue
		}
		media, err := s.reader(ctx, in.Name, f.Chunks)
		if err != nil {
			return nil, "", err
		}
		return io.NewSectionReader(media, at.At, at.Size), w.Keys[in.Row], media.Prime(at.At)
	}
	return nil, "", api.Fail(api.NotFound, "sheet %d has no media", row.Number)
}

// ExamplesTable writes a sheet as a table, to what begin gives for the first bytes of it: what is wrong before them is
// an error, and nothing was begun.
func (s *Sheets) ExamplesTable(ctx context.Context, in *api.ExamplesFileInput,
	begin func(name string) io.Writer) error {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return err
	}
	rows, err := s.rowsOf(ctx, row, w, in.Where, "")
	if err != nil {
		return err
	}
	t := history.NewTable(in.Format, begin(fmt.Sprintf("%s-%d-%s-%d", in.Project, in.Number, row.Split, row.Number)))
	t.Declare("key", "true", "predicted")
	if w.Task != sheet.Classes {
		t.Declare("error")
	}
	if w.Groups != nil {
		t.Declare("group")
	}
	if w.Texts != nil {
		t.Declare("text")
	}
	scores := make([]string, 0, len(w.Classes))
	if w.Scores != nil {
		for _, c := range w.Classes {
			scores = append(scores, "score."+c)
		}
	}
	t.Declare(scores...)
	for _, c := range w.Own {
		t.Declare(c.Name)
	}
	t.Fixed()
	for n, i := range rows {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		t.Add(tableRow(w, i, scores, in.Cutoff))
	}
	return t.Close()
}

// shortest is v, or, where v was stored in 32 bits, the number with the fewest digits of those that are stored so.
func shortest(v float64) float64 {
	if float64(float32(v)) != v {
		return v
	}
	out, err := strconv.ParseFloat(strconv.FormatFloat(v, 'g', -1, 32), 64)
	if err != nil {
		return v
	}
	return out
}

func tableRow(w *whole, i int, scores []string, cutoff float64) history.Row {
	row := history.Row{{Name: "key", Value: w.Keys[i]}}
	there := func(text string) any {
		if text == "" {
			return nil
		}
		return text
	}
	if w.Task == sheet.Number {
		row = append(row, history.Cell{Name: "true", Value: w.Target[i]},
			history.Cell{Name: "predicted", Value: w.Value[i]})
	} else {
		answer := given(w, i)
		if cutoff > 0 && !(w.Score(i) >= cutoff) {
			answer = ""
		}
		row = append(row, history.Cell{Name: "true", Value: there(truth(w, i))},
			history.Cell{Name: "predicted", Value: there(answer)})
	}
	if w.Task != sheet.Classes {
		row = append(row, history.Cell{Name: "error", Value: w.Error(i)})
	}
	if w.Groups != nil {
		row = append(row, history.Cell{Name: "group", Value: there(w.Groups[i])})
	}
	if w.Texts != nil {
		row = append(row, history.Cell{Name: "text", Value: there(w.Texts[i])})
	}
	for c, name := range scores {
		row = append(row, history.Cell{Name: name, Value: shortest(w.Row(i)[c])})
	}
	for _, c := range w.Own {
		row = append(row, history.Cell{Name: c.Name, Value: c.Values[i]})
	}
	return row
}
