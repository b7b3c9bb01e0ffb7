package recorder

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"kembrel/api"
)

// describe says where and how a command runs. What cannot be found out stays empty; it takes at most some seconds.
func describe(ctx context.Context, command []string) api.Recipe {
	ctx, cancel := context.WithTimeout(ctx, 4*time.Second)
	defer cancel()
	r := api.Recipe{Command: command}
	r.Folder, _ = os.Getwd()
	r.Host, _ = os.Hostname()
	if info, err := host.InfoWithContext(ctx); err == nil {
		r.System = fmt.Sprintf("%s %s, %s %s, %s", info.Platform, info.PlatformVersion, info.OS, info.KernelVersion, runtime.GOARCH)
	}
	if cpus, err := cpu.InfoWithContext(ctx); err == nil && len(cpus) > 0 {
		count, _ := cpu.CountsWithContext(ctx, true)
		r.CPU = fmt.Sprintf("%d x %s", count, strings.TrimSpace(cpus[0].ModelName))
	}
	if memory, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		r.Memory = int64(memory.Total)
	}
	if commit, err := git(ctx, "rev-parse", "HEAD"); err == nil {
		r.Commit = commit
		if status, err := git(ctx, "status", "--porcelain", "--untracked-files=normal"); err == nil {
			clean := status == ""
			r.Clean = &clean
		}
	}
	return r
}

func git(ctx context.Context, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Env = append(os.Environ(), "GIT_OPTIONAL_LOCKS=0")
	out, err := cmd.Output()
	return strings.TrimSpace(string(out)), err
}
