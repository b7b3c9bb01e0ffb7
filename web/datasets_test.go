package web_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"image"
	"image/png"
	"math"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
)

var hydrophone = api.DatasetInput{Dataset: "hydrophone"}

func newDraft(columns ...dataset.OwnColumn) *api.NewDraft {
	in := &api.NewDraft{DatasetInput: hydrophone, Key: uuid.NewString()}
	in.Body.Source.Kind = "table"
	in.Body.Columns = columns
	return in
}

func clipItem(n int, split string) dataset.Item {
	key := fmt.Sprintf("voyage%02d/clip-%04d", n/10, n)
	return dataset.Item{Key: key, Digest: chunk.Sum([]byte(key)), Size: 100, Split: split, Group: key[:8],
		Labels: []string{[]string{"tug", "ferry"}[n%2]}, Target: math.NaN()}
}

// snapshot makes one of items and looks at it.
func (s *served) snapshot(t testing.TB, items ...dataset.Item) *api.Snapshot {
	t.Helper()
	w, err := client.BeginSnapshot(ctx, s.Client, newDraft())
	require.NoError(t, err)
	for _, it := range items {
		require.NoError(t, w.Add(it))
	}
	made, err := w.Commit(ctx, nil)
	require.NoError(t, err)
	again, err := w.Commit(ctx, nil) // its answer was lost: it is the same
	require.NoError(t, err)
	require.Equal(t, []any{made.Number, made.Existed, made.Again}, []any{again.Number, again.Existed, again.Again})
	require.NoError(t, s.service.LookAt(ctx))
	return made
}

func honest(n int) (out []dataset.Item) {
	for i := range n {
		out = append(out, clipItem(i, map[bool]string{true: "val", false: "train"}[i/10%5 == 4]))
	}
	return out
}

// Items come as JSON Lines from anything that can write them; those that are not acceptable are named, and nothing is
// kept of their block.
func TestItemsAsLines(t *testing.T) {
	s := serve(t)
	in := newDraft(dataset.OwnColumn{Name: "depth", Kind: "number"})
	d := call(t, s, api.BeginDraft, in)
	require.Equal(t, d, call(t, s, api.BeginDraft, in), "the same key, the same draft")
	path := "/api/v1/datasets/hydrophone/drafts/" + d.ID + "/blocks/1"
	send := func(body string) (int, string) {
		r, text := s.raw(t, "PUT", path, body, append(s.bearer(), "Content-Type", "application/x-ndjson")...)
		return r.StatusCode, text
	}
	status, text := send(`{"key":"a","split":"train","label":"tug","own":{"depth":3}}
{"key":"b","split":"No","label":["tug","ferry"]}
{"key":"","own":{"depth":"deep"}}
`)
	require.Equal(t, 422, status)
	require.Contains(t, text, "2 items are not acceptable")
	require.Contains(t, text, `item \"b\"`)
	for body, want := range map[string]string{
		`{"key":"a","weather":"fog"}`: "weather", `{"key":"a","own":{"none":1}}`: "no column", "{": "line 1",
		`{"key":"a","digest":"b3:zz"}`: "digest", `{"key":"a","label":{"x":1}}`: "a label is", "": "body is required",
		`[1]`: "line 1", `{"key":"a","own":{"depth":[1]}}`: "is a number",
	} {
		status, text := send(body)
		require.GreaterOrEqual(t, status, 400, body)
		require.Less(t, status, 500, body)
		require.Contains(t, text, want, body)
	}
	status, text = send(`{"key":"a","split":"train","label":"tug","own":{"depth":3}}
{"key":"b","split":"val","label":2.5}
{"key":"c","split":"val","label":["tug","ferry"],"size":9,"digest":"` + chunk.Sum([]byte("x")).String() + `"}`)
	require.Equal(t, 200, status, text)
	commit := &api.CommitInput{DraftInput: api.DraftInput{DatasetInput: hydrophone, Draft: d.ID}}
	commit.Body.Blocks, commit.Body.Items = 2, 3
	refuse(t, s, api.CommitDraft, commit, api.Conflict,
		"2 blocks with 3 items were announced, and 1 block with 3 items are here")
	commit.Body.Blocks = 1
	made := call(t, s, api.CommitDraft, commit)
	require.Equal(t, "hydrophone#1", made.Address)
	require.Equal(t, made.Digest, call(t, s, api.CommitDraft, commit).Digest, "again")
	require.Equal(t, "hydrophone#1", call(t, s, api.GetDraft, &commit.DraftInput).Snapshot)
	require.NoError(t, s.service.LookAt(ctx))
	got := call(t, s, api.ListItems, &api.ItemsInput{SnapshotInput: api.SnapshotInput{DatasetInput: hydrophone},
		Limit: 2, Counts: true,
		Where: `split == "val" || depth > 2`})
	require.EqualValues(t, 3, *got.Count)
	require.Len(t, got.Items, 2)
	require.EqualValues(t, 2, *got.Next)
	require.JSONEq(t, "3", string(got.Items[0].Own["depth"]))
	require.Equal(t, api.Float(2.5), *got.Items[1].Target)

	refuse(t, s, api.BeginDraft, newDraft(dataset.OwnColumn{Name: "b", Kind: "text"},
		dataset.OwnColumn{Name: "a", Kind: "text"}),
		api.Invalid, "columns of one's own come by name")
	bad := newDraft()
	bad.Dataset = "Hydro phone"
	refuse(t, s, api.BeginDraft, bad, api.Invalid, "cannot be called")
	refuse(t, s, api.GetDraft, &api.DraftInput{DatasetInput: api.DatasetInput{Dataset: "other"}, Draft: d.ID},
		api.NotFound, "no such draft")
}

