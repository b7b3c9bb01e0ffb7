package pg_test

import (
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/store"
)

// The improvements are those that a look at one run after the other finds, over several blocks of runs; runs that are
// archived or about to be deleted, or have no reading, are left out.
func TestImprovementsOneByOne(t *testing.T) {
	f := start(t)
	runs := 9000
	_, err := f.Pool.Exec(ctx, `insert into run (project, number, key, title, state, creator, host, started)
		select $1, n, gen_random_uuid(), '', 'finished', $2, '', timestamptz '2026-11-01' + n * interval '1 minute'
		from generate_series(1, $3::int) n where n < 5900 or n > 8050`, f.project, f.person, runs) // a block without runs
	require.NoError(t, err)
	_, err = f.Pool.Exec(ctx, "update project set runs = $2 where id = $1", f.project, runs)
	require.NoError(t, err)
	check := func(seed uint64, best func(r *rand.Rand, number int) float64) {
		_, err := f.Pool.Exec(ctx, "update run set best = null, archived = null, doomed = null where project = $1", f.project)
		require.NoError(t, err)
		r := rand.New(rand.NewPCG(4, seed))
		var numbers []int
		var bests []float64
		out := map[string][]int{}
		reached := map[int]float64{}
		for number := 1; number <= runs; number++ {
			if number >= 5900 && number <= 8050 || r.IntN(8) == 0 {
				continue
			}
			numbers, bests = append(numbers, number), append(bests, best(r, number))
			if how := [...]string{"archived", "doomed", "", "", "", "", "", ""}[r.IntN(8)]; how != "" {
				out[how] = append(out[how], number)
			} else {
				reached[number] = bests[len(bests)-1]
			}
		}
		_, err = f.Pool.Exec(ctx, `update run r set best = x.best from unnest($2::int[], $3::float8[]) x(number, best)
			where r.project = $1 and r.number = x.number`, f.project, numbers, bests)
		require.NoError(t, err)
		for how, numbers := range out {
			_, err = f.Pool.Exec(ctx, "update run set "+how+" = now() where project = $1 and number = any($2)",
				f.project, numbers)
			require.NoError(t, err)
		}
		for _, lower := range []bool{true, false} {
			var want []store.Improvement
			for _, number := range numbers {
				b, counts := reached[number]
				if counts && (len(want) == 0 || lower && b < want[len(want)-1].Best ||
					!lower && b > want[len(want)-1].Best) {
					want = append(want, store.Improvement{Number: number, Best: b})
				}
			}
			slices.Reverse(want)
			for _, limit := range []int{5000, 3} {
				got, err := f.Improvements(ctx, f.project, lower, limit)
				require.NoError(t, err)
				for i := range got {
					began := time.Date(2026, 11, 1, 0, got[i].Number, 0, 0, time.UTC)
					require.True(t, began.Equal(got[i].Started), got[i].Started)
					got[i].Started = time.Time{}
				}
				require.Equal(t, want[:min(limit, len(want))], got, "seed %d, lower %v", seed, lower)
			}
			since := 0
			for number := range reached {
				if number > want[0].Number {
					since++
				}
			}
			got, err := f.RunsSince(ctx, f.project, want[0].Number, 5000)
			require.NoError(t, err)
			require.EqualValues(t, since, got)
			got, err = f.RunsSince(ctx, f.project, want[0].Number, 7)
			require.NoError(t, err)
			require.EqualValues(t, min(since, 7), got)
		}
	}
	check(1, func(r *rand.Rand, _ int) float64 { return r.NormFloat64() })
	check(2, func(r *rand.Rand, _ int) float64 { return float64(r.IntN(20)) }) // many that are equal
	check(3, func(r *rand.Rand, number int) float64 { return float64(-number) + 30*r.NormFloat64() })
	check(4, func(r *rand.Rand, number int) float64 { return float64(number) })

	_, err = f.Pool.Exec(ctx, "update run set best = null where project = $1", f.project)
	require.NoError(t, err)
	got, err := f.Improvements(ctx, f.project, true, 10)
	require.NoError(t, err)
	require.Empty(t, got)
}
