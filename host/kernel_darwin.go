package host

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// zombie is the state of a process that has ended and waits for its parent (SZOMB of sys/proc.h).
const zombie = 5

// Began is when a living process began, in seconds and microseconds since 1970; "" where there is none. With its id it
// names a process for good, as ids alone are used again.
func Began(pid int) string {
	p, err := unix.SysctlKinfoProc("kern.proc.pid", pid)
	if err != nil || int(p.Proc.P_pid) != pid || p.Proc.P_stat == zombie {
		return ""
	}
	return fmt.Sprintf("%d.%06d", p.Proc.P_starttime.Sec, p.Proc.P_starttime.Usec)
}