// Many make snapshots at once: numbers have no gap, the same items have one number, whoever comes first.
func TestSnapshotsAtOnce(t *testing.T) {
	s := serve(t)
	var wait sync.WaitGroup
	addresses := make([]string, 12)
	for i := range addresses {
		wait.Go(func() {
			w, err := client.BeginSnapshot(ctx, s.Client, newDraft())
			if err != nil {
				return
			}
			for _, it := range honest(100 + i%4) {
				w.Add(it)
			}
			if made, err := w.Commit(ctx, nil); err == nil {
				addresses[i] = made.Address
			}
		})
	}
	wait.Wait()
	different := map[string]bool{}
	for i, a := range addresses {
		require.Equal(t, addresses[i%4], a, i)
		different[a] = true
	}
	require.Equal(t, map[string]bool{"hydrophone#1": true, "hydrophone#2": true, "hydrophone#3": true,
		"hydrophone#4": true}, different)
}

// What a program hands over is the snapshot that has it, as far as it tells; what is new becomes one, and items of two
// splits are told apart.
func TestSnapshotOfAProgram(t *testing.T) {
	s := serve(t)
	s.snapshot(t, honest(200)...)
	hand := func(n int, more ...dataset.Item) *api.Snapshot {
		draft := newDraft()
		draft.Body.Source = api.SnapshotSource{Kind: "program", Run: "vessels/1"}
		send := func() *api.Snapshot {
			w, err := client.BeginSnapshot(ctx, s.Client, draft)
			require.NoError(t, err)
			for _, it := range append(honest(n), more...) {
				it.Size, it.Digest = 0, chunk.Digest{}
				require.NoError(t, w.Add(it))
			}
			made, err := w.Commit(ctx, nil)
			require.NoError(t, err)
			return made
		}
		made := send()
		require.Equal(t, made.Address, send().Address, "whoever was cut off sends it again")
		return made
	}
	require.Equal(t, "hydrophone#1", hand(200).Address)
	require.Equal(t, "hydrophone#2", hand(190).Address)
	moved := clipItem(3, "val")
	made := hand(200, moved, moved, clipItem(4, "train"))
	require.Equal(t, "hydrophone#3", made.Address)
	require.EqualValues(t, 2, made.Again)
	require.EqualValues(t, 201, made.Items)
	require.NoError(t, s.service.LookAt(ctx))
	found := call(t, s, api.ListItems, &api.ItemsInput{SnapshotInput: api.SnapshotInput{DatasetInput: hydrophone},
		Where: `"same-item" in found`})
	require.Len(t, found.Items, 2)
	require.Equal(t, moved.Key+" (val)", found.Items[1].Key)
}

