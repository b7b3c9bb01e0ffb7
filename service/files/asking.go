package files

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

func toFile(in api.RunInput, r store.RunFile) api.RunFile {
	out := api.RunFile{Run: act.RunAddress(in.Project, in.Number), Path: r.Path, Kind: r.Kind, Size: r.Size,
		Digest: chunk.Digest(r.Digest).String(), Leg: r.Leg, Who: r.Who, Written: r.Written, Dropped: r.Dropped}
	if r.Evaluation != nil {
		out.Of = *r.Evaluation
	}
	return out
}

// ListRunFiles lists the files of a run, by path.
func (s *Files) ListRunFiles(ctx context.Context, _ act.Who, in *api.RunFilesInput) (*api.Page[api.RunFile], error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	q := store.RunFileQuery{Run: run, Evaluation: -1, Limit: in.Limit + 1}
	if in.Own || in.Of > 0 {
		q.Evaluation = in.Of
	}
	if in.Cursor != "" { // the evaluation's number, and the path
		number, path, ok := strings.Cut(in.Cursor, " ")
		if q.Since, err = strconv.Atoi(number); err != nil || !ok || path == "" || q.Since < 0 {
			return nil, api.Fail(api.Invalid, "the cursor is none of this list")
		}
		q.After = path
	}
	rows, err := s.db.ListRunFiles(ctx, q)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.RunFile]{Items: []api.RunFile{}}
	for i, r := range rows {
		if i == in.Limit {
			last := out.Items[i-1]
			out.Next = fmt.Sprintf("%d %s", last.Of, last.Path)
			break
		}
		out.Items = append(out.Items, toFile(in.RunInput, r))
	}
	return out, nil
}

// find finds a file of a run.
func (s *Files) find(ctx context.Context, in api.RunFileInput) (store.RunFile, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return store.RunFile{}, err
	}
	rows, err := s.db.ListRunFiles(ctx, store.RunFileQuery{Run: run, Evaluation: in.Of, Path: in.Path, Limit: 1})
	if err != nil {
		return store.RunFile{}, err
	}
	if len(rows) == 0 {
		address := act.RunAddress(in.Project, in.Number)
		return store.RunFile{}, api.Fail(api.NotFound, "%s has no file %.200q; kembrel files %s lists them", address,
			in.Path, address)
	}
	return rows[0], nil
}

func (s *Files) one(ctx context.Context, in api.RunFileInput) (*api.RunFile, error) {
	r, err := s.find(ctx, in)
	if err != nil {
		return nil, err
	}
	out := toFile(in.RunInput, r)
	return &out, nil
}

// held is find for a file whose bytes are wanted.
func (s *Files) held(ctx context.Context, in api.RunFileInput) (store.RunFile, error) {
	r, err := s.find(ctx, in)
	if err == nil && r.Dropped != nil {
		err = api.Fail(api.Gone, "the bytes of %s went on %s; its size and digest are still here", r.Path,
			r.Dropped.UTC().Format("2 January 2006 15:04 MST"))
	}
	return r, err
}

// RunFileContent opens a file. from is where reading begins: what cannot be read there is found out at once.
func (s *Files) RunFileContent(ctx context.Context, in *api.RunFileContentInput) (*pack.Reader, *api.RunFile, error) {
	r, err := s.held(ctx, in.RunFileInput)
	if err != nil {
		return nil, nil, err
	}
	content, err := s.open(ctx, r)
	if err == nil {
		err = content.Prime(0)
	}
	out := toFile(in.RunInput, r)
	return content, &out, err
}
