// Package stories runs what users do, through the real binaries, the real database and a real browser.
package stories

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// TestMain lets this binary stand in for a training program that speaks the protocol by itself: see speak.
func TestMain(m *testing.M) {
	if os.Getenv("KEMBREL_TEST_SPEAK") != "" {
		speak()
		return
	}
	os.Exit(m.Run())
}

// speak sends the lines of $KEMBREL_TEST_SPEAK to the recorder and prints each answer. "wait" sleeps for good, "sleep" for a
// moment, "folder" makes a file in the folder answered last; KEY in a line becomes the key answered last.
func speak() {
	conn, err := net.Dial("unix", os.Getenv("KEMBREL_RECORDER"))
	if err != nil {
		fmt.Println("no recorder:", err)
		os.Exit(1)
	}
	answers := bufio.NewReader(conn)
	var last struct{ Checkpoint, Folder string }
	for _, line := range strings.Split(os.Getenv("KEMBREL_TEST_SPEAK"), "\n") {
		switch {
		case line == "wait":
			time.Sleep(time.Hour)
		case line == "sleep":
			time.Sleep(300 * time.Millisecond)
		case line == "folder":
			os.WriteFile(filepath.Join(last.Folder, "w.bin"), []byte("weights"), 0o600)
			os.Symlink("/etc/hostname", filepath.Join(last.Folder, "link"))
		case line != "":
			fmt.Fprintln(conn, strings.ReplaceAll(line, "KEY", last.Checkpoint))
			if !strings.Contains(line, `"id"`) {
				continue
			}
			answer, err := answers.ReadString('\n')
			if err != nil {
				fmt.Println("cut off")
				continue
			}
			json.Unmarshal([]byte(answer), &last)
			fmt.Print(answer)
		}
	}
}

// world is a service with its own data, credentials and spool.
type world struct {
	folder, url, metrics, binary, harbour string
	env                                   []string
	up                                    *exec.Cmd
	said                                  *lockedBuffer
}

func binary(t *testing.T, variable, path string) string {
	if b := os.Getenv(variable); b != "" {
		return b
	}
	b, err := filepath.Abs("../../build/" + path)
	require.NoError(t, err)
	if _, err := os.Stat(b); err != nil {
		t.Skipf("%s is not built; run make build (make test does)", b)
	}
	return b
}

func newWorld(t *testing.T) *world {
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-story-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(folder, 0o711))
	address, metrics := freeAddress(t), freeAddress(t)
	w := &world{folder: folder, url: "http://" + address, metrics: "http://" + metrics, binary: binary(t, "KEMBREL_BINARY", "kembrel"), harbour: binary(t, "HARBOUR_BINARY", "harbour")}
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "KEMBREL_") {
			w.env = append(w.env, e)
		}
	}
	w.env = append(w.env, "KEMBREL_URL="+w.url, "KEMBREL_LISTEN="+address, "KEMBREL_METRICS="+metrics, "KEMBREL_DATA="+folder+"/data", "KEMBREL_CONFIG="+folder+"/config.toml",
		"KEMBREL_CREDENTIALS="+folder+"/credentials.json", "KEMBREL_SPOOL="+folder+"/spool", "KEMBREL_BINARY="+w.binary)
	t.Cleanup(func() {
		if t.Failed() && w.said != nil {
			t.Log("the service said:\n" + w.said.String())
		}
		w.stop(t, syscall.SIGINT)
		os.RemoveAll(folder)
	})
	return w
}

// freeAddress finds a port below those that the system gives to outgoing connections, so that nobody takes it before the service does.
func freeAddress(t *testing.T) string {
	for range 100 {
		address := fmt.Sprint("127.0.0.1:", 10_000+rand.IntN(10_000))
		if listener, err := net.Listen("tcp", address); err == nil {
			listener.Close()
			return address
		}
	}
	t.Fatal("no free port")
	return ""
}

// start starts the service and waits until it answers.
func (w *world) start(t *testing.T) {
	t.Helper()
	if w.said == nil {
		w.said = &lockedBuffer{}
	}
	w.up = exec.Command(w.binary, "up")
	w.up.Env, w.up.Stderr, w.up.Stdout = w.env, w.said, w.said
	require.NoError(t, w.up.Start())
	require.Eventually(t, w.ready, 60*time.Second, 50*time.Millisecond, "the service does not come up")
}

func (w *world) ready() bool {
	response, err := http.Get(w.url + "/api/v1/ready")
	if err != nil {
		return false
	}
	response.Body.Close()
	return response.StatusCode == http.StatusOK
}

