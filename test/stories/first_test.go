package stories

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// A newcomer's first run: recorded, looked at, its best checkpoint restored byte for byte and giving the recorded
// figure.
func TestFirstRun(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	require.NotContains(t, w.said.String(), "debug", "the start is not about what the service is made of")
	w.kembrel(t, "projects", "create", "vessels", "--title", "Vessel classes")
	keep := w.folder + "/copies"
	out, errs, code := run(w.command(w.binary, "record", "--project", "vessels", "--title", "Small net", "--hyper",
		"note=first try", "--",
		w.harbour, "train", "--hidden", "24", "--clips", "480", "--epochs", "8", "--keep", keep))
	require.Zero(t, code, errs)
	require.Equal(t, 8, strings.Count(out, "epoch "), "the program's output passes through")
	var r api.RunDetail
	var readings int64
	require.Eventually(t, func() bool {
		r = w.show(t, "vessels/1")
		readings = 0
		for _, c := range r.Curves {
			readings += c.Count
		}
		// there, where it takes long
		r.Curves = slices.DeleteFunc(r.Curves, func(c api.CurveInfo) bool { return strings.HasPrefix(c.Name, "host.") })
		return r.Best != nil && len(r.Curves) == 6 && r.Curves[4].Count == 8
	}, 60*time.Second, 50*time.Millisecond, "summaries follow the readings within a moment")
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
	require.Len(t, copies, 6)
	for _, c := range copies {
		want, err := os.ReadFile(c)
		require.NoError(t, err)
		got, err := os.ReadFile(filepath.Join(into, filepath.Base(c)))
		require.NoError(t, err)
		require.True(t, bytes.Equal(want, got), c)
	}
	figures, _, code := run(w.command(w.harbour, "evaluate", "--folder", into))
	require.Zero(t, code)
	require.Contains(t, figures, fmt.Sprintf("loss.val %v\n", float64(r.Best.Value)),
		"the restored model gives the recorded figure")

	_, errs, code = w.try("restore", "vessels/1@best", "--into", into)
	require.Equal(t, 6, code)
	require.Contains(t, errs, "nothing was written")
	w.kembrel(t, "restore", "vessels/1@last", "--into", w.folder+"/part", "--parts", "weights")
	parts, err := os.ReadDir(w.folder + "/part")
	require.NoError(t, err)
	require.Len(t, parts, 1)

	for _, kind := range []string{"svg", "png"} {
		file := w.folder + "/curves." + kind
		w.kembrel(t, "curves", "vessels/1", "--to", file)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Equal(t, map[string]string{"svg": "<?xml", "png": "\x89PNG\r"}[kind], string(content[:5]))
	}
	require.Contains(t, w.kembrel(t, "curves", "vessels/1"), "loss by epoch")
	require.Equal(t, 9, strings.Count(w.kembrel(t, "curves", "vessels/1", "--names", "loss.val", "-o", "csv"), "\n"))
	for _, list := range [][]string{{"projects"}, {"runs", "vessels"}, {"show", "vessels/1"},
		{"checkpoints", "vessels/1"}, {"tokens"}, {"config"}, {"spool"}} {
		require.NotEmpty(t, w.kembrel(t, list...))
		require.True(t, json.Valid([]byte(w.kembrel(t, append(list, "--output", "json")...))), list)
		require.Contains(t, w.kembrel(t, append(list, "--output", "csv")...), ",", list)
	}
	response, err := http.Get(w.metrics)
	require.NoError(t, err)
	defer response.Body.Close()
	measured, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	require.GreaterOrEqual(t, readings, int64(52),
		"8 epochs of 5 curves, and the gradient of one step in ten; a slow run has readings of its machine too")
	require.Contains(t, string(measured), fmt.Sprintf("kembrel_readings_total %d\n", readings))
	require.Contains(t, w.kembrel(t, "__complete", "show", "vessels/"), "vessels/1\t")
	require.Contains(t, w.kembrel(t, "__complete", "restore", "vessels/1@"), "vessels/1@best")
	require.Contains(t, w.kembrel(t, "__complete", "restore", "vessels/1@best", "--parts", "weights,opt"),
		"weights,optimiser")
	require.Contains(t, w.kembrel(t, "__complete", "curves", "vessels/1", "--names", "loss.train,loss."),
		"loss.train,loss.val")
	require.Contains(t, w.kembrel(t, "__complete", "tokens", "revoke", ""), "\t", "ids with their names")
	w.nothingWaits(t)
}

func TestUsageAndExitCodes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
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
		"projects create Vessels!":                      {2, "project key"},
		"projects create vessels":                       {6, "already"},
		"frobnicate":                                    {2, "unknown command"},
		"show --nonsense vessels/1":                     {2, "unknown flag"},
		"tokens revoke 99":                              {3, "no token 99"},
		"record --project vessels":                      {2, "say what to run"},
		"record --project vessels --hyper lr -- true":   {2, "name=value"},
		"record --project vessels -- no-such-program-x": {1, "cannot start"},
		"spool send nonsense":                           {3, "no spool"},
		"start":                                         {1, "is taken by another program"},
		"start --listen 127.0.0.1:0":                    {1, "another kembrel uses the data folder"},
		"serve":                                         {1, "--database"},
		"show vessels/1 --url http://127.0.0.1:1":       {5, "does not answer"},
	} {
		_, errs, code := w.try(strings.Fields(line)...)
		require.Equal(t, want.code, code, "%s: %s", line, errs)
		require.Contains(t, errs, want.says, line)
		require.LessOrEqual(t, strings.Count(errs, "\n"), 2, "%s: one clear sentence: %s", line, errs)
	}
	token := strings.TrimSpace(w.kembrel(t, "tokens", "create", "nightly"))
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

// Curves that are nothing but NaN, or reach the ends of what a number can be, are drawn as far as they can be.
func TestDrawingOddCurves(t *testing.T) {
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := run(w.speak(
		`{"kind":"readings","id":1,"step":[1,2,3],"values":{"never":["NaN","NaN","Infinity"],"huge":[-1.7e308,0,1.7e308],"tiny":[5e-324,5e-324,5e-324],"once":[null,1,null]}}`,
		`{"kind":"readings","id":2,"step":3,"epoch":1,"values":{"late":1}}`))
	require.Zero(t, code, errs)
	require.Contains(t, w.kembrel(t, "curves", "vessels/1", "--by", "step"), "no reading is a number")
	_, errs, code = w.try("curves", "vessels/1")
	require.Zero(t, code, errs)
	require.Contains(t, errs, "without epochs, so not drawn: huge, never, once, tiny; --by step draws them")
	for _, by := range []string{"epoch", "step", "time"} {
		w.kembrel(t, "curves", "vessels/1", "--by", by, "--smooth", "1", "--overwrite", "--to", w.folder+"/odd.svg",
			"--to",
			w.folder+"/odd.png")
	}
	require.Contains(t, w.kembrel(t, "curves", "vessels/1", "--names", "never", "-o", "csv"), "Infinity")
}
