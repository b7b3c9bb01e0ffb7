package spool

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kembrel/host"
)

// Folder is where this user's spools are: $KEMBREL_SPOOL, or below $XDG_STATE_HOME or ~/.local/state.
func Folder() (string, error) {
	if f := os.Getenv("KEMBREL_SPOOL"); f != "" {
		return filepath.Abs(f)
	}
	if f := os.Getenv("XDG_STATE_HOME"); f != "" {
		return filepath.Join(f, "kembrel", "spool"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("where to keep the spool: %w; set KEMBREL_SPOOL", err)
	}
	return filepath.Join(home, ".local", "state", "kembrel", "spool"), nil
}

// Roots are where this user's spools may be: its own folder, and those that serve where nothing can be made there: the
// folder for temporary files and memory.
func Roots(own string) []string {
	out := []string{}
	if own != "" {
		out = append(out, own)
	}
	for _, folder := range []string{os.TempDir(), "/dev/shm"} {
		folder = filepath.Join(folder, sharedPrefix+strconv.Itoa(os.Getuid()))
		if !slices.Contains(out, folder) {
			out = append(out, folder)
		}
	}
	return out
}

// MakeSomewhere makes the spool of a new leg below the first of the roots where that can be done; why says what was
// wrong with those before. Others may write into shared folders: there, a root that is not this user's alone is none.
func MakeSomewhere(roots []string, leg Leg) (s *Spool, why error, err error) {
	for _, root := range roots {
		if err = os.MkdirAll(root, 0o700); err == nil {
			err = ownAlone(root)
		}
		if err == nil {
			if s, err = Make(root, leg); err == nil {
				return s, why, nil
			}
		}
		why = errors.Join(why, fmt.Errorf("%s: %w", root, err))
	}
	return nil, why, why
}

// sharedPrefix begins the names of roots in folders where others may write.
const sharedPrefix = "kembrel-spool-"

func ownAlone(folder string) error {
	if !strings.HasPrefix(filepath.Base(folder), sharedPrefix) {
		return nil
	}
	info, err := os.Lstat(folder)
	if err != nil {
		return err
	}
	if !info.IsDir() || !host.OwnAlone(info, 0o077) {
		return fmt.Errorf("%s is not a folder of this user alone", folder)
	}
	return nil
}
