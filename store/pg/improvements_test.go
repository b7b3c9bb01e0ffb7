package pg_test

import (
	"cmp"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/verdict"
	"kembrel/store"
)

// The improvements are those that a look at one run after the other finds, in the order in which their bests were
// reached; runs that are archived or about to be deleted, or have no reading, are left out.
func TestImprovementsOneByOne(t *testing.T) {
	f := start(t)
	r := rand.New(rand.NewPCG(4, 3))
	var reached []store.Improvement
	for number := 1; number <= 120; number++ {
		id := f.run(t)
		best, time := float64(r.IntN(60)), int64(1_700_000_000_000+r.IntN(90))
		_, err := f.Pool.Exec(ctx, "insert into curve (run, id, name) values ($1, 1, 'loss.val')", id)
		require.NoError(t, err)
		_, err = f.Pool.Exec(ctx, `insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch,
			last_time, last_value,
			low_step, low_epoch, low_time, low_value, high_step, high_epoch, high_time, high_value, sketch_every,
			sketch) values ($1, 1, 1, 0, 0, 1, 1, 1, 1, 1, 1, $2, $3, 1, 1, $2, $3, 1, '')`, id, time, best)
		require.NoError(t, err)
		change := [...]string{"best = $2", "best = $2", "best = $2", "best = $2", "best = $2", "best = null * $2::float8",
			"best = $2, archived = now()", "best = $2, doomed = now()"}[r.IntN(8)]
		_, err = f.Pool.Exec(ctx, "update run set "+change+" where id = $1", id, best)
		require.NoError(t, err)
		if change == "best = $2" {
			reached = append(reached, store.Improvement{Number: number, Best: best, Time: time})
		}
	}
	slices.SortStableFunc(reached, func(a, b store.Improvement) int { return cmp.Compare(a.Time, b.Time) })
	for _, direction := range []verdict.Direction{verdict.Lower, verdict.Higher} {
		o := verdict.Objective{Curve: "loss.val", Direction: direction}
		var want []store.Improvement
		for i, m := range reached {
			better := func(than float64) bool { return m.Best > than }
			if direction == verdict.Lower {
				better = func(than float64) bool { return m.Best < than }
			}
			if len(want) == 0 || better(want[len(want)-1].Best) {
				m.Nth, m.Runs = int64(i+1), int64(len(reached))
				want = append(want, m)
			}
		}
		require.GreaterOrEqual(t, len(want), 3)
		for i := range want {
			want[i].Count = int64(len(want))
		}
		slices.Reverse(want)
		got, err := f.Improvements(ctx, f.project, o, 500)
		require.NoError(t, err)
		require.Equal(t, want, got)
		got, err = f.Improvements(ctx, f.project, o, 2)
		require.NoError(t, err)
		require.Equal(t, want[:2], got, "the newest")
	}
	id := f.run(t) // a row of its curve is still to be written
	_, err := f.Pool.Exec(ctx, "update run set best = -1 where id = $1", id)
	require.NoError(t, err)
	got, err := f.Improvements(ctx, f.project, verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}, 1)
	require.NoError(t, err)
	require.EqualValues(t, -1, got[0].Best)
	require.Equal(t, got[0].Runs, got[0].Nth)
}
