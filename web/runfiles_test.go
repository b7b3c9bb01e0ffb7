package web_test

import (
	"bytes"
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
)

func (s *served) newFile(t testing.TB, run api.RunInput, path string, content []byte) *api.NewRunFile {
	t.Helper()
	in := &api.NewRunFile{RunInput: run, Key: uuid.NewString()}
	var err error
	in.Body.File, err = client.SendFile(ctx, s.Client, path, bytes.NewReader(content))
	require.NoError(t, err)
	in.Body.File.Part = "file"
	return in
}

// uses are how many things hold a chunk of this content.
func (s *served) uses(t *testing.T, in *api.NewRunFile) (n int) {
	t.Helper()
	require.NoError(t, s.db.Pool.QueryRow(ctx, "select uses from chunk where digest = decode($1, 'hex')",
		strings.TrimPrefix(in.Body.File.Chunks[0].Digest, "b3:")).Scan(&n))
	return n
}

// Files are kept once, one takes the place of the one before of its path, and their bytes go when they are let go, or
// their run is deleted.
func TestRunFiles(t *testing.T) {
	s := serve(t)
	s.project(t)
	run := ofRun(s.trained(t, `{"lr": 0.1}`, api.Recipe{}, loss(1)))
	first := s.newFile(t, run, "out/results.csv", []byte("class,right\ntug,12\nferry,9\n"))
	got := call(t, s, api.AddRunFile, first)
	require.Equal(t, []any{"table", int64(27), "Ines"}, []any{got.Kind, got.Size, got.Who})
	require.Equal(t, got.Written, call(t, s, api.AddRunFile, first).Written, "the same key, the same file")
	require.Equal(t, 1, s.uses(t, first))
	twin := s.newFile(t, run, "twin.csv", []byte("class,right\ntug,12\nferry,9\n"))
	call(t, s, api.AddRunFile, twin)
	require.Equal(t, 2, s.uses(t, first), "stored once")
	second := s.newFile(t, run, "out/results.csv", []byte("class,right\ntug,14\n"))
	call(t, s, api.AddRunFile, second)
	require.Equal(t, 1, s.uses(t, first), "the twin's")
	require.Equal(t, 1, s.uses(t, second))

	for path, want := range map[string]struct {
		content []byte
		kind    string
	}{"a.png": {[]byte(pngOf(t, 2, 2)), "picture"}, "notes": {[]byte("as it should be\n"), "text"},
		"b.wav": {[]byte("RIFF\x00\x00\x00\x00WAVEfmt "), "sound"}, "c.bin": {[]byte{0, 1, 2}, "other"},
		"odd.csv": {[]byte{0, 1, 2}, "other"}, "d.svg": {[]byte("<svg onload='x()'/>"), "picture"}, "empty": {nil,
			"text"}} {
		require.Equal(t, want.kind, call(t, s, api.AddRunFile, s.newFile(t, run, path, want.content)).Kind, path)
	}
	all := &api.RunFilesInput{RunInput: run, PageInput: api.PageInput{Limit: 4}}
	page := call(t, s, api.ListRunFiles, all)
	all.Cursor = page.Next
	paths := ""
	for _, f := range append(page.Items, call(t, s, api.ListRunFiles, all).Items...) {
		paths += f.Path + " "
	}
	require.Equal(t, "a.png b.wav c.bin d.svg empty notes odd.csv out/results.csv ", paths)

	response, text := s.raw(t, http.MethodGet, "/api/v1/projects/vessels/runs/1/files/content?path=d.svg", "",
		s.bearer()...)
	require.Equal(t, "<svg onload='x()'/>", text)
	require.Contains(t, response.Header.Get("Content-Security-Policy"), "default-src 'none'")
	require.Contains(t, response.Header.Get("Content-Disposition"), "attachment")
	response, text = s.raw(t, http.MethodGet, "/api/v1/projects/vessels/runs/1/files/content?path=notes", "",
		append(s.bearer(), "Range", "bytes=3-8")...)
	require.Equal(t, []any{http.StatusPartialContent, "it sho"}, []any{response.StatusCode, text})

	one := api.RunFileInput{RunInput: run, Path: "out/results.csv"}
	call(t, s, api.DropRunFile, &one)
	refuse(t, s, api.ViewRunFile, &api.RunFileViewInput{RunFileInput: one, Limit: 10}, api.Gone,
		"its size and digest are still here")
	require.Equal(t, 0, s.uses(t, second))
	call(t, s, api.DropRunFile, &one)
	require.Equal(t, 0, s.uses(t, second), "once only")
	one.Path = "nothing"
	refuse(t, s, api.DropRunFile, &one, api.NotFound, "kembrel files vessels/1 lists them")
	for path, says := range map[string]string{"../out": "", "/etc/passwd": "", "a\x00b": "", "": ""} {
		bad := s.newFile(t, run, "x", []byte("x"))
		bad.Body.File.Path = path
		refuse(t, s, api.AddRunFile, bad, api.Invalid, says)
	}
	unsent := s.newFile(t, run, "x", []byte("x"))
	unsent.Body.File.Chunks[0].Digest = "b3:" + strings.Repeat("0", 64)
	unsent.Body.File.Digest = unsent.Body.File.Chunks[0].Digest
	refuse(t, s, api.AddRunFile, unsent, api.Conflict, "has not been sent")
	stranger := s.as(t, "Teo", map[string]string{"vessels": "reader"})
	refuse(t, stranger, api.AddRunFile, first, api.Denied, "")

	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: run, Days: 1e-9})
	require.NoError(t, s.service.EraseRuns(ctx))
	require.Equal(t, 0, s.uses(t, twin), "its run is gone")
}

