package recorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"kembrel/api"
	"kembrel/core/chunk"
)

// Limits of what a recipe records of the tree, in bytes and files.
const (
	maxChanges   = 1 << 20
	maxUntracked = 200
)

// usualVariables are the environment variables that a recipe records; a person may choose more.
var usualVariables = []string{"CUDA_VISIBLE_DEVICES", "LANG", "LC_ALL", "MKL_NUM_THREADS", "OMP_NUM_THREADS",
	"OPENBLAS_NUM_THREADS", "PYTHONHASHSEED", "PYTHONPATH", "TZ", "VIRTUAL_ENV"}

// Describe says where and how a command runs. What cannot be found out stays empty; it takes at most some seconds.
// chosen are environment variables to record beside the usual ones.
func Describe(ctx context.Context, command, chosen []string) api.Recipe {
	ctx, cancel := context.WithTimeout(ctx, 6*time.Second)
	defer cancel()
	r := api.Recipe{Command: command}
	r.Folder, _ = os.Getwd()
	r.Host, _ = os.Hostname()
	if info, err := host.InfoWithContext(ctx); err == nil {
		r.System = fmt.Sprintf("%s %s, %s %s, %s", info.Platform, info.PlatformVersion, info.OS,
			info.KernelVersion, runtime.GOARCH)
	}
	if cpus, err := cpu.InfoWithContext(ctx); err == nil && len(cpus) > 0 {
		count, _ := cpu.CountsWithContext(ctx, true)
		r.CPU = fmt.Sprintf("%d x %s", count, strings.TrimSpace(cpus[0].ModelName))
	}
	if memory, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		r.Memory = int64(memory.Total)
	}
	if gpu := gpuPath(); gpu != "" {
		for _, row := range (&machine{gpu: gpu}).ask(ctx, "--query-gpu=name") {
			r.GPUs = append(r.GPUs, row[0])
		}
	}
	for _, name := range append(slices.Clone(usualVariables), chosen...) {
		if v, ok := os.LookupEnv(name); ok && !Secret(name) {
			if r.Environment == nil {
				r.Environment = map[string]string{}
			}
			r.Environment[name] = v
		}
	}
	describeTree(ctx, &r)
	describeProgram(ctx, &r)
	withholdRecipe(&r)
	return r
}

// describeTree records the commit of the working folder and what is not in it.
func describeTree(ctx context.Context, r *api.Recipe) {
	commit, err := git(ctx, "rev-parse", "HEAD")
	if err != nil {
		return
	}
	r.Commit = strings.TrimSpace(commit)
	if inside, err := git(ctx, "rev-parse", "--show-prefix"); err == nil {
		r.Inside = strings.TrimSuffix(strings.TrimSpace(inside), "/")
	}
	if remote, err := git(ctx, "remote", "get-url", "origin"); err == nil {
		r.Remote = bareRemote(strings.TrimSpace(remote))
	}
	status, err := git(ctx, "status", "--porcelain", "-z", "--untracked-files=normal")
	if err != nil {
		return
	}
	clean := status == ""
	r.Clean = &clean
	for _, entry := range strings.Split(status, "\x00") {
		if path, ok := strings.CutPrefix(entry, "?? "); ok && len(r.Untracked) < maxUntracked {
			r.Untracked = append(r.Untracked, path)
		}
	}
	if changes, err := git(ctx, "diff", "--binary", "--no-color", "--no-ext-diff", "HEAD"); err == nil {
		if r.Changes = changes; len(changes) > maxChanges {
			r.Changes, r.ChangesSize = "", int64(len(changes))
		}
	}
}

// listPackages is what a Python interpreter is asked for its packages.
const listPackages = `import json, platform
from importlib import metadata
print(json.dumps({"language": "python " + platform.python_version(),
	"packages": {d.metadata["Name"]: d.version for d in metadata.distributions() if d.metadata["Name"]}}))`

// describeProgram records the program's file or, of a Python program, the interpreter's version and packages.
func describeProgram(ctx context.Context, r *api.Recipe) {
	if len(r.Command) == 0 {
		return
	}
	path, err := exec.LookPath(r.Command[0])
	if err != nil {
		return
	}
	if strings.HasPrefix(filepath.Base(path), "python") {
		out, err := exec.CommandContext(ctx, path, "-c", listPackages).Output()
		var says api.ProgramSays
		if err == nil && json.Unmarshal(out, &says) == nil {
			r.Language, r.Packages = says.Language, says.Packages
		}
		return
	}
	f, err := os.Open(path)
	if err != nil {
		return
	}
	defer f.Close()
	h := chunk.NewHash()
	if n, err := io.Copy(h, io.LimitReader(f, 1<<30)); err == nil && n < 1<<30 {
		r.Program = h.Digest().String()
	}
}

func git(ctx context.Context, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Env = append(os.Environ(), "GIT_OPTIONAL_LOCKS=0")
	out, err := cmd.Output()
	return string(out), err
}

