package pg_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/verdict"
	"kembrel/store"
)

// Objectives and stop rules of before, which were texts, come over whole, and go back as they were.
func TestObjectivesComeOver(t *testing.T) {
	f := start(t)
	run, other := f.run(t), f.run(t)
	text, err := os.ReadFile("db/migrations/0019_objectives.sql")
	require.NoError(t, err)
	up, down, found := strings.Cut(string(text), "-- +goose Down")
	require.True(t, found)
	do := func(sql string, args ...any) {
		t.Helper()
		_, err := f.Pool.Exec(ctx, sql, args...)
		require.NoError(t, err)
	}
	do(down)
	var was string
	require.NoError(t, f.Pool.QueryRow(ctx, "select objective from project where key = 'vessels'").Scan(&was))
	require.Equal(t, "loss.val lower", was)
	do(`update project set objective = 'accuracy.val higher', stop_rule = '{"objective":"f1.val higher","patience":5}'`)
	do(`update run set stop_rule = '{"objective":"","patience":3}' where id = $1`, run)
	do(`update run set stop_rule = '{}' where id = $1`, other)
	do(up)
	p, err := f.ProjectByKey(ctx, "vessels")
	require.NoError(t, err)
	require.Equal(t, verdict.Objective{Curve: "accuracy.val", Direction: verdict.Higher}, p.Objective)
	rule := func(sql string, args ...any) (out string) {
		t.Helper()
		require.NoError(t, f.Pool.QueryRow(ctx, sql, args...).Scan(&out))
		return out
	}
	require.JSONEq(t, `{"objective":{"curve":"f1.val","direction":"higher"},"patience":5}`,
		rule("select stop_rule::text from project"))
	require.JSONEq(t, `{"patience":3}`, rule("select stop_rule::text from run where id = $1", run))
	require.JSONEq(t, `{}`, rule("select stop_rule::text from run where id = $1", other))
	do(down)
	require.JSONEq(t, `{"objective":"f1.val higher","patience":5}`, rule("select stop_rule::text from project"))
	require.Equal(t, "accuracy.val higher", rule("select objective from project"))
	do(up)
	_, err = f.Pool.Exec(ctx, `update project set objective = '{"curve":"loss.val","direction":"down"}'`)
	require.ErrorContains(t, err, "project_objective_check")
}

// Verifications, which were a table of their own, are evaluations afterwards, and go back as they were.
func TestVerificationsComeOver(t *testing.T) {
	f := start(t)
	run := f.run(t)
	do := func(sql string, args ...any) {
		t.Helper()
		_, err := f.Pool.Exec(ctx, sql, args...)
		require.NoError(t, err)
	}
	halves := func(name string) (up, down string) {
		t.Helper()
		text, err := os.ReadFile("db/migrations/" + name)
		require.NoError(t, err)
		up, down, found := strings.Cut(string(text), "-- +goose Down")
		require.True(t, found)
		return up, down
	}
	upFiles, downFiles := halves("0023_run_files.sql")
	up, down := halves("0022_evaluations.sql")
	do(downFiles)
	do(down)
	var point int64
	require.NoError(t, f.Pool.QueryRow(ctx, `insert into checkpoint (run, key, leg, step, epoch, saved, size)
		values ($1, gen_random_uuid(), 1, 12, 3, now(), 1) returning id`, run).Scan(&point))
	for _, result := range []string{
		`{"same": false, "figures": [{"curve": "loss.val", "recorded": 0.5, "found": "NaN", "tolerance": 0, "same": false}]}`,
		`{"same": true, "command": ["./harbour", "evaluate"], "figures": [{"curve": "loss.val", "recorded": 0.5, "found": 0.5, "tolerance": 0, "same": true}]}`} {
		do("insert into verification (run, checkpoint, person, host, result) values ($1, $2, $3, 'hydra-2', $4)", run,
			point,
			f.person, result)
	}
	do(up)
	do(upFiles)
	list, err := f.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Verified: true, Limit: 9})
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, []any{2, int64(12), "hydra-2"}, []any{list[0].Number, list[0].Step, list[0].Host},
		"the latest first")
	require.JSONEq(t, `{"loss.val": 0.5}`, string(list[0].Figures))
	require.JSONEq(t, `["./harbour", "evaluate"]`, string(list[0].Command))
	require.JSONEq(t, `{"loss.val": "NaN"}`, string(list[1].Figures))
	require.JSONEq(t, `[]`, string(list[1].Command))
	do(downFiles)
	do(down)
	var same, command string
	require.NoError(t, f.Pool.QueryRow(ctx, `select result ->> 'same', result ->> 'command' from verification
		order by id desc limit 1`).Scan(&same, &command))
	require.Equal(t, []string{"true", `["./harbour", "evaluate"]`}, []string{same, command})
	do(up)
	do(upFiles)
}
