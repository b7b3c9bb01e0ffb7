package pg_test

import (
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kembrel/core/verdict"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// The audit of a project that little happens in reads its own events, however many the others have.
func TestAuditReadsOneProject(t *testing.T) {
	f := start(t)
	run := f.run(t)
	_, _, err := f.AddProject(ctx, "whales", "", verdict.Objective{Curve: "loss.val", Direction: verdict.Lower},
		f.person)
	require.NoError(t, err)
	_, err = f.Pool.Exec(ctx, `insert into event (kind, verb, subject, project, data)
		select 'run', 'finished', 'whales/' || n, (select id from project where key = 'whales'), '{}' from generate_series(1, $1) n`,
		events)
	require.NoError(t, err)
	_, err = f.Pool.Exec(ctx, `insert into event (kind, verb, subject, project, run, data)
		select 'run', 'noted', 'vessels/1', project, id, '{}' from run where id = $1`, run)
	require.NoError(t, err)
	_, err = f.Pool.Exec(ctx, "analyze event")
	require.NoError(t, err)
	began := time.Now()
	rows, err := f.Audit(ctx, store.AuditQuery{Project: "vessels", Limit: 50})
	require.NoError(t, err)
	t.Log(time.Since(began))
	require.Len(t, rows, 1)
	list, err := f.Pool.Query(ctx, "explain "+f.DB.SQL("event_audit"), pgx.QueryExecModeExec, db.A{"project": f.project,
		"who": "", "kind": "",
		"verb": "", "subject": "", "under": "@%", "since": nil, "until": nil, "before": 0, "limit": 50})
	require.NoError(t, err)
	var plan strings.Builder
	for list.Next() {
		var line string
		require.NoError(t, list.Scan(&line))
		plan.WriteString(line + "\n")
	}
	require.NoError(t, list.Err())
	require.Contains(t, plan.String(), "event_project")
	require.NotContains(t, plan.String(), "Seq Scan on event")
}

// events are those of the other project. With 1,000,000 the audit took 390 ms before and takes 2 ms.
const events = 50_000
