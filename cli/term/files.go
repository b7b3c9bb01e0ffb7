package term

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
)

// Files are the files that a command writes. --to names them; the ending of a name says what is written into it.
type Files struct {
	Paths     []string
	Overwrite bool
}

// FilesFlag adds --to and --overwrite to a command that writes files; what says what is written by which ending.
func FilesFlag(cmd *cobra.Command, f *Files, what string) {
	cmd.Flags().StringSliceVar(&f.Paths, "to", nil, "write into this file, by its ending: "+what)
	cmd.Flags().BoolVar(&f.Overwrite, "overwrite", false, "with --to: replace a file that exists")
}

// Check refuses, before anything is asked or written, files that end otherwise than in one of the kinds ("" is no
// ending), and those that exist.
func (f Files) Check(kinds ...string) error {
	for _, path := range f.Paths {
		if path != "-" && !slices.Contains(kinds, ending(path)) {
			return Usage("--to %q: what is written ends in %s", path, endings(kinds))
		}
	}
	return f.CheckFree()
}

// CheckFree refuses files that exist.
func (f Files) CheckFree() error {
	for _, path := range f.Paths {
		if _, err := os.Lstat(path); path != "-" && err == nil && !f.Overwrite {
			return Exit{Code: ExitExists, Err: fmt.Errorf("%s exists; --overwrite replaces it", path)}
		}
	}
	return nil
}

// Kind is what a file holds by the ending of its name, without the dot; the output is of the first kind.
func Kind(path, first string) string {
	if path == "-" {
		return first
	}
	return ending(path)
}

func ending(path string) string { return strings.ToLower(strings.TrimPrefix(filepath.Ext(path), ".")) }

func endings(kinds []string) string {
	var out []string
	for _, k := range kinds {
		if k == "" {
			out = append(out, "nothing (a folder)")
		} else {
			out = append(out, "."+k)
		}
	}
	if len(out) == 1 {
		return out[0]
	}
	return strings.Join(out[:len(out)-1], ", ") + " or " + out[len(out)-1]
}

// WriteFile writes a file whole or not at all; "-" is the output.
func (a *App) WriteFile(path string, write func(io.Writer) error) error {
	if path == "-" {
		return write(Raw(a.Out))
	}
	f, err := os.Create(path + ".part")
	if err != nil {
		return err
	}
	if err := errors.Join(write(f), f.Close()); err != nil {
		os.Remove(f.Name())
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	fmt.Fprintln(a.Err, "wrote", path)
	return nil
}

// WriteAnswer writes what the service streams in answer to an operation into a file, whole or not at all.
func WriteAnswer[I any](ctx context.Context, a *App, path string, op api.Operation[I, api.None], in *I) error {
	return a.WriteFile(path, func(w io.Writer) error {
		body, err := client.Stream(ctx, a.Client(), op, in)
		if err != nil {
			return err
		}
		defer body.Close()
		_, err = io.Copy(w, body)
		return err
	})
}

// WriteVerified writes a file that the service named below a folder, whole and as its digest says, or not at all.
func (a *App) WriteVerified(into, name, digest string, overwrite bool, open func() (io.ReadCloser, error)) error {
	if err := checkpoint.CheckPath(name); err != nil {
		return fmt.Errorf("the service names a file that cannot be written: %w", err)
	}
	path := filepath.Join(into, filepath.FromSlash(name))
	if _, err := os.Lstat(path); err == nil && !overwrite {
		return fmt.Errorf("%s is there already; --overwrite replaces it", path)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return a.WriteFile(path, func(w io.Writer) error {
		body, err := open()
		if err != nil {
			return err
		}
		defer body.Close()
		hash := chunk.NewHash()
		if _, err := io.Copy(io.MultiWriter(w, hash), body); err != nil {
			return err
		}
		if hash.Digest().String() != digest {
			return fmt.Errorf("%s came with other bytes than it should have; try again", name)
		}
		return nil
	})
}

// SendFile sends the content of a file to the service. One below this folder keeps its path, any other goes by its
// name.
func (a *App) SendFile(ctx context.Context, path string) (api.File, error) {
	f, err := os.Open(path)
	if err != nil {
		return api.File{}, Exit{Code: ExitNotFound, Err: err}
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return api.File{}, errors.Join(err, Usage("%s is no plain file", path))
	}
	name := filepath.ToSlash(filepath.Clean(path))
	if !filepath.IsLocal(filepath.Clean(path)) {
		name = filepath.Base(path)
	}
	sent, err := client.SendFile(ctx, a.Client(), name, f)
	sent.Part = "file"
	return sent, err
}