// Bytes that are kept come back, in a way in which a browser runs nothing of them; a snapshot of bytes that are not
// there is not made.
func TestBytesOfItems(t *testing.T) {
	s := serve(t)
	contents := map[string]string{"a.html": "<html><script>alert(1)</script></html>",
		"b.svg": `<svg xmlns="http://www.w3.org/2000/svg"><script>1</script></svg>`,
		"c.txt": "the tug passes", "d.png": pngOf(t, 3, 2), "e.png": "\x89PNG\r\n\x1a\n0000",
		"f.png": widened(pngOf(t, 3, 2), 50_000)}
	var items []dataset.Item
	for key, content := range contents {
		it := clipItem(1, "train")
		it.Key, it.Digest, it.Size, it.Kept = key, chunk.Sum([]byte(content)), int64(len(content)), true
		items = append(items, it)
	}
	w, err := client.BeginSnapshot(ctx, s.Client, newDraft())
	require.NoError(t, err)
	for _, it := range items {
		require.NoError(t, w.Add(it))
	}
	_, err = w.Commit(ctx, nil)
	require.ErrorContains(t, err, "are not here any more")
	for _, content := range contents {
		s.put(t, []byte(content))
	}
	_, err = w.Commit(ctx, nil)
	require.NoError(t, err)
	for row, want := range []struct{ kind, media string }{{"text/plain; charset=utf-8", "text"},
		{"image/svg+xml", "picture"},
		{"text/plain; charset=utf-8", "text"}, {"image/png", "picture"},
		{"application/octet-stream", ""}, {"application/octet-stream", ""}} {
		r, body := s.raw(t, "GET", fmt.Sprintf("/api/v1/datasets/hydrophone/snapshots/1/items/%d/bytes", row),
			"", s.bearer()...)
		require.Equal(t, http.StatusOK, r.StatusCode)
		key := fmt.Sprintf("%c", 'a'+row)
		for name, content := range contents {
			if strings.HasPrefix(name, key) {
				require.Equal(t, content, body)
			}
		}
		require.Equal(t, want.media, r.Header.Get("Kembrel-Media"), row)
		require.Equal(t, want.kind, r.Header.Get("Content-Type"))
		require.Equal(t, "nosniff", r.Header.Get("X-Content-Type-Options"))
		require.Contains(t, r.Header.Get("Content-Security-Policy"), "sandbox")
		require.Contains(t, r.Header.Get("Content-Disposition"), "attachment")
	}
	r, _ := s.raw(t, "GET", "/api/v1/datasets/hydrophone/snapshots/1/items/99/bytes", "", s.bearer()...)
	require.Equal(t, 404, r.StatusCode)
	// what a snapshot keeps, cleaning leaves
	_, err = s.db.CleanChunks(ctx, 0)
	require.NoError(t, err)
	r, _ = s.raw(t, "GET", "/api/v1/datasets/hydrophone/snapshots/1/items/2/bytes", "", s.bearer()...)
	require.Equal(t, 200, r.StatusCode)
}

