//go:build unix

package host

import (
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
)

// OwnGroup starts a program in a process group of its own, so that what interrupts this one's does not reach it.
func OwnGroup(cmd *exec.Cmd) { attributes(cmd).Setpgid = true }

// OwnSession starts a program in a session of its own, so that neither what ends this one's group nor its terminal's
// end reaches it.
func OwnSession(cmd *exec.Cmd) { attributes(cmd).Setsid = true }

// As starts a program as another user.
func As(cmd *exec.Cmd, u User) {
	attributes(cmd).Credential = &syscall.Credential{Uid: uint32(u.UID), Gid: uint32(u.GID)}
}

func attributes(cmd *exec.Cmd) *syscall.SysProcAttr {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	return cmd.SysProcAttr
}

// Inherited is a file that this process was started with, by its number, as one whose reads may have deadlines.
func Inherited(number int, name string) *os.File {
	syscall.SetNonblock(number, true)
	return os.NewFile(uintptr(number), name)
}

// ReadNow reads what a pipe holds and waits for nothing: 0 where it holds nothing. It is not read in any other way
// meanwhile.
func ReadNow(pipe *os.File, buffer []byte) (n int, err error) {
	raw, err := pipe.SyscallConn()
	if err != nil {
		return 0, err
	}
	gone := raw.Control(func(fd uintptr) {
		syscall.SetNonblock(int(fd), true)
		n, err = syscall.Read(int(fd), buffer)
	})
	if gone != nil {
		return 0, fmt.Errorf("read what a pipe holds: %w", gone)
	}
	return max(n, 0), err
}

// Resized has a terminal's changes of size sent to a channel.
func Resized(to chan<- os.Signal) { signal.Notify(to, syscall.SIGWINCH) }
