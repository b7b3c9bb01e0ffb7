//go:build unix

package host

import (
	"errors"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// TryLock takes hold of an open file, until that is closed or this process ends. The error is ErrHeld where another
// holds it. It waits for nobody.
func TryLock(f *os.File) error {
	err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if errors.Is(err, unix.EWOULDBLOCK) {
		return ErrHeld
	}
	return err
}

// Held reports whether somebody holds an open file.
func Held(f *os.File) bool { return unix.Flock(int(f.Fd()), unix.LOCK_SH|unix.LOCK_NB) != nil }

// HoldFolder takes hold of a folder of this user's, to which nobody else may write, until release is called. A link
// is not followed. The error is ErrHeld where another process holds it, and ErrNotOurs where it is no such folder.
func HoldFolder(path string) (release func(), err error) {
	folder, err := os.OpenFile(path, os.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	info, err := folder.Stat()
	if err == nil && !OwnAlone(info, 0o022) {
		err = ErrNotOurs
	}
	if err == nil {
		err = TryLock(folder)
	}
	if err != nil {
		folder.Close()
		return nil, err
	}
	return func() { folder.Close() }, nil
}

// OwnAlone reports whether something on a disk is this user's, and others have none of the rights that mask names.
func OwnAlone(info fs.FileInfo, mask fs.FileMode) bool {
	stat, known := info.Sys().(*syscall.Stat_t)
	return (!known || int(stat.Uid) == os.Geteuid()) && info.Mode().Perm()&mask == 0
}

// OwnerOf is whose a file or folder is; false where that is not known.
func OwnerOf(path string) (User, bool) {
	info, err := os.Stat(path)
	if err != nil {
		return User{}, false
	}
	stat, known := info.Sys().(*syscall.Stat_t)
	if !known {
		return User{}, false
	}
	return User{int(stat.Uid), int(stat.Gid)}, true
}

// SyncFolder makes the names in a folder safe on its disk.
func SyncFolder(path string) error {
	d, err := os.Open(path)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

// FreeBytes is how much of a folder's disk this user may still fill.
func FreeBytes(folder string) (int64, error) {
	var s unix.Statfs_t
	if err := unix.Statfs(folder, &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil // of different types on different systems
}

// NoRoom reports whether an error says that a disk takes nothing: it is full, out of inodes, read-only, or beyond a
// quota.
func NoRoom(err error) bool {
	for _, why := range []error{unix.ENOSPC, unix.EDQUOT, unix.EROFS, unix.EFBIG} {
		if errors.Is(err, why) {
			return true
		}
	}
	return false
}

// ToSync is how a file is opened that is read and made durable.
const ToSync = os.O_RDONLY
