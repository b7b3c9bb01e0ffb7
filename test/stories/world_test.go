// Package stories runs what users do, through the real binaries, the real database and a real browser.
package stories

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// TestMain lets this binary stand in for a training program that speaks the protocol by itself: see speak.
func TestMain(m *testing.M) {
	if os.Getenv("KEMBREL_TEST_SPEAK") != "" {
		speak()
		return
	}
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-story-")
	if err != nil {
		panic(err)
	}
	begunIn = folder
	code := m.Run()
	os.RemoveAll(folder)
	os.Exit(code)
}

// speak sends the lines of $KEMBREL_TEST_SPEAK to the recorder and prints each answer. "wait" sleeps for good, "sleep"
// for a moment, "folder" makes a file in the folder answered last; KEY in a line becomes the key answered last.
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
		case strings.HasPrefix(line, "write "):
			os.WriteFile(filepath.Join(last.Folder, strings.TrimPrefix(line, "write ")), []byte("weights"), 0o600)
		case strings.HasPrefix(line, "copy "):
			path := strings.TrimPrefix(line, "copy ")
			content, err := os.ReadFile(path)
			fmt.Println(err, os.WriteFile(filepath.Join(last.Folder, filepath.Base(path)), content, 0o600))
		case strings.HasPrefix(line, "print "):
			fmt.Fprintln(os.Stderr, strings.TrimPrefix(line, "print "))
			time.Sleep(500 * time.Millisecond)
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
	spool                                 string // folder of its spools
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
	w := newWorldIn(t, folder)
	t.Cleanup(func() {
		if t.Failed() && w.said != nil {
			t.Log("the service said:\n" + w.said.String())
		}
		w.stop(t, syscall.SIGINT)
		os.RemoveAll(folder)
	})
	return w
}

func newWorldIn(t *testing.T, folder string) *world {
	require.NoError(t, os.Chmod(folder, 0o711))
	address, metrics := freeAddress(t), freeAddress(t)
	w := &world{folder: folder, url: "http://" + address, metrics: "http://" + metrics,
		binary: binary(t, "KEMBREL_BINARY", "kembrel"), harbour: binary(t, "HARBOUR_BINARY", "harbour")}
	w.spool = folder + "/spool"
	for _, e := range os.Environ() {
		if !strings.HasPrefix(e, "KEMBREL_") {
			w.env = append(w.env, e)
		}
	}
	w.env = append(w.env, "KEMBREL_SEAL_AFTER=2s", "KEMBREL_URL="+w.url, "KEMBREL_LISTEN="+address,
		"KEMBREL_METRICS="+metrics, "KEMBREL_DATA="+folder+"/data", "KEMBREL_CONFIG="+folder+"/config.toml",
		"KEMBREL_CREDENTIALS="+folder+"/credentials.json", "KEMBREL_SPOOL="+folder+"/spool", "KEMBREL_BINARY="+w.binary)
	return w
}

// ports are given out one after another, from anywhere on: stories that run at once never get the same.
var ports atomic.Int64

func init() { ports.Store(rand.Int64N(10_000)) }

