package blob

import (
	"os"

	"golang.org/x/sys/unix"
)

// beginWriting tells the disk to begin with a part of a file; whether it did is seen at the end.
func beginWriting(f *os.File, from, size int64) {
	unix.SyncFileRange(int(f.Fd()), from, size, unix.SYNC_FILE_RANGE_WRITE)
}
