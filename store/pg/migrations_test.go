package pg_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/verdict"
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