func (w *world) stop(t *testing.T, signal syscall.Signal) {
	if w.up == nil {
		return
	}
	w.up.Process.Signal(signal)
	err := w.up.Wait()
	if signal == syscall.SIGINT {
		require.NoError(t, err, "a stop by interrupt is clean")
	}
	w.up = nil
}

func (w *world) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Env = w.env
	cmd.Dir = w.folder
	return cmd
}

// try runs a kembrel command and returns output, error output and exit code.
func (w *world) try(args ...string) (out, errs string, code int) {
	return run(w.command(w.binary, args...))
}

func run(cmd *exec.Cmd) (out, errs string, code int) {
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	cmd.Run()
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

// kembrel runs a command that must succeed.
func (w *world) kembrel(t *testing.T, args ...string) string {
	t.Helper()
	out, errs, code := w.try(args...)
	require.Zero(t, code, "kembrel %s: %s%s", strings.Join(args, " "), out, errs)
	return out
}

// show reads a run as the API gives it.
func (w *world) show(t *testing.T, run string) (r api.RunDetail) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "show", run, "--output", "json")), &r))
	return r
}

func (w *world) curves(t *testing.T, run string) map[string]api.Curve {
	t.Helper()
	var c api.Curves
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "curves", run, "--json", "-")), &c))
	out := map[string]api.Curve{}
	for _, curve := range c.Curves {
		out[curve.Name] = curve
	}
	return out
}

// record starts a program under a recorder.
func (w *world) record(program ...string) *exec.Cmd {
	return w.command(w.binary, append([]string{"record", "--project", "vessels", "--"}, program...)...)
}

func (w *world) speak(lines ...string) *exec.Cmd {
	cmd := w.record(os.Args[0])
	cmd.Env = append(cmd.Env, "KEMBREL_TEST_SPEAK="+strings.Join(lines, "\n"))
	return cmd
}

// nothingWaits waits until no spool is left.
func (w *world) nothingWaits(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool {
		left, _ := filepath.Glob(w.folder + "/spool/*/leg.json")
		return len(left) == 0
	}, 60*time.Second, 100*time.Millisecond, "a spool is left")
}

// A newcomer's first run: recorded, looked at, its best checkpoint restored byte for byte and giving the recorded figure.
func TestFirstRun(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels", "--title", "Vessel classes")
	keep := w.folder + "/copies"
	out, errs, code := run(w.command(w.binary, "record", "--project", "vessels", "--title", "Small net", "--hyper", "note=first try", "--",
		w.harbour, "train", "--hidden", "24", "--clips", "480", "--epochs", "8", "--keep", keep))
	require.Zero(t, code, errs)
	require.Equal(t, 8, strings.Count(out, "epoch "), "the program's output passes through")
	var r api.RunDetail
	require.Eventually(t, func() bool {
		r = w.show(t, "vessels/1")
		return r.Best != nil && len(r.Curves) == 6 && r.Curves[4].Count == 8
	}, 10*time.Second, 50*time.Millisecond, "summaries follow the readings within a moment")
	require.Equal(t, "finished", r.State)
	require.Equal(t, "Small net", r.Title)
	require.JSONEq(t, `"first try"`, string(r.Hyper["note"]))
	require.JSONEq(t, `[384,24,6]`, string(r.Hyper["layers"]))
	require.Equal(t, "All 8 epochs done.", r.Legs[0].Why)
	require.Contains(t, r.Recipe.Command, "--clips")
	require.NotEmpty(t, r.Recipe.CPU)
	require.Positive(t, r.Recipe.Memory)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 8)

	best := fmt.Sprintf("e%g", float64(r.Best.Epoch))
	into := w.folder + "/model"
	said := w.kembrel(t, "restore", "vessels/1@best", "--into", into)
	require.Contains(t, said, "every digest checked")
	copies, err := filepath.Glob(keep + "/" + best + "/*")
	require.NoError(t, err)
	require.Len(t, copies, 5)
	for _, c := range copies {
		want, err := os.ReadFile(c)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(into, filepath.Base(c)))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), c)
	}
	figures, _, code := run(w.command(w.harbour, "evaluate", "--folder", into))
	require.Zero(t, code)
	require.Contains(t, figures, fmt.Sprintf("loss.val %v\n", float64(r.Best.Value)), "the restored model gives the recorded figure")

	_, errs, code = w.try("restore", "vessels/1@best", "--into", into)
	require.Equal(t, 6, code)
	require.Contains(t, errs, "nothing was written")
	w.kembrel(t, "restore", "vessels/1@last", "--into", w.folder+"/part", "--parts", "weights")
	parts, err := os.ReadDir(w.folder + "/part")
	require.NoError(t, err)
	require.Len(t, parts, 1)

	for _, kind := range []string{"svg", "png"} {
		file := w.folder + "/curves." + kind
		w.kembrel(t, "curves", "vessels/1", "--"+kind, file)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, map[string]string{"svg": "<?xml", "png": "\x89PNG\r"}[kind], string(content[:5]))
	}
	require.Contains(t, w.kembrel(t, "curves", "vessels/1"), "loss by epoch")
	require.Equal(t, 9, strings.Count(w.kembrel(t, "curves", "vessels/1", "--names", "loss.val", "--csv", "-"), "\n"))
	for _, list := range [][]string{{"projects"}, {"runs", "vessels"}, {"show", "vessels/1"}, {"checkpoints", "vessels/1"}, {"tokens"}, {"config"}, {"spool"}} {
		require.NotEmpty(t, w.kembrel(t, list...))
		require.True(t, json.Valid([]byte(w.kembrel(t, append(list, "--output", "json")...))), list)
		require.Contains(t, w.kembrel(t, append(list, "--output", "csv")...), ",", list)
	}
	response, err := http.Get(w.metrics)
	require.NoError(t, err)
	defer response.Body.Close()
	measured, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.Contains(t, string(measured), "kembrel_readings_total 52", "8 epochs of 5 curves, and the gradient of one step in ten")
	require.Contains(t, w.kembrel(t, "__complete", "show", "vessels/"), "vessels/1\t")
	require.Contains(t, w.kembrel(t, "__complete", "restore", "vessels/1@"), "vessels/1@best")
	w.nothingWaits(t)
}

