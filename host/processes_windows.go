package host

import (
	"errors"
	"os"
	"os/exec"
	"strconv"
	"syscall"

	"golang.org/x/sys/windows"
)

// OwnGroup starts a program in a process group of its own, so that what interrupts this one's does not reach it.
func OwnGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{CreationFlags: windows.CREATE_NEW_PROCESS_GROUP}
}

// OwnSession is OwnGroup: there are no sessions of that kind.
func OwnSession(cmd *exec.Cmd) { OwnGroup(cmd) }

// As does nothing: programs are started as oneself.
func As(*exec.Cmd, User) {}

// Inherited is a file that this process was started with, by its number.
func Inherited(number int, name string) *os.File { return os.NewFile(uintptr(number), name) }

// ReadNow reads nothing: a pipe cannot be read here without waiting.
func ReadNow(*os.File, []byte) (int, error) { return 0, errors.ErrUnsupported }

// Resized does nothing: the system does not tell.
func Resized(chan<- os.Signal) {}

// Began is when a living process began; "" where there is none. With its id it names a process for good, as ids alone
// are used again.
func Began(pid int) string {
	p, err := windows.OpenProcess(windows.PROCESS_QUERY_LIMITED_INFORMATION, false, uint32(pid))
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(p)
	var began, ended, inKernel, inUser windows.Filetime
	var code uint32
	if windows.GetProcessTimes(p, &began, &ended, &inKernel, &inUser) != nil ||
		windows.GetExitCodeProcess(p, &code) != nil || code != stillActive {
		return ""
	}
	return strconv.FormatInt(began.Nanoseconds(), 10)
}

// stillActive is the exit code of a process that has not ended (STILL_ACTIVE of winbase.h).
const stillActive = 259
