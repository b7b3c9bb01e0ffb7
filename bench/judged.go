package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math"
	"net/http"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/catalogue"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/sheet"
	"kembrel/store/pg/db"
)

// usedBy are how many runs used a snapshot whose lineage is asked for.
var usedBy = []int{1_000, 100_000}

// lineageRows measure the lineage of a snapshot that many runs used: it is bounded, so it must not take longer as they
// grow.
func (w *world) lineageRows() (out []row) {
	ctx := context.Background()
	for _, n := range usedBy {
		name := fmt.Sprintf("used-%d", n)
		ready := false
		fill := func() error {
			if ready {
				return nil
			}
			at, err := w.fillGrown(ctx, n)
			if err != nil {
				return err
			}
			draft := &api.NewDraft{DatasetInput: api.DatasetInput{Dataset: name}, Key: uuid.NewString()}
			draft.Body.Source.Kind = "program"
			made, err := client.BeginSnapshot(ctx, w.client, draft)
			if err != nil {
				return err
			}
			item := dataset.Item{Key: name, Digest: chunk.Sum([]byte(name)), Size: 1, Split: "train",
				Target: math.NaN()}
			if err := made.Add(item); err != nil {
				return err
			}
			if _, err := made.Commit(ctx, nil); err != nil {
				return err
			}
			for _, text := range []string{fmt.Sprintf(`insert into run_data (run, use, snapshot, split, address)
				select r.id, 'train', s.id, 'train', '%[1]s#1:train' from run r join project p on p.id = r.project
				cross join (select s.id from snapshot s join dataset d on d.id = s.dataset where d.name = '%[1]s') s where p.key = '%[2]s'`, name, at.Project),
				"analyze run_data"} {
				if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
					return err
				}
			}
			ready = true
			return nil
		}
		read := func() (float64, error) {
			if err := fill(); err != nil {
				return 0, err
			}
			began := time.Now()
			got, err := client.Call(ctx, w.client, api.GetLineage, &api.LineageInput{Of: name + "#1", Limit: 300})
			if err == nil && (len(got.Nodes) != 300 || !got.Cut) {
				err = fmt.Errorf("%d things came", len(got.Nodes))
			}
			return float64(time.Since(began).Microseconds()) / 1000, err
		}
		out = append(out, row{what: fmt.Sprintf("lineage of a snapshot that %d runs used, 300 things", n),
			reference: "(itself)", unit: "ms", want: "(bounded)", rounds: 5, theirs: read, ours: read})
	}
	return out
}

// fileRows measure a text of 48 MB that is kept with a run: kept, its first page, searched to its end.
func (w *world) fileRows() []row {
	ctx := context.Background()
	var run api.RunInput
	keep := func() (float64, error) {
		var err error
		if run, err = w.sheetRun(); err != nil {
			return 0, err
		}
		var text bytes.Buffer
		for i := range 1_000_000 {
			fmt.Fprintf(&text, "clip-%07d tug %s ferry %d\n", i, uuid.NewString()[:18], i%7)
		}
		began := time.Now()
		in := &api.NewRunFile{RunInput: run, Key: uuid.NewString()}
		if in.Body.File, err = client.SendFile(ctx, w.client, "report.txt", bytes.NewReader(text.Bytes())); err != nil {
			return 0, err
		}
		in.Body.File.Part = "file"
		_, err = client.Call(ctx, w.client, api.AddRunFile, in)
		return float64(time.Since(began).Microseconds()) / 1000, err
	}
	view := func(search string, lines int) func() (float64, error) {
		return func() (float64, error) {
			if run.Number == 0 {
				if _, err := keep(); err != nil {
					return 0, err
				}
			}
			began := time.Now()
			got, err := client.Call(ctx, w.client, api.ViewRunFile, &api.RunFileViewInput{
				RunFileInput: api.RunFileInput{RunInput: run, Path: "report.txt"}, Limit: 500, Search: search})
			if err == nil && len(got.Rows) != lines {
				err = fmt.Errorf("%d lines came", len(got.Rows))
			}
			return float64(time.Since(began).Microseconds()) / 1000, err
		}
	}
	first, last := view("", 500), view("clip-0999999", 1)
	return []row{
		{what: "file of a run, a million lines: kept", reference: "(itself)", unit: "ms", want: "(within seconds)",
			rounds: 2, theirs: keep, ours: keep},
		{what: "file of a run, a million lines: first page", reference: "(itself)", unit: "ms", want: "<= 100",
			rounds: 5, theirs: first, ours: first},
		{what: "file of a run, a million lines: searched to its end", reference: "(itself)", unit: "ms",
			want: "(within seconds)", rounds: 3, theirs: last, ours: last},
	}
}

