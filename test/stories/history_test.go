package stories

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// What leaves as CSV or JSON Lines comes back equal, once; and other scripts' tables come in as one would read them.
func TestOutAndIn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	w.kembrel(t, "projects", "create", "copies")
	_, errs, code := run(w.record(w.harbour, "train", "--hidden", "8", "--clips", "960", "--epochs", "6", "--lr", "3",
		"--activation", "relu"))
	require.Zero(t, code, errs)
	w.nothingWaits(t)
	want := w.curves(t, "vessels/1")
	for i, format := range []string{"csv", "csv-long", "jsonl", "json"} {
		ending := map[string]string{"csv": "csv", "csv-long": "csv", "jsonl": "jsonl", "json": "json"}[format]
		file := filepath.Join(w.folder, format+"."+ending)
		w.kembrel(t, "export", "vessels/1", "--format", format, "--to", file)
		dry := w.kembrel(t, "import", file, "--project", "copies", "--dry-run")
		require.Contains(t, dry, "Nothing was brought in")
		out := w.kembrel(t, "import", file, "--project", "copies", "--yes")
		require.Contains(t, out, "copies/")
		again := w.kembrel(t, "import", file, "--project", "copies", "--yes")
		require.Equal(t, strings.Fields(out)[len(strings.Fields(out))-2],
			strings.Fields(again)[len(strings.Fields(again))-2], "brought in once")
		cmd := w.command(w.binary, "import", "-", "--project", "copies", "--dry-run")
		input, err := os.Open(file)
		require.NoError(t, err)
		cmd.Stdin = input
		read, errs, code := run(cmd)
		require.Zero(t, code, errs)
		require.Equal(t, strings.SplitN(dry, "\n\n", 2)[0], strings.SplitN(read, "\n\n", 2)[0], "its beginning says what it is")
		input.Close()
		got := w.curves(t, fmt.Sprint("copies/", i+1))
		require.Len(t, got, len(want))
		for name, c := range want {
			a, err := json.Marshal(c)
			require.NoError(t, err)
			c := got[name]
			c.Axis = want[name].Axis
			b, err := json.Marshal(c)
			require.NoError(t, err)
			require.Equal(t, string(a), string(b), "%s by %s", name, format)
			require.Equal(t, want[name].step, got[name].step)
		}
	}
	file := filepath.Join(w.folder, "all.parquet")
	w.kembrel(t, "export", "copies", "--to", file)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	p, err := parquet.OpenFile(f, info.Size())
	require.NoError(t, err)
	count := 0
	for _, c := range want {
		count += 4 * len(c.Value)
	}
	require.EqualValues(t, count, p.NumRows())
	runs := w.kembrel(t, "export", "vessels", "--what", "runs")
	require.Contains(t, runs, "hyper.lr")
	require.Contains(t, runs, "vessels/1")

	script := filepath.Join(w.folder, "theirs.csv")
	require.NoError(t, os.WriteFile(script,
		[]byte("Epoch;loss;val_loss;lr;remark\n1;0.9;1.0;0.01;calm\n2;0.8;0.95;0.01;calm\n"), 0o600))
	out := w.kembrel(t, "import", script, "--project", "copies", "--yes", "--title", "Theirs")
	require.Contains(t, out, "it holds text")
	require.Contains(t, out, "hyperparameter lr  by its name")
	require.Contains(t, w.kembrel(t, "runs", "copies", "--where", "hyper.lr == 0.01", "--output", "csv"), "copies/5")
	w.kembrel(t, "views", "keep", "copies", "quick", "--where", "hyper.lr == 0.01", "--columns", "best")
	viewed := w.kembrel(t, "runs", "copies", "--view", "quick", "--output", "csv")
	require.Equal(t, 2, strings.Count(viewed, "\n"), viewed)
	w.kembrel(t, "views", "drop", "copies", "quick")
	_, errs, code = w.try("runs", "copies", "--view", "quick")
	require.Equal(t, 3, code, errs)
	got := w.curves(t, "copies/5")
	require.Equal(t, api.Floats{0.9, 0.8}, got["loss.train"].Value)
	require.Equal(t, api.Floats{1, 0.95}, got["loss.val"].Value)

	require.NoError(t, os.WriteFile(script, []byte("epoch,loss\n1,0.9\nx,0.8\n"), 0o600))
	_, errs, code = w.try("import", script, "--project", "copies", "--yes")
	require.Equal(t, 1, code)
	require.Contains(t, errs, `line 3, column 1: epoch: "x" is not an epoch`)
	require.NoError(t, os.WriteFile(script, []byte("epoch,loss\n1,0.9\n"), 0o600))
	_, errs, code = w.try("import", script, "--project", "copies")
	require.Equal(t, 2, code)
	require.Contains(t, errs, "nobody to ask")
	_, errs, code = w.try("import", script, "--project", "copies", "--map", "what=step")
	require.Equal(t, 2, code, errs)
	everydayExports(t, w)
	_, errs, code = w.try("export", "vessels/9")
	require.Equal(t, 3, code, errs)
}

