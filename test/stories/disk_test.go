package stories

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// smallDisk is a folder that is a disk of its own, of so many bytes; only root can make one.
func smallDisk(t *testing.T, size int, more ...string) string {
	t.Helper()
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-disk-")
	require.NoError(t, err)
	if err := syscall.Mount("none", folder, "tmpfs", 0,
		strings.Join(append([]string{fmt.Sprintf("size=%d,mode=0711", size)}, more...), ",")); err != nil {
		os.Remove(folder)
		t.Skipf("a small disk cannot be mounted here: %v", err)
	}
	t.Cleanup(func() {
		syscall.Unmount(folder, syscall.MNT_DETACH)
		os.Remove(folder)
	})
	return folder
}

// Where no socket can be made the program is recorded from outside: its start, its output, its end.
func TestNoPlaceForASocket(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	long := filepath.Join(w.folder, strings.Repeat("long", 25))
	require.NoError(t, os.MkdirAll(long, 0o700))
	recorded := w.recordWith([]string{"--read-output", "auto"}, "sh", "-c", "echo epoch=1 loss.val=0.5; exit 3")
	apart := []string{"--mount"}
	if os.Getuid() != 0 {
		apart = append(apart, "--user", "--map-root-user")
	}
	// no file can be made in that memory: its root takes the only inode
	shell := append(apart, "sh", "-c", `mount -t tmpfs -o nr_inodes=1 none /dev/shm && exec "$@"`, "sh")
	if err := exec.Command("unshare", append(shell, "true")...).Run(); err != nil {
		t.Skipf("a container may forbid it: %v", err)
	}
	cmd := w.command("unshare", append(shell, recorded.Args...)...)
	cmd.Env = append(cmd.Env, "TMPDIR="+long, "KEMBREL_SPOOL="+filepath.Join(long, "spool"))
	out, errs, code := run(cmd)
	require.Equal(t, 3, code, errs)
	require.Contains(t, out, "loss.val=0.5")
	require.Contains(t, errs, "warning: What the program itself says is not recorded, as it cannot be listened to")
	r := w.show(t, "vessels/1")
	require.Equal(t, "failed", r.State)
	require.Equal(t, 3, *r.Legs[0].ExitCode)
	require.Equal(t, api.Floats{0.5}, w.curves(t, "vessels/1")["loss.val"].Value)
	require.Contains(t, w.kembrel(t, "show", "vessels/1"), "it cannot be listened to")
}

// script writes a program and returns the command that runs it with the binding of this tree.
func (w *world) script(t *testing.T, name, program string) []string {
	t.Helper()
	binding, err := filepath.Abs("../../bindings/python")
	require.NoError(t, err)
	path := filepath.Join(w.folder, name)
	require.NoError(t, os.WriteFile(path,
		[]byte("import sys; sys.dont_write_bytecode = True; sys.path.insert(0, "+fmt.Sprintf("%q",
			binding)+")\n"+program), 0o644))
	return []string{"/usr/bin/python3", path}
}

// onDisk is a world whose spool is on a disk of its own, and TMPDIR elsewhere.
func onDisk(t *testing.T, size int) (w *world, disk string) {
	w, disk = newWorld(t), smallDisk(t, size)
	require.NoError(t, os.MkdirAll(w.folder+"/tmp", 0o700))
	w.spool = disk + "/spool"
	w.env = append(w.env, "KEMBREL_SPOOL="+disk+"/spool", "TMPDIR="+w.folder+"/tmp", "DISK="+disk)
	return w, disk
}

// fills is Python that fills the disk to its last byte and frees it.
const fills = `
import os, time
from array import array
filler = os.environ["DISK"] + "/filler"

def fill():
    with open(filler, "ab", buffering=0) as f:
        for size in (1 << 16, 1):
            try:
                while True:
                    f.write(b"x" * size)
            except OSError:
                pass
`

