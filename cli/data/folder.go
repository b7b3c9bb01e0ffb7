package data

import (
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/core/dataset"
	"kembrel/core/dataset/intake"
)

// listed is a file that becomes an item.
type listed struct {
	item dataset.Item
	size int64
}

// mostLeft is how many files that are left out are named.
const mostLeft = 10

// list finds the files of a folder, and says which it leaves out: links that lead out of it, what is no file, and what
// the pattern does not match.
func list(folder string, pattern *intake.Pattern) (found []listed, left []string, err error) {
	root, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return nil, nil, err
	}
	if info, err := os.Stat(root); err != nil {
		return nil, nil, err
	} else if !info.IsDir() {
		return nil, nil, fmt.Errorf("%s is no folder", folder)
	}
	out := 0
	leave := func(format string, args ...any) {
		if out++; out <= mostLeft {
			left = append(left, fmt.Sprintf(format, args...))
		}
	}
	err = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			return nil
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		key := filepath.ToSlash(rel)
		if d.Type()&fs.ModeSymlink != 0 {
			to, err := filepath.EvalSymlinks(path)
			if err != nil || !strings.HasPrefix(to, root+string(filepath.Separator)) {
				leave("left out: %s is a link that leads out of the folder, or nowhere", key)
				return nil
			}
		}
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		if !info.Mode().IsRegular() {
			leave("left out: %s is no file", key)
			return nil
		}
		it := dataset.Item{Key: key, Size: info.Size(), Target: math.NaN()}
		if pattern != nil && !pattern.Apply(key, &it) {
			leave("left out: the pattern does not match %s", key)
			return nil
		}
		var columns []dataset.OwnColumn
		if pattern != nil {
			columns = pattern.Columns
		}
		if err := it.Check(columns); err != nil {
			return err
		}
		found = append(found, listed{it, info.Size()})
		return nil
	})
	if out > mostLeft {
		left = append(left, fmt.Sprintf("%d more files are left out", out-mostLeft))
	}
	return found, left, err
}

func (a *Commands) showSplits(found []listed) {
	type sum struct{ items, bytes int64 }
	sums := map[string]*sum{}
	var names []string
	for _, x := range found {
		s := sums[x.item.Split]
		if s == nil {
			s = &sum{}
			sums[x.item.Split] = s
			names = append(names, x.item.Split)
		}
		s.items++
		s.bytes += x.size
	}
	slices.Sort(names)
	l := term.List("split", "items#", "size#")
	for _, n := range names {
		l.Add(term.OrText(n, "none"), api.Thousands(sums[n].items), api.Bytes(sums[n].bytes))
	}
	a.Table(l, 0)
}