// Lines and rows are shown a part at a time, and those that have something in them; what is damaged is shown as far as
// it goes.
func TestRunFileViews(t *testing.T) {
	s := serve(t)
	s.project(t)
	run := s.leg(t).RunInput
	var text, rows strings.Builder
	rows.WriteString("class,right\n")
	for i := 1; i <= 1000; i++ {
		fmt.Fprintf(&text, "line %d of the Ferry\r\n", i)
		fmt.Fprintf(&rows, "vessel %d,%d\n", i, i%7)
	}
	text.WriteString(strings.Repeat("x", 200_000) + "\nthe end")
	call(t, s, api.AddRunFile, s.newFile(t, run, "report.txt", []byte(text.String())))
	call(t, s, api.AddRunFile, s.newFile(t, run, "results.csv", []byte(rows.String())))
	call(t, s, api.AddRunFile, s.newFile(t, run, "damaged.csv", []byte("a,b\n1,2\n\"3,4\n")))
	call(t, s, api.AddRunFile, s.newFile(t, run, "damaged.parquet", []byte("PAR1 and no more")))
	look := func(path, search string, from, limit int) *api.RunFileView {
		return call(t, s, api.ViewRunFile, &api.RunFileViewInput{RunFileInput: api.RunFileInput{RunInput: run,
			Path: path},
			Search: search, From: from, Limit: limit})
	}
	v := look("report.txt", "", 998, 2)
	require.Equal(t, []api.RunFileRow{{Line: 999, Cells: []string{"line 999 of the Ferry"}},
		{Line: 1000, Cells: []string{"line 1000 of the Ferry"}}}, v.Rows)
	require.True(t, v.More)
	v = look("report.txt", "", 1000, 10)
	require.Len(t, v.Rows, 2)
	require.Less(t, len(v.Rows[0].Cells[0]), 3000, "a long line is cut")
	require.Equal(t, api.RunFileRow{Line: 1002, Cells: []string{"the end"}}, v.Rows[1])
	v = look("report.txt", "99 OF the ferry", 1, 3)
	require.Equal(t, []int{199, 299, 399}, []int{v.Rows[0].Line, v.Rows[1].Line, v.Rows[2].Line})
	v = look("results.csv", "vessel 77", 0, 100)
	require.Equal(t, []string{"class", "right"}, v.Columns)
	require.Len(t, v.Rows, 11)
	require.Equal(t, api.RunFileRow{Line: 78, Cells: []string{"vessel 77", "0"}}, v.Rows[0])
	require.False(t, v.More)
	for _, path := range []string{"damaged.csv", "damaged.parquet"} {
		require.NotEmpty(t, look(path, "", 0, 10).Cut, path)
	}
}