// The disk under the spool is full for a while, also under the program's error output: it trains on without noticing,
// and what could not be kept is a gap that the run shows.
func TestFullDiskUnderTheSpool(t *testing.T) {
	t.Parallel()
	w, disk := onDisk(t, 3<<20)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := w.script(t, "train.py", fills+`
import kembrel
sys.stderr = open(os.environ["DISK"] + "/errors", "w", buffering=1)
run = kembrel.record("vessels", hyper={"lr": 0.03})
slowest = 0.0
for epoch in run.epochs(20):
    if 7 <= epoch < 12:
        fill()
    if epoch == 12:
        os.remove(filler)
        time.sleep(2)
    began = time.monotonic()
    print("epoch", epoch, "." * 3000, flush=True)
    run.readings(epoch, epoch, {"loss.val": 1 / epoch, **{f"norm{i}": i / epoch for i in range(400)}})
    run.save(epoch, epoch, weights={"w": array("d", range(2000))})
    slowest = max(slowest, time.monotonic() - began)
    time.sleep(0.05)
began = time.monotonic()
run.end()
print("slowest %.2f, end %.2f" % (slowest, time.monotonic() - began))
`)
	out, errs, code := run(w.record(program...))
	require.Zero(t, code, out+errs)
	require.Contains(t, errs, "the spool's disk takes nothing (no space left on device)")
	require.Contains(t, errs, "the spool's disk takes again")
	for epoch := 1; epoch <= 20; epoch++ {
		require.Contains(t, out, fmt.Sprintf("epoch %d .", epoch), "its output is whole")
	}
	var slowest, end float64
	_, err := fmt.Sscanf(out[strings.Index(out, "slowest"):], "slowest %f, end %f", &slowest, &end)
	require.NoError(t, err)
	t.Logf("the slowest epoch's calls took %.2f s, the end %.2f s", slowest, end)
	require.Less(t, slowest, 10.0, "no call waits for the disk")
	w.nothingWaits(t)
	_, err = os.Stat(disk + "/spool")
	require.NoError(t, err)
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State)
	require.EqualValues(t, 20, r.Epoch)
	c := w.curves(t, "vessels/1")["loss.val"]
	require.Len(t, c.Value, 20, "every reading, once")
	missed := 0
	for _, n := range r.Notes {
		if strings.Contains(n.Text, "was not kept") {
			missed++
			require.Regexp(t, `^The checkpoint of step (7|8|9|10|11) was not kept: .*(no space left on device|No space left on device)`, n.Text)
		}
	}
	require.GreaterOrEqual(t, missed, 4, "%v", r.Notes)
	var kept api.Page[api.Checkpoint]
	w.decode(t, &kept, "checkpoints", "vessels/1", "--output", "json")
	require.Equal(t, 20-missed, len(kept.Items))
}

// A disk that has bytes, but no names for files left.
func TestNoInodesUnderTheSpool(t *testing.T) {
	t.Parallel()
	w, disk := newWorld(t), smallDisk(t, 16<<20, "nr_inodes=80")
	w.spool = disk + "/spool"
	w.env = append(w.env, "KEMBREL_SPOOL="+w.spool, "DISK="+disk)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := w.script(t, "train.py", `
import glob, os, time
import kembrel
run = kembrel.record("vessels")
for epoch in run.epochs(12):
    if epoch == 4:
        try:
            for i in range(200):
                open(os.environ["DISK"] + f"/name{i}", "w").close()
        except OSError:
            pass
    if epoch == 8:
        for name in glob.glob(os.environ["DISK"] + "/name*"):
            os.remove(name)
    run.readings(epoch, epoch, {"loss.val": 1 / epoch})
    run.save(epoch, epoch, weights={"n": epoch})
    time.sleep(0.1)
run.end()
`)
	out, errs, code := run(w.record(program...))
	require.Zero(t, code, out+errs)
	w.nothingWaits(t)
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 12)
	missed := 0
	for _, n := range r.Notes {
		if strings.Contains(n.Text, "was not kept") {
			missed++
		}
	}
	require.Positive(t, missed)
	require.Equal(t, 12-missed, r.Checkpoints)
}

