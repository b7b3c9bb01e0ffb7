package stories

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

type evaluations struct{ Items []api.Evaluation }

func (w *world) evaluations(t *testing.T, of string) []api.Evaluation {
	t.Helper()
	var out evaluations
	w.decode(t, &out, "evaluations", of, "-o", "json")
	return out.Items
}

// docs/evaluations.md, as it is written: the figures of a leaking split, of one that was trained on unknowingly, and of
// clips that nobody trained on.
func TestEvaluationsDocument(t *testing.T) {
	t.Parallel()
	w := emptyHome(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	out := ""
	for _, block := range blocks(t, "docs/evaluations.md", "sh") {
		out += w.sh(t, "docs/evaluations.md", block)
	}
	for _, said := range blocks(t, "docs/evaluations.md", "text") {
		require.Contains(t, strings.Join(strings.Fields(out), " "), strings.Join(strings.Fields(said), " "))
	}
	document, err := os.ReadFile("../../docs/evaluations.md")
	require.NoError(t, err)
	found := w.evaluations(t, "vessels/1")
	require.Len(t, found, 3)
	for _, e := range found {
		f := e.Figures[0]
		require.Contains(t, string(document), fmt.Sprintf("| `%s` | %.3f (%.3f to %.3f) |", e.Data, float64(f.Value),
			*f.Low, *f.High))
	}
	require.Len(t, w.evaluations(t, "vessels/1@last"), 3)
	require.Equal(t, []string{"in-training"}, found[1].Sheets[0].Alarms)
	require.Empty(t, w.show(t, "vessels/1").Alarms, "they are alarms of the evaluations")
	require.Contains(t, w.kembrel(t, "show", "vessels/1"),
		"What did evaluations find?  @e6: accuracy 0.7438 (0.656 to 0.817)")
	require.Contains(t, w.kembrel(t, "data", "show", "hydrophone#2"), "accuracy.test: best 0.7438 of 2 looks")

	_, errs, code := w.try("evaluate", "--of", "best of vessels where state == \"finished\"", "--data", "test", "--to",
		"answers.csv", "--cutoff", "0.9", "--", "./harbour", "evaluate")
	require.Zero(t, code, errs)
	answers, err := os.ReadFile(w.folder + "/answers.csv")
	require.NoError(t, err)
	require.Equal(t, 481, strings.Count(string(answers), "\n"))

	for want, args := range map[string][]string{
		"no snapshot hydrophone#9": {"vessels/1@best", "--data", "hydrophone#9:val", "--", "./harbour",
			"evaluate"},
		"has no split spare": {"vessels/1@best", "--data", "hydrophone#1:spare", "--", "./harbour",
			"evaluate"},
		"no address of data":               {"vessels/1@best", "--data", "Hydro phone", "--", "./harbour", "evaluate"},
		"ended with exit code 3":           {"vessels/1@best", "--", "/bin/sh", "-c", "exit 3"},
		"neither a figure nor predictions": {"vessels/1@best", "--", "/bin/true"},
		"cannot start":                     {"vessels/1@best", "--", "./nothing"},
		"2 of 2 evaluations failed":        {"vessels/1@best", "vessels/1@last", "--", "/bin/false"},
		"a checkpoint is wanted":           {"vessels/1", "--", "/bin/true"},
		"say which checkpoints":            {"vessels/1@best"},
		"has no checkpoint":                {"vessels/1@e77", "--", "/bin/true"},
		"writes the answers of one":        {"vessels/1@best", "vessels/1@last", "--to", "a.csv", "--", "/bin/true"},
		"is none":                          {"--of", "the best there are", "--", "/bin/true"},
	} {
		_, errs, code := w.try(append([]string{"evaluate"}, args...)...)
		require.NotZero(t, code, args)
		require.Contains(t, errs, want, args)
	}
	require.Len(t, w.evaluations(t, "vessels/1"), 4, "nothing is kept of what failed")
	w.nothingWaits(t)
}

// What an evaluation finds while the service is away is sent when it is back; one that is killed has found nothing.
func TestEvaluationWhileTheServiceIsAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := run(w.record(w.harbour, "train", "--clips", "960", "--epochs", "2"))
	require.Zero(t, code, errs)
	begun, goOn := filepath.Join(w.folder, "begun"), filepath.Join(w.folder, "go-on")
	program := w.harbour + " evaluate && touch " + begun + " && until [ -e " + goOn + " ]; do sleep 0.1; done"
	evaluate := func() (said *lockedBuffer, wait func() error, end func()) {
		cmd := w.command(w.binary, "evaluate", "vessels/1@last", "--wait", "1s", "--", "/bin/sh", "-c", program)
		said = &lockedBuffer{}
		cmd.Stderr, cmd.Stdout = said, said
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { _, err := os.Stat(begun); return err == nil }, 60*time.Second,
			20*time.Millisecond)
		return said, cmd.Wait, func() { require.NoError(t, kill(cmd.Process.Pid, syscall.SIGKILL)) }
	}
	said, wait, _ := evaluate()
	w.stop(t, syscall.SIGINT)
	require.NoError(t, os.WriteFile(goOn, nil, 0o644))
	require.Error(t, wait())
	require.Contains(t, said.String(), "the next recorder here sends the rest")
	require.Contains(t, said.String(), "what was found is not with the service yet")
	w.start(t)
	require.Empty(t, w.evaluations(t, "vessels/1"))
	w.kembrel(t, "spool", "send")
	found := w.evaluations(t, "vessels/1")
	require.Len(t, found, 1)
	require.Equal(t, "accuracy", found[0].Figures[0].Name)
	require.EqualValues(t, 960, found[0].Sheets[0].Examples)
	w.nothingWaits(t)

	require.NoError(t, os.Remove(begun))
	require.NoError(t, os.Remove(goOn))
	_, wait, end := evaluate()
	end()
	require.NoError(t, os.WriteFile(goOn, nil, 0o644)) // the program holds what it prints into
	require.Error(t, wait())
	require.Eventually(t, func() bool {
		out, errs, _ := w.try("spool", "send")
		return strings.Contains(out+errs, "was cut off before it found anything")
	}, 30*time.Second, 200*time.Millisecond)
	require.Len(t, w.evaluations(t, "vessels/1"), 1)
	w.nothingWaits(t)
}