// Two runs' files are compared by their content, and a text line by line.
func TestRunFilesDiffer(t *testing.T) {
	s := serve(t)
	s.project(t)
	one, other := s.leg(t).RunInput, ofRun(s.trained(t, `{"lr": 0.1}`, api.Recipe{}, loss(1)))
	for path, texts := range map[string][2]string{"same.txt": {"a\n", "a\n"}, "report.txt": {"a\nb\nc\n", "a\nB\nc\n"},
		"gone.txt": {"x", ""}, "new.txt": {"", "y"}, "odd.bin": {"\xff\x00", "\xff\x01"}} {
		for i, run := range []api.RunInput{one, other} {
			if texts[i] != "" {
				call(t, s, api.AddRunFile, s.newFile(t, run, path, []byte(texts[i])))
			}
		}
	}
	in := &api.RunFilesDifferenceInput{RunInput: one, Run: "vessels/2"}
	d := call(t, s, api.GetRunFilesDifference, in)
	require.Equal(t, "From vessels/1 to vessels/2: 2 changed, 1 added, 1 gone, 1 the same.", d.Says)
	require.Equal(t, "gone", d.Files[0].State)
	in.Path = "report.txt"
	require.Contains(t, call(t, s, api.GetRunFilesDifference, in).Patch, "-b\n+B\n c\n")
	in.Path = "odd.bin"
	refuse(t, s, api.GetRunFilesDifference, in, api.Conflict, "is no text")
	in.Path = "never.txt"
	refuse(t, s, api.GetRunFilesDifference, in, api.NotFound, "neither")
	in.Run = "vessels"
	refuse(t, s, api.GetRunFilesDifference, in, api.Invalid, "no address of a run")
}

// A project's rule lets files go so many days after they were written, but not those of runs that are going on or that
// somebody pinned.
func TestFileRule(t *testing.T) {
	s := serve(t)
	s.project(t)
	running := s.leg(t)
	ended := ofRun(s.trained(t, `{"lr": 0.1}`, api.Recipe{}, loss(1)))
	for _, run := range []api.RunInput{running.RunInput, ended} {
		call(t, s, api.AddRunFile, s.newFile(t, run, "report.txt", []byte("as it should be")))
	}
	rule := &api.NewFileRule{ProjectInput: vessels, Body: api.FileRule{Days: 30}}
	require.EqualValues(t, 30, call(t, s, api.SetFileRule, rule).Rule.Days)
	_, err := s.db.Pool.Exec(ctx, "update run_file set written = now() - interval '40 days'")
	require.NoError(t, err)
	require.NoError(t, s.service.DropDueFiles(ctx))
	gone := func(run api.RunInput) bool {
		return call(t, s, api.ListRunFiles, &api.RunFilesInput{RunInput: run,
			PageInput: api.PageInput{Limit: 9}}).Items[0].Dropped != nil
	}
	require.Equal(t, []bool{false, true}, []bool{gone(running.RunInput), gone(ended)})
	call(t, s, api.AddRunFile, s.newFile(t, ended, "report.txt", []byte("again")))
	require.False(t, gone(ended), "it is there anew")
	call(t, s, api.DropFileRule, &vessels)
	require.Nil(t, call(t, s, api.GetFileRule, &vessels).Rule)
	rule.Body.Days = 0.5
	refuse(t, s, api.SetFileRule, rule, api.Invalid, "")
}