// The disk stays full to the end while the service is away: what waits in memory goes elsewhere, and is sent from
// there.
func TestFullDiskToTheEnd(t *testing.T) {
	t.Parallel()
	w, disk := onDisk(t, 3<<20)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	w.stop(t, syscall.SIGINT)
	program := w.script(t, "train.py", fills+`
import kembrel
run = kembrel.record("vessels")
for epoch in run.epochs(20):
    if epoch == 7:
        fill()
    run.readings(epoch, epoch, {"loss.val": 1 / epoch, **{f"norm{i}": i / epoch for i in range(400)}})
    time.sleep(0.02)
run.end()
`)
	out, errs, code := run(w.recordWith([]string{"--wait", "1s"}, program...))
	require.Zero(t, code, out+errs)
	require.Contains(t, errs, "The program starts all the same")
	require.Contains(t, errs, "what waited in memory is in "+w.folder+"/tmp/")
	require.NoError(t, os.Remove(disk+"/filler"))
	w.start(t)
	require.Contains(t, w.kembrel(t, "spool", "send"), "sent")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 20)
	require.Equal(t, "finished", w.show(t, "vessels/1").State)
	require.Contains(t, w.kembrel(t, "spool"), "Nothing waits")
	left, err := filepath.Glob(disk + "/spool/*/kept")
	require.NoError(t, err)
	require.Empty(t, left)
}

// Where no spool can be made it is made elsewhere, and the program, which knows nothing of it all, prints what it
// prints.
func TestNoSpoolWhereItBelongs(t *testing.T) {
	t.Parallel()
	w, disk := onDisk(t, 1<<20)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	filler := exec.Command("sh", "-c",
		"dd if=/dev/zero of="+disk+"/filler bs=4k; dd if=/dev/zero of="+disk+"/filler2 bs=1")
	filler.Run()
	out, errs, code := run(w.record("sh", "-c", "seq 1 1000; echo done >&2"))
	require.Zero(t, code, errs)
	require.Contains(t, errs, "the spool is in "+w.folder+"/tmp/")
	require.Equal(t, 1000, strings.Count(out, "\n"))
	require.Contains(t, errs, "done\n")
	require.Equal(t, "finished", w.show(t, "vessels/1").State)
	for i, e := range w.env {
		if strings.HasPrefix(e, "KEMBREL_SPOOL=") {
			w.env[i] = "KEMBREL_SPOOL=/proc/nowhere"
		}
	}
	out, errs, code = run(w.record("sh", "-c", "echo still; exit 3"))
	require.Equal(t, 3, code)
	require.Equal(t, "still\n", out)
	require.Contains(t, errs, "the spool is in "+w.folder+"/tmp/")
	require.Equal(t, "failed", w.show(t, "vessels/2").State)
}

