package stories

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
)

// processes calls each for every process with its arguments and environment.
func processes(each func(pid int, args []string, env string)) {
	entries, _ := filepath.Glob("/proc/[0-9]*")
	for _, e := range entries {
		pid, _ := strconv.Atoi(filepath.Base(e))
		line, err := os.ReadFile(e + "/cmdline")
		if err != nil || len(line) == 0 {
			continue
		}
		env, _ := os.ReadFile(e + "/environ")
		each(pid, strings.Split(strings.TrimRight(string(line), "\x00"), "\x00"), string(env))
	}
}

// find returns the process of the trainer that keeps its copies in a folder.
func find(verb, keep string) (found int) {
	processes(func(pid int, args []string, _ string) {
		if len(args) > 2 && args[1] == verb && args[len(args)-1] == keep {
			found = pid
		}
	})
	return found
}

// recorders returns the recorder processes of one story.
func recorders(folder, binary string) (found []int) {
	processes(func(pid int, args []string, env string) {
		if len(args) > 1 && args[0] == binary && args[1] == "record" &&
			strings.Contains(env, "KEMBREL_SPOOL="+folder+"/spool") {
			found = append(found, pid)
		}
	})
	return found
}

// postmaster returns the story's PostgreSQL server.
func postmaster(folder string) int {
	content, err := os.ReadFile(folder + "/data/postgres/data/postmaster.pid")
	if err != nil {
		return 0
	}
	line, _, _ := strings.Cut(string(content), "\n")
	pid, _ := strconv.Atoi(line)
	return pid
}

// kill sends a signal to one process. A story sends none otherwise: to the system, 0 and the numbers below it are
// groups of processes, the story's own among them, and a process that was not found has the number 0.
func kill(pid int, signal syscall.Signal) error {
	if pid <= 1 {
		return fmt.Errorf("no process %d to send %s to", pid, signal)
	}
	return syscall.Kill(pid, signal)
}

func zombie(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && strings.Contains(string(stat), ") Z ")
}