// The machine's readings are curves of their own, with GPUs where a command tells of them.
func TestMachineReadings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.env = append(w.env, "KEMBREL_GPU_QUERY="+binary(t, "GPU_BINARY", "gpu"))
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	cmd := w.record(w.harbour, "train", "--hidden", "8", "--clips", "240", "--epochs", "8", "--pace", "300ms")
	_, errs, code := run(cmd)
	require.Zero(t, code, errs)
	w.nothingWaits(t)
	curves := w.curves(t, "vessels/1")
	for _, name := range []string{"host.cpu", "host.memory", "host.program.memory", "host.gpu0.use",
		"host.gpu0.memory"} {
		require.NotEmpty(t, curves[name].Value, name)
	}
	require.InDelta(t, 0.5, curves["host.cpu"].Value[0], 0.51, "a share of 1")
	require.Greater(t, curves["host.program.memory"].Value[0], 1e6)
	r := w.show(t, "vessels/1")
	require.Contains(t, r.Answers.Happened, "of GPU 0")
	require.Contains(t, r.Notes[0].Text, "Another process held a GPU: /usr/lib/harbour/sonar (process 1)")
}

// A run too large for one piece comes in as a recorder's would; cut off by a kill, the same import goes on, and every
// reading is there once.
func TestLargeImportGoesOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "copies")
	const rows = 400_000
	var text strings.Builder
	text.WriteString("step,loss,accuracy\n")
	for i := range rows {
		fmt.Fprintf(&text, "%d,%g,%g\n", i, 1/float64(i+1), float64(i)/rows)
	}
	file := filepath.Join(w.folder, "large.csv")
	require.NoError(t, os.WriteFile(file, []byte(text.String()), 0o600))
	cmd := w.command(w.binary, "import", file, "--project", "copies", "--yes")
	token := strings.TrimSpace(w.kembrel(t, "tokens", "create", "looking"))
	var said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		status, text := w.ask(t, "GET", "/projects/copies/runs/1/curves?pixels=10", "", token)
		return status == http.StatusOK && strings.Contains(text, `"loss"`)
	}, time.Minute, 5*time.Millisecond, &said)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())
	out := w.kembrel(t, "import", file, "--project", "copies", "--yes")
	require.Contains(t, out, "copies/1  large")
	back := filepath.Join(w.folder, "back.csv")
	w.kembrel(t, "export", "copies/1", "--format", "csv-long", "--to", back)
	got, err := os.ReadFile(back)
	require.NoError(t, err)
	require.Equal(t, 2*rows+1, strings.Count(string(got), "\n"))
	require.Contains(t, w.kembrel(t, "show", "copies/1"), "finished")
	require.Contains(t, w.kembrel(t, "import", file, "--project", "copies", "--yes"), "copies/1  large",
		"brought in once")
}

// everydayExports are what people stumbled over: formats by the ending, names that nothing has, what is on the input.
func everydayExports(t *testing.T, w *world) {
	t.Helper()
	w.kembrel(t, "export", "vessels", "--what", "runs", "--to", w.folder+"/runs.json")
	content, err := os.ReadFile(w.folder + "/runs.json")
	require.NoError(t, err)
	var rows []map[string]any
	require.NoError(t, json.Unmarshal(content, &rows))
	require.NotEmpty(t, rows)
	require.Contains(t, rows[0], "best")
	for line, says := range map[string]string{"export vessels/1 --to " + w.folder + "/x.xlsx": "ends in .csv, .json",
		"export vessels/1 --names loss.vla":                "has a curve loss.vla",
		"export vessels/1 --to " + w.folder + "/runs.json": "exists; --overwrite",
		"open vessels/99":                                  "there is no run", "open quays": "there is no project", "import -": "--project"} {
		_, errs, code := w.try(strings.Fields(line)...)
		require.NotZero(t, code, line)
		require.Contains(t, errs, says, line)
	}
	w.kembrel(t, "projects", "create", "old")
	cmd := w.command(w.binary, "import", "-", "--project", "old", "--title", "before the refit", "--yes")
	cmd.Stdin = strings.NewReader("step,epoch,loss.val\n1,1,0.5\n2,2,0.25\n")
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	require.Equal(t, "before the refit", w.show(t, "old/last").Title)
	both := w.kembrel(t, "curves", "vessels/1", "old/last", "--names", "loss.val")
	require.Contains(t, both, "vessels/1")
	require.Contains(t, both, "old/1 0.25")
	require.True(t, strings.HasPrefix(w.kembrel(t, "curves", "vessels/1"), "loss by epoch"), "the objective's is first")
	require.NotContains(t, w.kembrel(t, "curves", "vessels/1", "--by", "step"), "host.")
	w.kembrel(t, "change", "vessels/1", "old/last", "--tag", "kept")
	require.Equal(t, []string{"kept"}, w.show(t, "old/1").Tags)
	require.Contains(t, w.show(t, "vessels/1").Tags, "kept")
	// whoever has signed in there means that service from then on
	w.person(t, "olga")
	for _, url := range []string{"", strings.TrimPrefix(w.url, "http://")} {
		who := w.command(w.binary, "whoami")
		who.Env = append(slices.DeleteFunc(slices.Clone(who.Env),
			func(e string) bool { return strings.HasPrefix(e, "KEMBREL_URL=") }),
			"KEMBREL_CREDENTIALS="+w.folder+"/olga.json")
		if url != "" {
			who.Env = append(who.Env, "KEMBREL_URL="+url)
		}
		out, errs, code = run(who)
		require.Zero(t, code, errs)
		require.Contains(t, out, "olga at "+w.url)
	}
}
