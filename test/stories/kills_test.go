package stories

import (
	"bytes"
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Killing the service, PostgreSQL and the recorder again and again while a run trains loses nothing that was kept:
// every reading is there once, every checkpoint that the program was told is kept comes back byte for byte.
func TestKillsLoseNothing(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("takes a minute")
	}
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	const epochs, kills = 56, 24
	keep := w.folder + "/copies"
	cmd := w.record(w.harbour, "train", "--hidden", "16", "--clips", "320", "--epochs", fmt.Sprint(epochs),
		"--save-every", "2", "--pace", "1s", "--keep", keep)
	var said lockedBuffer
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	go cmd.Wait()
	trainer := 0
	require.Eventually(t, func() bool { trainer = find("train", keep); return trainer > 0 }, 60*time.Second,
		20*time.Millisecond)
	seed, err := strconv.ParseUint(cmp.Or(os.Getenv("KEMBREL_KILL_SEED"), "7420"), 10, 64)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(seed, 1))
	killed := map[string]int{}
	for i := range kills {
		time.Sleep(time.Duration(300+r.IntN(1400)) * time.Millisecond)
		switch i % 3 {
		case 0:
			killed["service"]++
			w.stop(t, syscall.SIGKILL)
			time.Sleep(time.Duration(r.IntN(600)) * time.Millisecond)
			w.start(t)
		case 1:
			if pid := postmaster(w.folder); pid > 0 && kill(pid, syscall.SIGKILL) == nil {
				killed["database"]++
			}
		case 2:
			for _, pid := range recorders(w.folder, w.binary) {
				if kill(pid, syscall.SIGKILL) == nil {
					killed["recorder"]++
				}
			}
		}
	}
	t.Log("killed:", killed)
	require.GreaterOrEqual(t, killed["service"]+killed["database"]+killed["recorder"], 20)
	for _, what := range []string{"service", "database", "recorder"} {
		require.GreaterOrEqual(t, killed[what], 5, what)
	}
	require.Eventually(t, func() bool { return kill(trainer, 0) != nil || zombie(trainer) }, 2*time.Minute,
		100*time.Millisecond, "training goes on to its end")
	require.Eventually(t, w.ready, 30*time.Second, 50*time.Millisecond)
	w.nothingWaits(t)

	run := w.show(t, "vessels/1")
	require.Equal(t, "finished", run.State, said.String())
	for _, name := range []string{"loss.train", "loss.val", "accuracy.val", "lr"} {
		c := w.curves(t, "vessels/1")[name]
		require.Len(t, c.Value, epochs, "%s has every epoch once", name)
		for i, e := range c.epoch {
			require.EqualValues(t, i+1, e)
		}
	}
	require.Len(t, w.curves(t, "vessels/1")["gradient"].Value, epochs, "one step in ten, ten steps an epoch")
	copies, err := filepath.Glob(keep + "/e*")
	require.NoError(t, err)
	require.Greater(t, len(copies), epochs/4)
	for _, c := range copies {
		into := w.folder + "/restored/" + filepath.Base(c)
		w.kembrel(t, "restore", "vessels/1@"+filepath.Base(c), "--into", into)
		files, err := os.ReadDir(c)
		require.NoError(t, err)
		for _, f := range files {
			want, err := os.ReadFile(filepath.Join(c, f.Name()))
			require.NoError(t, err)
			got, err := os.ReadFile(filepath.Join(into, f.Name()))
			require.NoError(t, err)
			require.True(t, bytes.Equal(want, got), "%s of %s", f.Name(), c)
		}
	}
}
