package pg_test

import (
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/store"
)

// The counts of a project are those of its runs, whatever becomes of them, while several change at once and the tally
// is brought together.
func TestTallyCountsRuns(t *testing.T) {
	f := start(t)
	var runs []int64
	for range 40 {
		runs = append(runs, f.run(t))
	}
	changes := []string{
		"update run set state = 'running', ended = null where id = $1",
		"update run set state = 'finished' where id = $1", "update run set state = 'lost' where id = $1",
		"update run set state = state where id = $1", "update run set archived = now() where id = $1",
		"update run set archived = null where id = $1",
		"update run set doomed = now() where id = $1", "update run set doomed = null where id = $1",
		"delete from run where id = $1",
	}
	var wait sync.WaitGroup
	for w := range uint64(4) {
		wait.Go(func() {
			r := rand.New(rand.NewPCG(7, w))
			for range 200 {
				change := changes[r.IntN(len(changes)-1)]
				if r.IntN(100) == 0 {
					change = changes[len(changes)-1]
				}
				if _, err := f.Pool.Exec(ctx, change, runs[r.IntN(len(runs))]); err != nil {
					t.Error(err)
				}
				if r.IntN(20) == 0 {
					if err := f.GatherTally(ctx); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	wait.Wait()
	require.NoError(t, f.GatherTally(ctx))
	var want [3]int64
	require.NoError(t, f.Pool.QueryRow(ctx, `select count(*), count(*) filter (where state = 'running'), count(*) filter (where state = 'lost')
		from run where project = $1 and archived is null and doomed is null`, f.project).Scan(&want[0], &want[1], &want[2]))
	projects, err := f.ListProjects(ctx, store.Seen{All: true}, "vessels", "", "", 1)
	require.NoError(t, err)
	require.EqualValues(t, want, [3]int64{int64(projects[0].Runs), int64(projects[0].Running), int64(projects[0].Lost)})
	var rows int
	require.NoError(t, f.Pool.QueryRow(ctx, "select count(*) from run_tally").Scan(&rows))
	require.LessOrEqual(t, rows, 21)
	require.NotZero(t, want[0])
}
