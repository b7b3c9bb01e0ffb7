package stories

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// handsItems hands over its items in five runs, with a clip in two splits: as they are, the same again, with one
// relabelled, with one that cannot be, and with some twice.
const handsItems = `
import kembrel, sys
def clips(voyages, extra=()):
    for v in voyages:
        for c in range(5):
            yield f"voyage{v:03d}/clip-{c}.npy"
    yield from extra
def groups(keys):
    return (k[:9] for k in keys)
names = ["tug", "ferry", "trawler"]
def labels(keys, odd=None):
    return (1 if k == odd else int(k[6:9]) % 3 for k in keys)
train, val = list(clips(range(40))), list(clips(range(40, 50), ["voyage003/clip-1.npy"]))
for title, odd, more in (("leaks", None, []), ("again", None, []), ("relabelled", train[0], []),
        ("bad", None, ["voyage099\x07"]), ("twice", None, train[:3])):
    with kembrel.record("vessels", title=title) as run:
        for use, keys in (("train", train + more), ("val", val)):
            run.data(use, keys=iter(keys), groups=groups(keys), labels=labels(keys, odd), classes=names,
                dataset="hydrophone")
            assert (run.problem is not None) == (title == "bad"), run.problem
        run.data("bench", keys=["a", "b"], labels=["tug"])
        assert "fewer labels than keys" in run.problem, run.problem
        run.readings(1, 1, {"loss.val": 0.5})
`

// A program hands over the items of its splits as it reads them: they become one snapshot, which finds what the splits
// have in common; the same items are the same snapshot, and bad ones cost themselves and are seen on the run.
func TestItemsOfAProgram(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.start(t)
	w.kembrel(t, "projects", "create", "vessels")
	bindings, err := filepath.Abs("../../bindings/python")
	require.NoError(t, err)
	w.env = append(w.env, "PYTHONPATH="+bindings)
	require.NoError(t, os.WriteFile(w.folder+"/items.py", []byte(handsItems), 0o644))
	w.stop(t, syscall.SIGKILL) // they wait in the spool meanwhile
	cmd := w.command("/usr/bin/python3", "items.py")
	out, errs, code := run(cmd)
	require.Zero(t, code, out+errs)
	w.start(t)
	w.kembrel(t, "spool", "send")
	w.nothingWaits(t)

	used := map[string]map[string]string{} // by title and use
	notes := map[string][]string{}
	for _, r := range w.runs(t) {
		detail := w.show(t, r.Address)
		used[r.Title] = map[string]string{}
		for _, u := range detail.Data {
			used[r.Title][u.Use] = u.Data
		}
		for _, n := range detail.Notes {
			notes[r.Title] = append(notes[r.Title], n.Text)
		}
	}
	require.Len(t, used, 5)
	leaks := used["leaks"]["train"]
	require.Regexp(t, `^hydrophone#[123]:train$`, leaks)
	snapshot := leaks[:len("hydrophone#1")]
	require.Equal(t, map[string]string{"train": snapshot + ":train", "val": snapshot + ":val"}, used["leaks"])
	require.Equal(t, used["leaks"], used["again"], "the same items are the same snapshot")
	require.NotEqual(t, used["leaks"], used["relabelled"])
	require.Equal(t, used["leaks"], used["bad"], "the bad item alone is left out")
	require.Contains(t, strings.Join(notes["bad"], " "), "characters that cannot be shown")
	require.Equal(t, used["leaks"], used["twice"])
	require.Contains(t, notes["twice"],
		"Of the items handed over for "+snapshot+", 3 came more than once for one use; "+
			"there they count once.")

	require.Eventually(t, func() bool {
		var s api.Snapshot
		w.decode(t, &s, "data", "show", snapshot, "--output", "json")
		return s.State == "looked-at"
	}, 60*time.Second, 100*time.Millisecond)
	says := w.kembrel(t, "data", "show", snapshot)
	require.Contains(t, says, "No. val: 1 of its 51 items (2.0 %) are not new")
	require.Contains(t, says, "1 item was handed over for both train and val")
	require.Contains(t, strings.Join(strings.Fields(says), " "), "1 group is in both train and val")
	require.Contains(t, says, "As far as can be told")
	items := w.kembrel(t, "data", "items", snapshot, "--where", `"same-item" in found`)
	require.Contains(t, items, "voyage003/clip-1.npy (val)")
	require.Contains(t, items, "tug", "its label is the name of its class")
	require.Contains(t, w.kembrel(t, "show", w.runs(t)[0].Address), "cannot be trusted")
}