// taskRows measure taking sheets whose answers are no single classes.
func (w *world) taskRows() []row {
	add := func(says sheet.Says, files func() map[string][]byte) func() (float64, error) {
		return func() (float64, error) {
			run, err := w.sheetRun()
			if err != nil {
				return 0, err
			}
			all := files()
			began := time.Now()
			err = w.addSheetOf(run, 1, says, all)
			return time.Since(began).Seconds(), err
		}
	}
	labels := add(sheet.Says{Task: sheet.Labels, Classes: []string{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"}},
		func() map[string][]byte {
			var lines bytes.Buffer
			scores := make([]byte, 0, 50_000*40)
			for i := range 50_000 {
				fmt.Fprintf(&lines, `{"key":"clip-%d","true":[%d,%d],"group":"v%d"}`+"\n", i, i%5, 5+i%4, i/8)
				for c := range 10 {
					v := 0.1 + 0.8*float32((i*7+c*3)%11)/11
					scores = binary.LittleEndian.AppendUint32(scores, math.Float32bits(v))
				}
			}
			return map[string][]byte{sheet.ExamplesFile: lines.Bytes(), sheet.ScoresFile: npyOf(scores, 50_000, 10)}
		})
	texts := add(sheet.Says{Task: sheet.Text}, func() map[string][]byte {
		var lines bytes.Buffer
		for i := range 20_000 {
			said := strings.Repeat(fmt.Sprintf("tug %d to berth nine, wind north ", i), 8)
			fmt.Fprintf(&lines, `{"key":"call-%d","true":%q,"predicted":%q}`+"\n", i, said, strings.ReplaceAll(said,
				"north", "forth"))
		}
		return map[string][]byte{sheet.ExamplesFile: lines.Bytes()}
	})
	masks := add(sheet.Says{Task: sheet.Masks, Classes: []string{"water", "hull", "quay"}}, func() map[string][]byte {
		var lines, media bytes.Buffer
		for i := range 1_000 {
			var spans []string
			for k, name := range []string{sheet.TrueMask, sheet.AnswerMask} {
				m := image.NewPaletted(image.Rect(0, 0, 256, 256), color.Palette{color.Black, color.White,
					color.Gray{9}})
				for at := range m.Pix {
					if (at%256-i%200-k*3)/40 == 0 {
						m.Pix[at] = 1
					}
				}
				from := media.Len()
				png.Encode(&media, m)
				spans = append(spans, fmt.Sprintf(`%q:{"at":%d,"size":%d}`, name, from, media.Len()-from))
			}
			fmt.Fprintf(&lines, `{"key":"ping-%d","media":{%s}}`+"\n", i, strings.Join(spans, ","))
		}
		return map[string][]byte{sheet.ExamplesFile: lines.Bytes(), sheet.MediaFile: media.Bytes()}
	})
	one := func(what string, do func() (float64, error)) row {
		return row{what: "sheet of " + what + ": taken and assessed", reference: "(itself)", unit: "s",
			want: "(within seconds)", rounds: 2, theirs: do, ours: do}
	}
	return []row{one("50000 examples, 10 labels", labels), one("20000 texts of 250 characters", texts),
		one("1000 masks of 256 x 256", masks)}
}

// pollingRows measure what a deployment costs that asks every second whether another edition is in use, and is told
// that none is.
func (w *world) pollingRows() []row {
	ctx := context.Background()
	var url, tag string
	begin := func() error {
		run, err := w.sheetRun()
		if err != nil || url != "" {
			return err
		}
		name := "polled-" + uuid.NewString()[:8]
		in := &api.NewModel{}
		in.Body.Name, in.Body.Project, in.Body.Standings = name, run.Project, []catalogue.Rule{{Name: "in-use"}}
		if _, err := client.Call(ctx, w.client, api.CreateModel, in); err != nil {
			return err
		}
		if _, err := w.db.Lane(db.Jobs).Exec(ctx, `insert into edition (model, number, origin, facts, size, person)
			select id, 1, 'vessels/1@s1.leg1', '{}', 1, person from model where name = $1`, name); err != nil {
			return err
		}
		ask := &api.Ask{ModelInput: api.ModelInput{Model: name}, Standing: "in-use"}
		ask.Body.Edition = 1
		if _, err := client.Call(ctx, w.client, api.AskFor, ask); err != nil {
			return err
		}
		url = w.client.URL + api.Base + "/models/" + name + "/standings/in-use"
		return nil
	}
	poll := func() (float64, error) {
		if err := begin(); err != nil {
			return 0, err
		}
		const times = 500
		began := time.Now()
		for range times {
			r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
			if err != nil {
				return 0, err
			}
			r.Header.Set("Authorization", "Bearer "+w.client.Token)
			r.Header.Set("If-None-Match", tag)
			got, err := http.DefaultClient.Do(r)
			if err != nil {
				return 0, err
			}
			_, err = io.Copy(io.Discard, got.Body)
			got.Body.Close()
			if err == nil && tag != "" && got.StatusCode != http.StatusNotModified {
				err = fmt.Errorf("the answer was %d", got.StatusCode)
			}
			if err != nil {
				return 0, err
			}
			tag = got.Header.Get("ETag")
		}
		return float64(time.Since(began).Microseconds()) / 1000 / times, nil
	}
	return []row{{what: "polling a standing, unchanged, over HTTP", reference: "(itself)", unit: "ms", want: "1",
		rounds: 5, theirs: poll, ours: poll}}
}
