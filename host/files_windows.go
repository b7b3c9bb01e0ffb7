package host

import (
	"encoding/hex"
	"errors"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/windows"
)

// TryLock takes hold of an open file, until that is closed or this process ends. The error is ErrHeld where another
// holds it. It waits for nobody.
func TryLock(f *os.File) error { return lock(f, windows.LOCKFILE_EXCLUSIVE_LOCK) }

// Held reports whether somebody holds an open file.
func Held(f *os.File) bool { return lock(f, 0) != nil }

// lock locks a byte far behind what anybody writes: here a lock keeps others from reading, too.
func lock(f *os.File, how uint32) error {
	err := windows.LockFileEx(windows.Handle(f.Fd()), how|windows.LOCKFILE_FAIL_IMMEDIATELY, 0, 1, 0,
		&windows.Overlapped{OffsetHigh: 1 << 30})
	if errors.Is(err, windows.ERROR_LOCK_VIOLATION) || errors.Is(err, windows.ERROR_IO_PENDING) {
		return ErrHeld
	}
	return err
}

// HoldFolder takes hold of a folder, until release is called. A link is not followed. The error is ErrHeld where
// another process of this session holds it, and ErrNotOurs where it is no folder.
func HoldFolder(path string) (release func(), err error) {
	info, err := os.Lstat(path)
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		return nil, ErrNotOurs
	}
	h := fnv.New128a()
	h.Write([]byte(strings.ToLower(path)))
	name, err := windows.UTF16PtrFromString(`Local\kembrel-` + hex.EncodeToString(h.Sum(nil)))
	if err != nil {
		return nil, err
	}
	mutex, err := windows.CreateMutex(nil, true, name)
	if errors.Is(err, windows.ERROR_ALREADY_EXISTS) {
		windows.CloseHandle(mutex)
		return nil, ErrHeld
	}
	if err != nil {
		return nil, err
	}
	return func() { windows.CloseHandle(mutex) }, nil
}

// OwnAlone reports whether others have none of the rights that mask names. Permissions are not kept with a file's mode
// here: what lies in a user's own folders is that user's.
func OwnAlone(fs.FileInfo, fs.FileMode) bool { return true }

// OwnerOf is whose a file or folder is; false where that is not known.
func OwnerOf(string) (User, bool) { return User{}, false }

// SyncFolder does nothing: the file system keeps its names safe by itself.
func SyncFolder(string) error { return nil }

// FreeBytes is how much of a folder's disk this user may still fill.
func FreeBytes(folder string) (int64, error) {
	path, err := windows.UTF16PtrFromString(folder)
	if err != nil {
		return 0, err
	}
	var free uint64
	err = windows.GetDiskFreeSpaceEx(path, &free, nil, nil)
	return int64(free), err
}

// NoRoom reports whether an error says that a disk takes nothing: it is full, read-only, or beyond a quota.
func NoRoom(err error) bool {
	for _, why := range []error{windows.ERROR_DISK_FULL, windows.ERROR_HANDLE_DISK_FULL, windows.ERROR_WRITE_PROTECT,
		windows.ERROR_DISK_QUOTA_EXCEEDED, windows.ERROR_NOT_ENOUGH_QUOTA} {
		if errors.Is(err, why) {
			return true
		}
	}
	return false
}

// ToSync is how a file is opened that is read and made durable: here only who may write to it can have that done.
const ToSync = os.O_RDWR