// A Python program asks what to evaluate, reads the parts, and says what it found, odd things among it; without kembrel
// evaluate around it, nothing fails.
func TestEvaluationInPython(t *testing.T) {
	t.Parallel()
	w, _ := pythonWorld(t)
	train := w.script(t, "train.py", `
import kembrel
with kembrel.record("vessels") as run:
    run.readings(1, 1, {"loss.val": 0.5, "accuracy.val": 0.75})
    run.checkpoint(1, 1, weights={"w": [0.5, 2.0]})
`)
	judge := w.script(t, "judge.py", `
import kembrel
with kembrel.evaluation() as found:
    print(found.checkpoint, found.step, found.epoch, found.data, found.split, found.part("weights"))
    print(found.part("optimiser", default="none"), found.into(weights={"w": [0.0, 0.0]}))
    found.figures({"loss": 0.25, "accuracy.val": 0.75, "odd": object(), "a/b": 1})
    found.figures({"loss": 0.125})
    found.predictions(["a", "b", "c"], scores=[[0.75, 0.25], [0.5, 0.5], [0, 1]], classes=["tug", "ferry"])
    found.predictions(["a", "a"], true=["tug", "ferry"], predicted=["tug", "tug"], classes=["tug", "ferry"])
    found.predictions(["a"], split="elsewhere", true=[1.0], predicted=[2.0])
    open("report.txt", "w").write("as it should be")
    open("second.csv", "w").write("a,b\n")
    found.file("report.txt")
    found.note("as it should be")
    found._run.checkpoint(1, weights={"w": 1})
print(found.folder)
`)
	_, errs, code := run(w.record(train...))
	require.Zero(t, code, errs)
	out, errs, code := w.try(append([]string{"evaluate", "vessels/1@last", "--data", "val", "--keep", "*.csv", "--"},
		judge...)...)
	require.Zero(t, code, out+errs)
	require.Equal(t, 1, w.written(t, "vessels/1")["second.csv"].Of)
	require.Contains(t, errs, "vessels/1@e1 1 1.0 val val {'w': [0.5, 2.0]}")
	require.Contains(t, errs, "none {'weights': {'w': [0.5, 2.0]}}")
	found := w.evaluations(t, "vessels/1")
	require.Len(t, found, 1)
	figures := map[string]api.Float{}
	for _, f := range found[0].Figures {
		figures[f.Name] = f.Value
	}
	require.Equal(t, map[string]api.Float{"loss": 0.125, "accuracy": 0.75, "a.b": 1}, figures, "the last counts")
	require.Len(t, found[0].Sheets, 1, "one without labels; the others cost themselves")
	require.Equal(t, 1, w.written(t, "vessels/1")["report.txt"].Of)
	require.Contains(t, w.kembrel(t, "files", "vessels/1", "--own"), "no file that was kept")
	require.Equal(t, "as it should be\n", w.kembrel(t, "files", "show", "vessels/1", "report.txt", "--evaluation", "1"))
	notes := strings.Join(found[0].Notes, "\n")
	for _, want := range []string{"as it should be", "have no key of their own",
		"the answers are on elsewhere, and val is evaluated",
		"an evaluation saves no checkpoints", "odd"} {
		require.Contains(t, notes, want)
	}
	w.nothingWaits(t)

	out, errs, code = w.try(append([]string{"verify", "vessels/1@last", "--"}, judge...)...)
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "accuracy.val 0.75 = 0.75")
	cmd := w.command(judge[0], judge[1:]...)
	out, errs, code = run(cmd)
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "None")
	require.Contains(t, errs, "is not run by kembrel evaluate")
	require.Len(t, w.runs(t), 1, "it is no run either")
}

// Predictions that the service does not take at the moment, though it took the evaluation, stay in the spool until it
// does.
func TestEvaluationWhoseSheetIsSetAside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	_, errs, code := run(w.record(w.harbour, "train", "--clips", "960", "--epochs", "1"))
	require.Zero(t, code, errs)
	proxy := w.refusing(t)
	proxy.set(func(r *http.Request, _ string) *api.Problem {
		if strings.HasSuffix(r.URL.Path, "/sheets") && r.Method == http.MethodPost {
			return api.Fail(api.Denied, "not today")
		}
		return nil
	})
	there := w.through(t, proxy.URL)
	_, errs, code = there.try("evaluate", "vessels/1@last", "--", w.harbour, "evaluate")
	require.NotZero(t, code, errs)
	require.Contains(t, errs, "not today")
	require.Empty(t, w.evaluations(t, "vessels/1")[0].Sheets)
	require.Contains(t, w.kembrel(t, "spool"), "not today")
	proxy.set(func(*http.Request, string) *api.Problem { return nil })
	there.kembrel(t, "spool", "send")
	found := w.evaluations(t, "vessels/1")
	require.Len(t, found, 1, "it is the same evaluation")
	require.EqualValues(t, 960, found[0].Sheets[0].Examples)
	w.nothingWaits(t)
}
