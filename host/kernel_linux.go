package host

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Began is when a living process began, in the kernel's ticks since the machine did (proc(5)); "" where there is none.
// With its id it names a process for good, as ids alone are used again.
func Began(pid int) string {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
	if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
		return ""
	}
	return fields[19]
}

// EndWithUs has the kernel interrupt a program when the thread that starts it ends.
func EndWithUs(cmd *exec.Cmd) { attributes(cmd).Pdeathsig = syscall.SIGINT }

// BeginWriting tells the disk to begin with a part of a file; whether it did is seen when the file is synced.
func BeginWriting(f *os.File, from, size int64) {
	unix.SyncFileRange(int(f.Fd()), from, size, unix.SYNC_FILE_RANGE_WRITE)
}