// What a run used is known by name or by fingerprint; the test ledger counts looks, and names no run that one does not
// see.
func TestWhoUsedWhat(t *testing.T) {
	s := serve(t)
	s.project(t)
	items := append(honest(200), clipItem(900, "test"), clipItem(901, "test"))
	s.snapshot(t, items...)
	other := append([]dataset.Item{}, items...)
	other[0].Labels = []string{"dredger"}
	s.snapshot(t, other...)
	var keys dataset.Prints
	for i := range items {
		if items[len(items)-1-i].Split == "val" {
			keys.Add(items[len(items)-1-i].Key, chunk.Digest{})
		}
	}
	leg := s.leg(t)
	in := batch(leg, 1, 1, "accuracy.test", 0.5, 0.75, 0.7)
	in.Body.Data = []api.DataUse{{Use: "train", Asked: "hydrophone#1:train"}, {Use: "test", Asked: "hydrophone#1:test"},
		{Use: "val", Asked: "hydrophone", Items: keys.Keys.Count(), Keys: keys.Keys.Digest().String()},
		{Use: "more", Asked: "hydrophone#7:val"}, {Use: "odd", Items: 3, Keys: chunk.Sum([]byte("?")).String()}}
	call(t, s, api.SendBatch, in)
	one := api.SnapshotInput{DatasetInput: hydrophone, Number: 1}
	require.Eventually(t, func() bool { // the rows of curves follow the readings within seconds
		_, err := s.db.Summarise(ctx)
		return err == nil && call(t, s, api.GetSnapshot, &one).Ledger != nil
	}, 30*time.Second, 100*time.Millisecond)
	run := call(t, s, api.GetRun, &leg.RunInput)
	got := map[string]string{}
	for _, u := range run.Data {
		got[u.Use] = u.Data
	}
	require.Equal(t, map[string]string{"train": "hydrophone#1:train", "test": "hydrophone#1:test",
		"val":  "hydrophone#2:val",
		"more": "", "odd": ""}, got, "the latest snapshot with these keys")
	require.Len(t, run.Notes, 2)
	bad := batch(leg, 2, 9, "accuracy.test", 0.5)
	bad.Body.Data = []api.DataUse{{Use: "val", Keys: "b3:zz"}}
	refuse(t, s, api.SendBatch, bad, api.Invalid, "data for val")

	again := &api.DataUseInput{RunInput: leg.RunInput, Leg: 1,
		Body: api.DataUse{Use: "odd", Asked: "hydrophone#2:train"}}
	call(t, s, api.UseData, again)
	used := call(t, s, api.GetRun, &leg.RunInput).Data
	require.Equal(t, "hydrophone#2:train", used[slices.IndexFunc(used,
		func(u api.UsedData) bool { return u.Use == "odd" })].Data)
	again.Body.Use = "No"
	refuse(t, s, api.UseData, again, api.Invalid, "match pattern")
	again.Body.Use, again.Number = "odd", 99
	refuse(t, s, api.UseData, again, api.NotFound, "no run vessels/99")

	shown := call(t, s, api.GetSnapshot, &one)
	require.Len(t, shown.Users, 2)
	require.EqualValues(t, 3, shown.Ledger.Looks)
	require.Equal(t, api.Float(0.75), shown.Ledger.Curves[0].Best)
	require.InDelta(t, kept.Optimism(0.75, 2, 3), float64(*shown.Ledger.Curves[0].Optimism), 1e-12)
	require.Equal(t, "vessels/1", shown.Ledger.Looked[0].Run)

	closed := false
	edit := &api.ProjectEdit{ProjectInput: vessels}
	edit.Body.Open = &closed
	call(t, s, api.ChangeProject, edit)
	stranger := s.as(t, "Teo", map[string]string{"": "reader"})
	shown = call(t, stranger, api.GetSnapshot, &one)
	require.Empty(t, shown.Users)
	require.EqualValues(t, 3, shown.Ledger.Looks, "it was looked at all the same")
	require.Empty(t, shown.Ledger.Looked[0].Run)
	require.Empty(t, shown.Ledger.Curves[0].BestRun)
	require.NotContains(t, fmt.Sprint(shown.Answers), "vessels")
	refuse(t, stranger, api.BeginDraft, newDraft(), api.Denied, "recorder")
}

func BenchmarkItemsPage(b *testing.B) {
	s := serve(b)
	s.snapshot(b, honest(100_000)...)
	b.ResetTimer()
	for b.Loop() {
		call(b, s, api.ListItems, &api.ItemsInput{SnapshotInput: api.SnapshotInput{DatasetInput: hydrophone},
			From: 50_000, Limit: 100})
	}
}

// pngOf is a picture of a size.
func pngOf(t *testing.T, width, height int) string {
	var out bytes.Buffer
	require.NoError(t, png.Encode(&out, image.NewGray(image.Rect(0, 0, width, height))))
	return out.String()
}

// widened says of a picture that it has sides of so many pixels.
func widened(picture string, side uint32) string {
	b := []byte(picture)
	binary.BigEndian.PutUint32(b[16:], side)
	binary.BigEndian.PutUint32(b[20:], side)
	binary.BigEndian.PutUint32(b[29:], crc32.ChecksumIEEE(b[12:29]))
	return string(b)
}

// Items with long labels fill blocks by their bytes, not by their number.
func TestManyLongLabels(t *testing.T) {
	s := serve(t)
	items := honest(400)
	for i := range items {
		for n := range dataset.MaxLabels {
			items[i].Labels = append(items[i].Labels, fmt.Sprintf("%03d%s", n, strings.Repeat("x", 190)))
		}
		items[i].Labels = items[i].Labels[len(items[i].Labels)-dataset.MaxLabels:]
	}
	require.EqualValues(t, 400, s.snapshot(t, items...).Items)

	items = honest(dataset.MaxSplits + 1)
	for i := range items {
		items[i].Split = fmt.Sprint("fold-", i)
	}
	w, err := client.BeginSnapshot(ctx, s.Client, newDraft())
	require.NoError(t, err)
	for _, it := range items {
		require.NoError(t, w.Add(it))
	}
	_, err = w.Commit(ctx, nil)
	require.ErrorContains(t, err, "would be one of more than 64")
}