// CheckOut makes folder a working tree of a recipe's commit, with what was not committed, from the repository in from.
// It returns the folder in it that the recipe was run in.
func CheckOut(ctx context.Context, r api.Recipe, from, folder string) (string, error) {
	switch {
	case r.Commit == "":
		return "",
			errors.New("the run's code was under no version control, so it cannot be checked out; run it in its folder")
	case strings.Trim(r.Commit, "0123456789abcdef") != "": // it goes into a command line
		return "", fmt.Errorf("the recorded commit %.60q is none", r.Commit)
	case r.ChangesSize > 0:
		return "",
			fmt.Errorf("the run had %s of uncommitted changes, more than is recorded, so its code cannot be had again", api.Bytes(r.ChangesSize))
	case r.WithheldFrom("changes"):
		return "",
			fmt.Errorf("what was not committed had secrets taken out (%s), so that it cannot be applied as it is; check out commit %.12s yourself, and say --folder", strings.Join(r.Withheld, ", "), r.Commit)
	case r.Inside != "" && !filepath.IsLocal(filepath.FromSlash(r.Inside)): // whoever recorded it wrote it
		return "", fmt.Errorf("the recorded place %.100q in the repository is outside of it", r.Inside)
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return "", err
	}
	if err := holds(ctx, from, r.Commit); err != nil {
		return "", err
	}
	if out, err := exec.CommandContext(ctx, "git", "-C", from, "worktree", "add", "--detach", folder,
		r.Commit).CombinedOutput(); err != nil {
		return "", fmt.Errorf("check out commit %.12s from the repository in %s: %s", r.Commit, from,
			strings.TrimSpace(string(out)))
	}
	if r.Changes != "" {
		cmd := exec.CommandContext(ctx, "git", "-C", folder, "apply", "--binary", "-")
		cmd.Stdin = strings.NewReader(r.Changes)
		if out, err := cmd.CombinedOutput(); err != nil {
			return "", fmt.Errorf("apply the recorded changes: %s", strings.TrimSpace(string(out)))
		}
	}
	// A link in the tree could lead out of it.
	root, err := filepath.EvalSymlinks(folder)
	if err != nil {
		return "", err
	}
	inside, err := filepath.EvalSymlinks(filepath.Join(root, filepath.FromSlash(r.Inside)))
	if err != nil {
		return "", fmt.Errorf("the run was started in %s of its repository: %w", r.Inside, err)
	}
	if rest, err := filepath.Rel(root, inside); err != nil || !filepath.IsLocal(rest) {
		return "", fmt.Errorf("%s of the repository leads out of it, to %s; nothing is run there", r.Inside, inside)
	}
	return inside, nil
}

// holds says what to do where a folder is in no repository that has a commit.
func holds(ctx context.Context, folder, commit string) error {
	if _, err := exec.LookPath("git"); err != nil {
		return errors.New("git is not on this machine, which checks the run's code out; install it, or say where that code is (--folder)")
	}
	at, err := filepath.Abs(folder)
	if err != nil {
		return err
	}
	if exec.CommandContext(ctx, "git", "-C", at, "rev-parse", "--git-dir").Run() != nil {
		return fmt.Errorf("%s is under no version control: name the repository that holds commit %.12s (--repository FOLDER), or a folder that has the run's code (--folder)",
			at, commit)
	}
	if exec.CommandContext(ctx, "git", "-C", at, "cat-file", "-e", commit+"^{commit}").Run() != nil {
		return fmt.Errorf("the repository in %s has no commit %.12s: fetch it there, or name another (--repository FOLDER)", at,
			commit)
	}
	return nil
}

// Differences lists in what the recipe of now differs from the recorded one, for a person to read before it is run
// again.
func Differences(had, now api.Recipe) []string {
	var out []string
	differ := func(what, a, b string) {
		if a != b && a != "" {
			if b == "" {
				b = "none"
			}
			out = append(out, fmt.Sprintf("%s: %s, now %s", what, a, b))
		}
	}
	short := func(s string) string { return s[:min(len(s), 12)] }
	differ("commit", short(had.Commit), short(now.Commit))
	if had.Changes != now.Changes || had.ChangesSize != now.ChangesSize {
		out = append(out, fmt.Sprintf("uncommitted changes: %s, now %s", lines(had), lines(now)))
	}
	if had.Program != now.Program && had.Program != "" {
		out = append(out, "program: its file is another one now")
	}
	if now.Language != "" { // a program of no interpreter says it when it runs
		differ("language", had.Language, now.Language)
	}
	differ("system", had.System, now.System)
	differ("cpu", had.CPU, now.CPU)
	differ("host", had.Host, now.Host)
	names := map[string]bool{}
	for n := range had.Packages {
		names[n] = true
	}
	for n := range now.Packages {
		names[n] = true
	}
	var packages []string
	for n := range names {
		a, b := had.Packages[n], now.Packages[n]
		switch {
		case a == b || len(had.Packages) == 0 || len(now.Packages) == 0:
		case a == "":
			packages = append(packages, fmt.Sprintf("package %s: none, now %s", n, b))
		case b == "":
			packages = append(packages, fmt.Sprintf("package %s: %s, now none", n, a))
		default:
			packages = append(packages, fmt.Sprintf("package %s: %s, now %s", n, a, b))
		}
	}
	slices.Sort(packages)
	return append(out, packages...)
}

func lines(r api.Recipe) string {
	switch n := strings.Count(r.Changes, "\n"); {
	case r.ChangesSize > 0:
		return api.Bytes(r.ChangesSize)
	case n == 0:
		return "none"
	default:
		return fmt.Sprintf("a patch of %d lines", n)
	}
}