func TestUsageAndExitCodes(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	for line, want := range map[string]struct {
		code int
		says string
	}{
		"show vessels/9":                                {3, "no run vessels/9"},
		"show vessels//9":                               {2, "address"},
		"runs harbour":                                  {3, `no project "harbour"`},
		"runs vessels/1":                                {2, "a project is wanted"},
		"curves vessels":                                {2, "a run is wanted"},
		"curves vessels/1 --by day":                     {2, "none of epoch, step, time"},
		"restore vessels/1 --into x":                    {2, "a checkpoint is wanted"},
		"restore vessels/1@best":                        {2, "--into"},
		"projects --output yaml":                        {2, "none of table, json, csv"},
		"projects make Vessels!":                        {2, "project key"},
		"projects make vessels":                         {6, "already"},
		"frobnicate":                                    {2, "unknown command"},
		"show --nonsense vessels/1":                     {2, "unknown flag"},
		"tokens revoke 99":                              {3, "no token 99"},
		"record --project vessels":                      {2, "say what to run"},
		"record -- true":                                {2, "which project"},
		"record --project nothing -- true":              {3, "projects make nothing"},
		"record --project vessels --hyper lr -- true":   {2, "name=value"},
		"record --project vessels -- no-such-program-x": {1, "cannot start"},
		"spool send nonsense":                           {3, "no spool"},
		"up":                                            {1, "is taken by another program"},
		"up --listen 127.0.0.1:0":                       {1, "another kembrel uses the data folder"},
		"serve":                                         {1, "--database"},
		"show vessels/1 --url http://127.0.0.1:1":       {5, "does not answer"},
	} {
		_, errs, code := w.try(strings.Fields(line)...)
		require.Equal(t, want.code, code, "%s: %s", line, errs)
		require.Contains(t, errs, want.says, line)
		require.LessOrEqual(t, strings.Count(errs, "\n"), 2, "%s: one clear sentence: %s", line, errs)
	}
	token := strings.TrimSpace(w.kembrel(t, "tokens", "make", "nightly"))
	other := *w
	other.env = append(append([]string{}, w.env...), "KEMBREL_TOKEN="+token)
	other.kembrel(t, "projects")
	w.kembrel(t, "tokens", "revoke", "2")
	_, errs, code := other.try("projects")
	require.Equal(t, 4, code)
	require.Contains(t, errs, "revoked")
	require.NoError(t, os.WriteFile(w.folder+"/config.toml", []byte("lost-after = \"90s\"\n"), 0o600))
	require.Contains(t, w.kembrel(t, "config", "--output", "csv"), "lost-after,90s,"+w.folder+"/config.toml")
	require.NoError(t, os.WriteFile(w.folder+"/config.toml", []byte("nonsense = 1\n"), 0o600))
	_, errs, code = w.try("config")
	require.Equal(t, 2, code)
	require.Contains(t, errs, `no setting "nonsense"`)
}

