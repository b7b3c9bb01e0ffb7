package cluster

import "syscall"

// endWithUs has the kernel interrupt a process when the thread that started it ends.
func endWithUs(a *syscall.SysProcAttr) { a.Pdeathsig = syscall.SIGINT }
