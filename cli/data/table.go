package data

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/core/dataset"
	"kembrel/core/dataset/intake"
	"kembrel/core/table"
)

// fromTable makes a snapshot of the rows of a table.
func (a *Commands) fromTable(ctx context.Context, in *api.NewDraft, f adding) (*api.Snapshot, error) {
	file, err := os.Open(f.table)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	format := table.FormatOf(f.table)
	if format == "" {
		return nil, term.Usage("%s: tables end in .csv, .jsonl or .parquet", f.table)
	}
	t, err := table.Open(format, file, table.Options{Lists: true})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.table, err)
	}
	r := intake.NewReader(t)
	folder := f.from
	if folder == "" {
		folder = filepath.Dir(f.table)
	}
	if column, path := r.FirstFile(); column != "" { // of files that are not here only the names are known
		if _, err := within(folder, path); err != nil {
			if err := r.Set(column, map[bool]string{true: "text", false: "key"}[r.Has(intake.Key)]); err != nil {
				return nil, err
			}
		}
	}
	for _, text := range f.mappings {
		column, as, ok := strings.Cut(text, "=")
		if !ok {
			return nil, term.Usage("--map %q is not column=meaning", text)
		}
		if err := r.Set(column, as); err != nil {
			return nil, term.Usage("--map %q: %w", text, err)
		}
	}
	if err := r.Begin(); err != nil {
		return nil, fmt.Errorf("%s: %w", f.table, err)
	}
	if f.output != "json" {
		a.showMeanings(r)
	}
	in.Body.Columns, in.Body.Rows = r.Columns, !r.Has(intake.File)
	in.Body.Source.Kind = "table"
	if in.Body.Source.Name, err = filepath.Abs(f.table); err != nil {
		return nil, err
	}
	if f.change != "" {
		if err := change(in, r, f.change); err != nil {
			return nil, err
		}
	} else if r.Has(intake.Gone) {
		return nil, term.Usage("a column \"gone\" belongs to a --change; --map gone=text takes it as one of your own")
	}
	if f.keep && !r.Has(intake.File) {
		return nil, term.Usage("--keep-bytes keeps files, and no column of %s names any that lie in %s", f.table, folder)
	}
	if !f.dry && !f.yes {
		ok, err := a.Confirm("Are the columns what they are taken for?")
		if err != nil || !ok {
			return nil, err
		}
	}
	w := &writer{dry: true}
	if !f.dry {
		if w, err = a.begin(ctx, in, f.keep); err != nil {
			return nil, err
		}
	}
	info, err := file.Stat()
	if err != nil {
		return nil, err
	}
	m := a.Meter("reading "+f.table, info.Size())
	var bad []error
	count, n := 0, 0
	err = w.files(ctx, nil, func(take func(dataset.Item, string) error) error {
		for {
			it, path, err := r.Next()
			n++
			var wrong *table.ReadError
			switch {
			case errors.Is(err, io.EOF):
				return nil
			case errors.As(err, &wrong):
				if count++; len(bad) < mostLeft {
					bad = append(bad, err)
				}
				continue
			case err != nil:
				return err
			}
			if at, err := file.Seek(0, io.SeekCurrent); err == nil && n%4096 == 0 {
				m.Set(at)
			}
			if path != "" {
				if path, err = within(folder, path); err != nil {
					return fmt.Errorf("item %.100q: %w", it.Key, err)
				}
			}
			if err := take(*it, path); err != nil {
				return err
			}
		}
	})
	m.Done()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", f.table, err)
	}
	if count > 0 {
		return nil, fmt.Errorf("%s: %s no items, so nothing was made:\n%w", f.table,
			term.Many(int64(count), "row makes", "rows make"), errors.Join(bad...))
	}
	if f.dry {
		fmt.Fprintf(a.Out, "%s. Nothing was made (--dry-run).\n", term.Many(w.count, "item", "items"))
		return nil, nil
	}
	if w.count == 0 {
		return nil, fmt.Errorf("%s has no row", f.table)
	}
	return a.commit(ctx, w)
}

// within is the path of a file that a table names, which must lie in the table's folder.
func within(folder, path string) (string, error) {
	full := filepath.Join(folder, filepath.FromSlash(path))
	if filepath.IsAbs(path) {
		full = filepath.Clean(path)
	}
	root, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return "", err
	}
	real, err := filepath.EvalSymlinks(full)
	if err != nil {
		return "", err
	}
	if absolute, err := filepath.Abs(root); err == nil {
		root = absolute
	}
	if absolute, err := filepath.Abs(real); err == nil {
		real = absolute
	}
	if real != root && !strings.HasPrefix(real, root+string(filepath.Separator)) {
		return "", fmt.Errorf("%s does not lie in %s; --from says which folder paths start from", path, folder)
	}
	return real, nil
}

// change says that a table changes a snapshot, and what it sets in it.
func change(in *api.NewDraft, r *intake.Reader, text string) error {
	base, err := api.ParseData(text)
	if err != nil || base.Number == 0 || base.Split != "" || base.Dataset != in.Dataset {
		return term.Usage("--change %s: name a snapshot of %s, such as %s#1", text, in.Dataset, in.Dataset)
	}
	if !r.Has(intake.Key) && !r.Has(intake.File) {
		return term.Usage("a table of changes has a column of keys, or of files")
	}
	in.Body.Base, in.Body.Source.Kind = base.Number, "changes"
	in.Body.Sets = &dataset.Sets{Split: r.Has(intake.Split), Group: r.Has(intake.Group), Label: r.Has(intake.Label),
		Bytes: r.Has(intake.File) || r.Has(intake.Digest)}
	for _, c := range r.Columns {
		in.Body.Sets.Own = append(in.Body.Sets.Own, c.Name)
	}
	return nil
}

func (a *Commands) showMeanings(r *intake.Reader) {
	l := term.List("column", "is taken for")
	for _, m := range r.Meanings {
		as := string(m.Role)
		if m.Role == intake.Own {
			as = "a column of your own, " + string(m.Kind)
			if m.As != m.Name {
				as += ", called " + m.As
			}
		}
		l.Add(term.Printable(m.Name), as)
	}
	a.Table(l, 0)
}