// How a program ends is how its run ends, and the recorder's exit code is the program's.
func TestEnds(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	for i, end := range []struct {
		script, state, signal string
		code                  int
	}{
		{"echo fine", "finished", "", 0},
		{"echo the hydrophone is gone >&2; exit 3", "failed", "", 3},
		{"kill -9 $$", "failed", "killed", 137},
		{"kill -TERM $$", "failed", "terminated", 143},
	} {
		_, errs, code := run(w.record("sh", "-c", end.script))
		require.Equal(t, end.code, code, errs)
		r := w.show(t, fmt.Sprint("vessels/", i+1))
		require.Equal(t, end.state, r.State)
		require.Equal(t, end.signal, r.Legs[0].Signal)
		if end.code == 3 {
			require.Equal(t, 3, *r.Legs[0].ExitCode)
			require.Equal(t, "the hydrophone is gone", r.Legs[0].Tail)
		}
	}
	cmd := w.record("sh", "-c", "trap 'echo asked to stop; exit 0' TERM; while :; do sleep 0.1; done")
	var out bytes.Buffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	time.Sleep(time.Second)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	require.NoError(t, cmd.Wait())
	require.Contains(t, out.String(), "asked to stop", "SIGTERM is passed on")
	w.nothingWaits(t)
}

func TestWhatTheRecorderRefuses(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	out, errs, code := run(w.speak(
		`{"kind":"hello","id":1,"protocol":1}`,
		`{"kind":"hello","id":2,"protocol":7}`,
		`nonsense "id"`,
		`{"kind":"readings","id":3,"step":10,"values":{"loss.val":0.5}}`,
		`{"kind":"readings","id":4,"step":9,"values":{"loss.val":0.5}}`,
		`{"kind":"readings","id":5,"step":11,"values":{"loss\u0007":0.5}}`,
		`{"kind":"readings","id":6,"step":11,"values":{"loss.val":"low"}}`,
		`{"kind":"hyper","id":7,"values":{"lr":1}}`,
		`{"kind":"checkpoint","do":"begin","id":8,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":9,"checkpoint":"KEY","parts":{"weights":["missing.bin"]}}`,
	))
	require.Zero(t, code, errs)
	answers := strings.Split(strings.TrimSpace(out), "\n")
	require.Len(t, answers, 10)
	for i, want := range []string{`"kind":"welcome"`, "speaks protocol 1", "not a JSON object", `"kind":"kept"`, "goes back from step 10 to step 9", "control",
		"not a number", "fixed before training", `"kind":"folder"`, "is missing"} {
		require.Contains(t, answers[i], want)
	}
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"checkpoint":"nonsense","parts":{"weights":["w.bin"]}}`,
	))
	require.Contains(t, out, "is not open")
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"parts":{"weights":["link"]},"checkpoint":"KEY"}`,
	))
	require.Contains(t, out, "not a plain file")
	out, _, _ = run(w.speak(
		`{"kind":"checkpoint","do":"begin","id":1,"step":11}`, "folder",
		`{"kind":"checkpoint","do":"commit","id":2,"parts":{"weights":["w.bin"]},"checkpoint":"KEY"}`,
		`{"kind":"checkpoint","do":"begin","id":3,"step":11}`,
	))
	require.Contains(t, out, `"kind":"kept","id":2`)
	require.Contains(t, out, "already")
	require.Contains(t, w.kembrel(t, "checkpoints", "vessels/4"), "vessels/4@s11")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 1)
	w.nothingWaits(t)
}

// Curves that are nothing but NaN, or reach the ends of what a number can be, are drawn as far as they can be.
func TestDrawingOddCurves(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	_, errs, code := run(w.speak(
		`{"kind":"readings","id":1,"step":[1,2,3],"values":{"never":["NaN","NaN","Infinity"],"huge":[-1.7e308,0,1.7e308],"tiny":[5e-324,5e-324,5e-324],"once":[null,1,null]}}`,
		`{"kind":"readings","id":2,"step":3,"epoch":1,"values":{"late":1}}`))
	require.Zero(t, code, errs)
	require.Contains(t, w.kembrel(t, "curves", "vessels/1"), "no reading is a number")
	for _, by := range []string{"epoch", "step", "time"} {
		w.kembrel(t, "curves", "vessels/1", "--by", by, "--smooth", "1", "--svg", w.folder+"/odd.svg", "--png", w.folder+"/odd.png")
	}
	require.Contains(t, w.kembrel(t, "curves", "vessels/1", "--csv", "-"), "never,3,,")
}

