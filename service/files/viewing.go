package files

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"unicode/utf8"

	"github.com/aymanbagabas/go-udiff"

	"kembrel/api"
	"kembrel/core/table"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
	"kembrel/store/pg/db"
)

// Limits of what is read of a file to be shown, and of what is shown of a cell and a line, in bytes.
const (
	mostRead    = 64 << 20
	mostCell    = 2000
	mostShown   = 4 << 20
	mostPatched = 2 << 20
)

// ViewRunFile shows lines of a text or rows of a table.
func (s *Files) ViewRunFile(ctx context.Context, _ act.Who, in *api.RunFileViewInput) (*api.RunFileView, error) {
	r, err := s.held(ctx, in.RunFileInput)
	if err != nil {
		return nil, err
	}
	out := &api.RunFileView{RunFile: toFile(in.RunInput, r), Rows: []api.RunFileRow{}}
	if r.Kind != "text" && r.Kind != "table" {
		return out, nil
	}
	release, err := s.look(ctx)
	if err != nil {
		return nil, err
	}
	defer release()
	content, err := s.open(ctx, r)
	if err != nil {
		return nil, err
	}
	if err := content.Prime(0); err != nil {
		return nil, err
	}
	v := viewer{out: out, in: in, search: strings.ToLower(in.Search)}
	if r.Kind == "table" {
		err = v.table(tables[strings.ToLower(path.Ext(r.Path))], content)
	} else {
		err = v.lines(io.LimitReader(content, mostRead))
		if err == nil && !v.full() && r.Size > mostRead {
			out.Cut = fmt.Sprintf("only the first %s are looked through", api.Bytes(mostRead))
		}
	}
	return out, err
}