// The program's output outlives whoever takes it: the recorder killed, the process that drains killed, a flood that no
// terminal takes.
func TestOutputOutlivesItsTakers(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	drainer := func(recorder int) int {
		list, err := exec.Command("pgrep", "-P", fmt.Sprint(recorder), "-f", "drain-output").Output()
		pid := 0
		fmt.Sscan(string(list), &pid)
		if err != nil || pid == 0 {
			return 0
		}
		return pid
	}
	cmd := w.record("sh", "-c",
		"for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15; do echo line $i; sleep 0.2; done; echo $$ > ended")
	cmd.Stdout, cmd.Stderr = &lockedBuffer{}, &lockedBuffer{}
	require.NoError(t, cmd.Start())
	var pid int
	require.Eventually(t, func() bool { pid = drainer(cmd.Process.Pid); return pid > 0 }, 60*time.Second,
		10*time.Millisecond)
	time.Sleep(500 * time.Millisecond)
	require.NoError(t, kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { other := drainer(cmd.Process.Pid); return other > 0 && other != pid },
		60*time.Second, 10*time.Millisecond, "another follows")
	require.NoError(t, cmd.Wait())
	require.FileExists(t, w.folder+"/ended")
	require.Contains(t, cmd.Stdout.(*lockedBuffer).String(), "line 15\n")
	require.NoError(t, os.Remove(w.folder+"/ended"))

	cmd = w.record("sh", "-c", "for i in 1 2 3 4 5 6 7 8 9 10; do echo line $i; sleep 0.2; done; echo $$ > ended")
	require.NoError(t, cmd.Start())
	time.Sleep(700 * time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	cmd.Wait()
	require.Eventually(t, func() bool { _, err := os.Stat(w.folder + "/ended"); return err == nil }, 60*time.Second,
		50*time.Millisecond, "the program goes on to its end")
	require.Eventually(t, func() bool {
		files, _ := filepath.Glob(w.folder + "/spool/*/stdout")
		for _, f := range files {
			if text, err := os.ReadFile(f); err == nil && strings.Contains(string(text), "line 10\n") {
				return true
			}
		}
		return false
	}, 60*time.Second, 50*time.Millisecond, "and what it prints is kept")
}

// The disk of the service itself is filled by checkpoints while a run trains, and emptied by commands alone. Readings
// go on, checkpoints wait in the spool, and nothing is lost.
func TestFullDiskOfTheService(t *testing.T) {
	t.Parallel()
	w, disk := newWorld(t), smallDisk(t, 700<<20)
	for i, e := range w.env {
		if strings.HasPrefix(e, "KEMBREL_DATA=") {
			w.env[i] = "KEMBREL_DATA=" + disk + "/data"
		}
	}
	w.env = append(w.env, "KEMBREL_RESERVE=450MB")
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	program := w.script(t, "train.py", `
import os, time, kembrel
run = kembrel.record("vessels")
for epoch in run.epochs(30):
    run.readings(epoch, epoch, {"loss.val": 1 / epoch})
    run.save(epoch, epoch, weights={"w": bytearray(os.urandom(8 << 20))})
    time.sleep(0.3)
run.end()
`)
	cmd := w.recordWith([]string{"--wait", "60s"}, program...)
	said := &lockedBuffer{}
	cmd.Stdout, cmd.Stderr = said, said
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return strings.Contains(said.String(), "must become free before checkpoints are kept again")
	}, 60*time.Second, 100*time.Millisecond, "it says so")
	require.Contains(t, said.String(), disk+"/data")
	require.Eventually(t, func() bool { return w.show(t, "vessels/1").Epoch >= 28 }, 60*time.Second,
		200*time.Millisecond, "readings go on")
	var ready api.Health
	w.get(t, "/api/v1/ready", &ready)
	require.Positive(t, ready.Disk.Missing)
	require.Contains(t, ready.Disk.Says, "storage free --now")
	require.Regexp(t, `kembrel_disk_missing_bytes [1-9]`, w.metricsText(t))
	w.stop(t, syscall.SIGINT)
	w.start(t) // also while it is full
	var list api.Page[api.Checkpoint]
	w.decode(t, &list, "checkpoints", "vessels/1", "--output", "json")
	held := len(list.Items)
	require.Less(t, held, 30)
	var drop []string
	for _, c := range list.Items[2:] {
		drop = append(drop, c.Address)
	}
	w.kembrel(t, append([]string{"drop", "--days", "0"}, drop...)...)
	var freed api.Freed
	w.decode(t, &freed, "storage", "free", "--now", "--output", "json")
	require.Greater(t, freed.Freed, int64(80<<20), "given back at once")
	require.NoError(t, cmd.Wait(), said.String())
	w.nothingWaits(t)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 30)
	w.decode(t, &list, "checkpoints", "vessels/1", "--output", "json")
	require.Len(t, list.Items, 30, "every checkpoint is there, or was dropped by a person")
	for _, c := range list.Items {
		if c.Dropped == nil {
			w.kembrel(t, "restore", c.Address, "--into", w.folder+"/again/"+strings.ReplaceAll(c.Address, "/", "-"))
		}
	}
}