// With no service from the first moment to the last, training goes on unharmed; everything is sent later.
func TestServiceDownAllAlong(t *testing.T) {
	w := newWorld(t)
	began := time.Now()
	out, errs, code := run(w.command(w.binary, "record", "--project", "vessels", "--wait", "1s", "--", w.harbour, "train", "--hidden", "24", "--clips", "480", "--epochs", "6"))
	require.Zero(t, code, errs)
	require.Equal(t, 6, strings.Count(out, "epoch "))
	require.Less(t, time.Since(began), 30*time.Second)
	require.Contains(t, errs, "kembrel spool send")
	require.Contains(t, w.kembrel(t, "spool"), "left")

	w.start(t)
	_, errs, code = w.try("spool", "send")
	require.Equal(t, 3, code, "the project is not made yet")
	require.Contains(t, errs, `no project "vessels"`)
	w.kembrel(t, "projects", "make", "vessels")
	require.Contains(t, w.kembrel(t, "spool", "send"), "of vessels")
	r := w.show(t, "vessels/1")
	require.Equal(t, "finished", r.State)
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 6)
	require.NotZero(t, r.Checkpoints)
	require.Contains(t, w.kembrel(t, "spool"), "Nothing waits")
}

// A recorder that was killed leaves a spool; spool send sends it, and the run is lost, not made up.
func TestSpoolOfADeadRecorder(t *testing.T) {
	w := newWorld(t)
	w.env = append(w.env, "KEMBREL_LOST_AFTER=3s")
	cmd := w.speak(`{"kind":"readings","id":1,"step":1,"values":{"loss.val":0.5}}`, `{"kind":"readings","id":2,"step":2,"values":{"loss.val":"NaN"}}`, "wait")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	var out lockedBuffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return strings.Contains(out.String(), `"id":2`) }, 20*time.Second, 50*time.Millisecond)
	require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	cmd.Wait()
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	require.Contains(t, w.kembrel(t, "spool", "--output", "csv"), "left,2,")
	require.Contains(t, w.kembrel(t, "spool", "send"), "sent 2 readings")
	require.Len(t, w.curves(t, "vessels/1")["loss.val"].Value, 2)
	require.Eventually(t, func() bool { return w.show(t, "vessels/1").State == "lost" }, 30*time.Second, 200*time.Millisecond)
}

// Killing the service, PostgreSQL and the recorder again and again while a run trains loses nothing that was kept: every
// reading is there once, every checkpoint that the program was told is kept comes back byte for byte.
func TestKillsLoseNothing(t *testing.T) {
	if testing.Short() {
		t.Skip("takes a minute")
	}
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "make", "vessels")
	const epochs, kills = 56, 24
	keep := w.folder + "/copies"
	cmd := w.record(w.harbour, "train", "--hidden", "16", "--clips", "320", "--epochs", fmt.Sprint(epochs), "--save-every", "2", "--pace", "1s", "--keep", keep)
	var said lockedBuffer
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	go cmd.Wait()
	trainer := 0
	require.Eventually(t, func() bool { trainer = find("train", keep); return trainer > 0 }, 10*time.Second, 20*time.Millisecond)
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
			if pid := postmaster(w.folder); pid > 0 && syscall.Kill(pid, syscall.SIGKILL) == nil {
				killed["database"]++
			}
		case 2:
			for _, pid := range recorders(w.folder, w.binary) {
				if syscall.Kill(pid, syscall.SIGKILL) == nil {
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
	require.Eventually(t, func() bool { return syscall.Kill(trainer, 0) != nil || zombie(trainer) }, 2*time.Minute, 100*time.Millisecond, "training goes on to its end")
	require.Eventually(t, w.ready, 30*time.Second, 50*time.Millisecond)
	w.nothingWaits(t)

	run := w.show(t, "vessels/1")
	require.Equal(t, "finished", run.State, said.String())
	for _, name := range []string{"loss.train", "loss.val", "accuracy.val", "lr"} {
		c := w.curves(t, "vessels/1")[name]
		require.Len(t, c.Value, epochs, "%s has every epoch once", name)
		for i, e := range c.Epoch {
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

// lockedBuffer may be written by a process and read by the test.
type lockedBuffer struct {
	mutex sync.Mutex
	bytes bytes.Buffer
}

func (b *lockedBuffer) Write(p []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.bytes.Write(p)
}

func (b *lockedBuffer) String() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.bytes.String()
}
