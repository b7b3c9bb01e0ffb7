//go:build unix

package kembrel

import "syscall"

func ownGroup() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