// freeAddress finds a port below those that the system gives to outgoing connections, so that nobody takes it before
// the service does.
func freeAddress(t *testing.T) string {
	for range 100 {
		address := fmt.Sprint("127.0.0.1:", 10_000+ports.Add(1)%10_000)
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
	w.begin(t)
	w.run(t)
}

func (w *world) run(t *testing.T) {
	t.Helper()
	w.up = exec.Command(w.binary, "start")
	w.up.Env, w.up.Stderr, w.up.Stdout = w.env, w.said, w.said
	require.NoError(t, w.up.Start())
	require.Eventually(t, w.ready, 60*time.Second, 50*time.Millisecond, "the service does not come up")
}

// begunIn is the folder of begun.
var begunIn string

// begun is a service that was started for the first time and stopped. It is made once, and what it left is copied for
// each world: that takes a tenth of the time.
var begun = struct {
	sync.Once
	world *world
}{}

// begin gives a world what the first start of a service leaves, unless there is something already.
func (w *world) begin(t *testing.T) {
	if _, err := os.Stat(w.folder + "/data"); err == nil || !slices.Contains(w.env, "KEMBREL_DATA="+w.folder+"/data") {
		return
	}
	begun.Do(func() {
		first := newWorldIn(t, begunIn)
		first.said = &lockedBuffer{}
		first.run(t)
		first.stop(t, syscall.SIGINT)
		begun.world = first
	})
	require.NotNil(t, begun.world, "the first start failed")
	copied, err := exec.Command("cp", "-a", begun.world.folder+"/data", w.folder).CombinedOutput()
	require.NoError(t, err, string(copied))
	content, err := os.ReadFile(begun.world.folder + "/credentials.json")
	require.NoError(t, err)
	content = bytes.ReplaceAll(content, []byte(begun.world.url), []byte(w.url))
	require.NoError(t, os.WriteFile(w.folder+"/credentials.json", content, 0o600))
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

// runs lists a project's runs.
func (w *world) runs(t *testing.T) []api.Run {
	t.Helper()
	var page api.Page[api.Run]
	w.decode(t, &page, "runs", "vessels", "--output", "json")
	return page.Items
}

// show reads a run as the API gives it.
func (w *world) show(t *testing.T, run string) (r api.RunDetail) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "show", run, "--output", "json")), &r))
	return r
}

// decode reads what a command prints as JSON.
func (w *world) decode(t *testing.T, into any, args ...string) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, args...)), into))
}

// series is a curve with the points that it stands on.
type series struct {
	api.Curve
	step  []int64
	epoch []float64
}

func (w *world) curves(t *testing.T, run string) map[string]series {
	t.Helper()
	var c api.Curves
	require.NoError(t, json.Unmarshal([]byte(w.kembrel(t, "curves", run, "--by", "step", "-o", "json")), &c))
	out := map[string]series{}
	for _, curve := range c.Curves {
		axis := c.Axes[curve.Axis]
		out[curve.Name] = series{curve, axis.Step, axis.Epoch}
	}
	return out
}

// record starts a program under a recorder.
func (w *world) record(program ...string) *exec.Cmd {
	return w.command(w.binary, append([]string{"record", "--project", "vessels", "--"}, program...)...)
}

func (w *world) speak(lines ...string) *exec.Cmd { return w.speakAs(w.record(os.Args[0]), lines...) }

// speakAs makes the program of a record command say these lines.
func (w *world) speakAs(cmd *exec.Cmd, lines ...string) *exec.Cmd {
	cmd.Env = append(cmd.Env, "KEMBREL_TEST_SPEAK="+strings.Join(lines, "\n"))
	return cmd
}

// recordWith starts a program under a recorder with flags.
func (w *world) recordWith(flags []string, program ...string) *exec.Cmd {
	args := append([]string{"record", "--project", "vessels"}, flags...)
	return w.command(w.binary, append(append(args, "--"), program...)...)
}

// nothingWaits waits until no spool is left.
func (w *world) nothingWaits(t *testing.T) {
	t.Helper()
	gone := assert.Eventually(t, func() bool {
		left, _ := filepath.Glob(w.spool + "/*/leg.json")
		return len(left) == 0
	}, 60*time.Second, 100*time.Millisecond, "a spool is left")
	if !gone {
		t.Fatal(w.kembrel(t, "spool", "--output", "json"))
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

// ask calls the API as somebody.
func (w *world) ask(t *testing.T, method, path, body, token string) (status int, text string) {
	t.Helper()
	request, err := http.NewRequest(method, w.url+"/api/v1"+path, strings.NewReader(body))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	request.Header.Set("Content-Type", "application/json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, string(content)
}

// get reads an answer of the API that needs no signing in.
func (w *world) get(t *testing.T, path string, into any) {
	t.Helper()
	response, err := http.Get(w.url + path)
	require.NoError(t, err)
	defer response.Body.Close()
	require.NoError(t, json.NewDecoder(response.Body).Decode(into))
}

func (w *world) metricsText(t *testing.T) string {
	t.Helper()
	response, err := http.Get(w.metrics + "/metrics")
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return string(text)
}
