//go:build unix

package blob

import "golang.org/x/sys/unix"

// freeBytes is how much of a folder's disk this user may still fill.
func freeBytes(folder string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(folder, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}