// look waits for its turn.
func (s *Files) look(ctx context.Context) (release func(), err error) {
	select {
	case s.looking <- struct{}{}:
		return func() { <-s.looking }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// viewer gathers what is asked for.
type viewer struct {
	out    *api.RunFileView
	in     *api.RunFileViewInput
	search string
	found  int // that fulfil the search
	shown  int // bytes
}

func (v *viewer) full() bool { return v.out.More }

// add takes a row where it is asked for; false: no more are.
func (v *viewer) add(line int, cells []string) bool {
	if v.search != "" && !containsAny(cells, v.search) {
		return true
	}
	if v.found++; v.found <= v.in.From {
		return true
	}
	if len(v.out.Rows) == v.in.Limit || v.shown > mostShown {
		v.out.More = true
		return false
	}
	row := api.RunFileRow{Line: line, Cells: make([]string, len(cells))}
	for i, c := range cells {
		if len(c) > mostCell {
			c = strings.ToValidUTF8(c[:mostCell], "") + " …"
		}
		row.Cells[i] = strings.ToValidUTF8(c, "\ufffd")
		v.shown += len(row.Cells[i])
	}
	v.out.Rows = append(v.out.Rows, row)
	return true
}

func containsAny(cells []string, lower string) bool {
	for _, c := range cells {
		if strings.Contains(strings.ToLower(c), lower) {
			return true
		}
	}
	return false
}

// lines reads a text. A line that is longer than a buffer is cut there, and its rest left out.
func (v *viewer) lines(from io.Reader) error {
	r := bufio.NewReaderSize(from, 64<<10)
	for line := 1; ; line++ {
		text, err := r.ReadSlice('\n')
		kept := strings.TrimRight(string(text), "\r\n")
		for errors.Is(err, bufio.ErrBufferFull) {
			_, err = r.ReadSlice('\n')
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		if errors.Is(err, io.EOF) && kept == "" {
			return nil
		}
		if !v.add(line, []string{kept}) || err != nil {
			return nil
		}
	}
}

// readable is what a table is read from.
type readable interface {
	io.Reader
	io.ReaderAt
	Size() int64
}

// table reads a table as far as it can be read: of one that is damaged the rows before are shown, and why no more.
func (v *viewer) table(format string, from readable) error {
	t, err := table.Open(format, io.NewSectionReader(from, 0, from.Size()), table.Options{Lists: true})
	if err == nil {
		v.out.Columns = t.Head
	}
	read := 0
	for err == nil {
		var row table.Row
		if row, err = t.Next(); err != nil {
			break
		}
		for _, c := range row.Cells {
			read += len(c)
		}
		if !v.add(row.Line, row.Cells) {
			return nil
		}
		if read > mostRead {
			v.out.Cut = fmt.Sprintf("only the first %s are looked through", api.Bytes(mostRead))
			return nil
		}
	}
	var unreadable *pack.Unreadable
	switch {
	case errors.Is(err, io.EOF):
		return nil
	case errors.As(err, &unreadable), db.Away(err), errors.Is(err, context.Canceled):
		return err // of the store, not of the table
	}
	v.out.Cut = err.Error()
	return nil
}

// GetRunFilesDifference compares the files that two runs themselves wrote, and shows how a text differs.
func (s *Files) GetRunFilesDifference(ctx context.Context, who act.Who,
	in *api.RunFilesDifferenceInput) (*api.RunFilesDifference, error) {
	address, err := api.ParseAddress(in.Run)
	if err != nil || address.At != (api.At{}) || address.Run == 0 {
		return nil, api.Fail(api.Invalid, "run %.60q is no address of a run, such as vessels/8", in.Run)
	}
	other := api.RunInput{ProjectInput: api.ProjectInput{Project: address.Project}, Number: address.Run}
	sides := [2]map[string]store.RunFile{}
	inputs := [2]api.RunInput{in.RunInput, other}
	for i, side := range inputs {
		run, err := s.RunID(ctx, side)
		if err != nil {
			return nil, err
		}
		rows, err := s.db.ListRunFiles(ctx, store.RunFileQuery{Run: run, Path: in.Path, Limit: mostFiles})
		if err != nil {
			return nil, err
		}
		sides[i] = map[string]store.RunFile{}
		for _, r := range rows {
			sides[i][r.Path] = r
		}
	}
	out := &api.RunFilesDifference{From: act.RunAddress(in.Project, in.RunInput.Number), To: in.Run,
		Files: []api.FileDiffers{}}
	counts := map[string]int{}
	all := map[string]bool{}
	for _, side := range sides {
		for p := range side {
			all[p] = true
		}
	}
	for _, p := range act.SortedKeys(all) {
		d := api.FileDiffers{Path: p, State: "changed"}
		before, was := sides[0][p]
		after, is := sides[1][p]
		if was {
			f := toFile(inputs[0], before)
			d.Before = &f
		}
		if is {
			f := toFile(inputs[1], after)
			d.After = &f
		}
		switch {
		case !was:
			d.State = "added"
		case !is:
			d.State = "gone"
		case string(before.Digest) == string(after.Digest):
			d.State = "the same"
		}
		counts[d.State]++
		out.Files = append(out.Files, d)
	}
	out.Says = sayFiles(out, counts)
	if in.Path == "" {
		return out, nil
	}
	if len(out.Files) == 0 {
		return nil, api.Fail(api.NotFound, "neither %s nor %s has a file %.200q", out.From, out.To, in.Path)
	}
	if out.Files[0].State == "changed" {
		out.Patch, err = s.patch(ctx, out, sides[0][in.Path], sides[1][in.Path])
	}
	return out, err
}

func sayFiles(d *api.RunFilesDifference, counts map[string]int) string {
	if len(d.Files) == 0 {
		return "Neither has files."
	}
	var parts []string
	for _, state := range []string{"changed", "added", "gone", "the same"} {
		if n := counts[state]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, state))
		}
	}
	return fmt.Sprintf("From %s to %s: %s.", d.From, d.To, strings.Join(parts, ", "))
}

// patch is how a text differs.
func (s *Files) patch(ctx context.Context, d *api.RunFilesDifference, before, after store.RunFile) (string, error) {
	release, err := s.look(ctx)
	if err != nil {
		return "", err
	}
	defer release()
	var texts [2]string
	for i, f := range []store.RunFile{before, after} {
		switch {
		case f.Dropped != nil:
			return "", api.Fail(api.Gone, "the bytes of %s went, so it cannot be shown how it differs", f.Path)
		case f.Size > mostPatched:
			return "", api.Fail(api.TooLarge, "%s has %s; up to %s it is shown how a text differs", f.Path,
				api.Bytes(f.Size), api.Bytes(mostPatched))
		}
		r, err := s.open(ctx, f)
		if err != nil {
			return "", err
		}
		text, err := io.ReadAll(r)
		if err != nil {
			return "", err
		}
		if !utf8.Valid(text) {
			return "", api.Fail(api.Conflict, "%s is no text; it differs in its bytes", f.Path)
		}
		texts[i] = string(text)
	}
	return udiff.Unified(d.From+" "+before.Path, d.To+" "+after.Path, texts[0], texts[1]), nil
}
