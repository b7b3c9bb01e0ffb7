package finding_test

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"math"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/service/slicetest"
	"kembrel/store"
)

var loss = verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}

func TestRunQuery(t *testing.T) {
	q, err := finding.RunQuery(3, loss, api.RunChoice{})
	require.NoError(t, err)
	require.True(t, q.Descending, "the newest first")
	require.Nil(t, q.Where)
	require.EqualValues(t, 3, q.Project)
	for _, c := range []struct {
		choice     api.RunChoice
		descending bool
	}{
		{api.RunChoice{Sort: "best"}, false}, {api.RunChoice{Sort: "best", Order: "descending"}, true},
		{api.RunChoice{Sort: "hyper.lr"}, false}, {api.RunChoice{Order: "ascending"}, false},
	} {
		q, err := finding.RunQuery(3, loss, c.choice)
		require.NoError(t, err)
		require.Equal(t, c.descending, q.Descending, "%+v", c.choice)
	}
	higher := verdict.Objective{Curve: "accuracy.val", Direction: verdict.Higher}
	q, err = finding.RunQuery(3, higher, api.RunChoice{Sort: "best", Where: `state == "lost"`})
	require.NoError(t, err)
	require.True(t, q.Descending, "the best first")
	require.Equal(t, "accuracy.val", q.Sort.Name)
	require.False(t, q.Lower("accuracy.val"))
	require.True(t, q.Lower("loss.train"))

	for field, choice := range map[string]api.RunChoice{"where": {Where: "hyper.lr <"}, "sort": {Sort: "weather"}} {
		_, err := finding.RunQuery(3, loss, choice)
		var p *api.Problem
		require.True(t, errors.As(err, &p), field)
		require.Equal(t, field, p.Field)
		require.Positive(t, p.Column)
	}
}

func TestColumnsOf(t *testing.T) {
	nodes, names, err := finding.ColumnsOf(loss, `best,tags,at("accuracy.val"),hyper.lr`)
	require.NoError(t, err)
	require.Equal(t, []string{"best", "tags", `at("accuracy.val")`, "hyper.lr"}, names)
	require.Equal(t, "loss.val", nodes[0].Name)
	require.Equal(t, filter.List, nodes[1].Kind)
	_, _, err = finding.ColumnsOf(loss, "hyper.lr,weather")
	require.ErrorContains(t, err, "column 2 (weather)")
	_, _, err = finding.ColumnsOf(loss, strings.Repeat("hyper.lr,", 70))
	require.ErrorContains(t, err, "more than 60")
}

func TestLowerIsBetter(t *testing.T) {
	for curve, lower := range map[string]bool{"loss.val": true, "loss.train": true, "word-error.test": true,
		"perplexity": true, "rmse.val": true, "rmsd": false, "accuracy.val": false, "lr": false, "f1.loss": false} {
		require.Equal(t, lower, finding.LowerIsBetter(loss, curve), curve)
	}
	require.False(t, finding.LowerIsBetter(verdict.Objective{Curve: "loss.val", Direction: verdict.Higher}, "loss.val"))
}

// A project or run that is not to be seen reads like one that is not there.
func TestSeenOrNotThere(t *testing.T) {
	h := slicetest.New(2)
	f := h.Finder()
	ctx, _ := slicetest.Ctx(t.Context(), "member")
	p, err := f.Project(ctx, "vessels")
	require.NoError(t, err)
	require.Equal(t, loss, p.Objective)
	texts := map[string]string{}
	for _, key := range []string{"quays", "docks"} {
		_, err := f.Project(ctx, key)
		require.True(t, api.Is(err, api.NotFound), key)
		texts[key] = strings.ReplaceAll(err.Error(), key, "X")
		_, err = f.RunID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: key}, Number: 1})
		require.True(t, api.Is(err, api.NotFound), key)
		require.Equal(t, texts[key], strings.ReplaceAll(err.Error(), key, "X"))
	}
	require.Equal(t, texts["docks"], texts["quays"])
	_, err = f.Project(ctx, "NO KEY")
	require.True(t, api.Is(err, api.Invalid))
	id, err := f.RunID(ctx, api.RunInput{ProjectInput: slicetest.In, Number: 2})
	require.NoError(t, err)
	require.EqualValues(t, 102, id)
	_, err = f.Run(ctx, api.RunInput{ProjectInput: slicetest.In, Number: 9})
	require.ErrorContains(t, err, "there is no run vessels/9")
	_, err = f.Project(act.ByItself(t.Context()), "quays")
	require.NoError(t, err)
}

// An address is remembered, until runs are deleted.
func TestRunsAreRemembered(t *testing.T) {
	h := slicetest.New(1)
	f := h.Finder()
	in := api.RunInput{ProjectInput: slicetest.In, Number: 1}
	ctx := act.ByItself(t.Context())
	_, err := f.RunID(ctx, in)
	require.NoError(t, err)
	delete(h.Runs, 1)
	_, err = f.RunID(ctx, in)
	require.NoError(t, err)
	_, err = f.Run(ctx, in)
	require.ErrorContains(t, err, "there is no run vessels/1", "though its address is remembered")
	f.Forget()
	_, err = f.RunID(ctx, in)
	require.True(t, api.Is(err, api.NotFound))
}

// listing answers for a page of runs.
type listing struct {
	*slicetest.Harbour
	asked store.RunQuery
}

func (l *listing) FindRuns(_ context.Context, q store.RunQuery) (out []store.RunPlace, err error) {
	l.asked = q
	for n := int64(len(l.Runs)); n > 0 && len(out) < q.Limit; n-- {
		if q.After == nil || n < q.After.Number {
			out = append(out, store.RunPlace{Number: n})
		}
	}
	return out, nil
}

func (l *listing) RunValues(_ context.Context, _ store.RunQuery, numbers []int64,
	_ []*filter.Node) (map[int64][]json.RawMessage, error) {
	out := map[int64][]json.RawMessage{}
	for _, n := range numbers {
		out[n] = []json.RawMessage{json.RawMessage(`0.1`)}
	}
	return out, nil
}

func TestListRuns(t *testing.T) {
	l := &listing{Harbour: slicetest.New(5)}
	for n, best := range map[int]float64{1: 0.5, 3: 0.4, 5: math.NaN()} {
		l.Sums[int64(100+n)] = []store.Summary{{Name: "loss.val", Count: 3, LowValue: best, LowEpoch: 2, LowStep: 80,
			LastValue: 0.9, HighValue: 1}}
	}
	p := l.Projects["vessels"]
	p.Baseline = 1
	l.Projects["vessels"] = p
	f := finding.New(l.Finder().Act, l)
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.RunsInput{ProjectInput: slicetest.In}
	in.Limit, in.Columns = 2, "hyper.lr"
	page, err := f.ListRuns(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 3, l.asked.Limit, "one more, to know whether there are more")
	require.Len(t, page.Items, 2)
	require.Nil(t, page.Items[0].Best, "none of its readings is a number")
	require.Equal(t, `0.1`, string(page.Items[0].Values[0]))
	in.Cursor = page.Next
	page, err = f.ListRuns(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, 3, page.Items[0].Number)
	require.InDelta(t, -0.1, float64(*page.Items[0].Against), 1e-9, "less than the baseline's")
	in.Cursor = page.Next
	page, err = f.ListRuns(ctx, who, in)
	require.NoError(t, err)
	require.Len(t, page.Items, 1)
	require.Empty(t, page.Next)
	require.Nil(t, page.Items[0].Against, "it is the baseline")
	in.Cursor = "bm90IGpzb24"
	_, err = f.ListRuns(ctx, who, in)
	require.ErrorContains(t, err, "not a cursor that this service gives out")
	require.True(t, api.Is(err, api.Malformed), "400")
}

// words are those of a project's runs.
type words struct{ *slicetest.Harbour }

func (words) Words(context.Context, int64) ([]store.Word, error) {
	return []store.Word{{Kind: "hyper", Word: "lr"}, {Kind: "curve", Word: "loss.val"}, {Kind: "tags",
		Word: "baseline"},
		{Kind: "host", Word: "quay-3"}}, nil
}

func TestWordsAndCompletion(t *testing.T) {
	h := slicetest.New(0)
	f := finding.New(h.Finder().Act, words{h})
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	got, err := f.GetWords(ctx, who, &slicetest.In)
	require.NoError(t, err)
	require.Len(t, got.Fields, len(filter.Fields))
	require.Equal(t, []string{"lr"}, got.Hyper)
	require.Equal(t, []string{"loss.val"}, got.Curves)
	require.Equal(t, []string{"baseline"}, got.Tags)
	for text, want := range map[string]string{`host == "q`: `host == "quay-3"`, `state == "los`: `state == "lost"`,
		`best("lo`: `best("loss.val")`, "hyper.": "hyper.lr"} {
		found, err := f.CompleteFilter(ctx, who, &api.CompletionInput{ProjectInput: slicetest.In, Text: text})
		require.NoError(t, err)
		require.Equal(t, want, found.Items[0].Text)
	}
}

// A run in what it is and lacks: marks of people, what nobody may see.
func TestToRun(t *testing.T) {
	h := slicetest.New(0)
	f := h.Finder()
	ctx, _ := slicetest.Ctx(t.Context(), "reader")
	ended := time.Date(2026, 11, 2, 3, 4, 5, 0, time.UTC)
	row := store.Run{ID: 101, Number: 1, State: "stopped", Ended: &ended, Hyper: json.RawMessage(`{"lr":0.1}`),
		Verdict: json.RawMessage(`{"kind":"overfitting","said":"x"}`), Epoch: math.NaN(),
		Dispute: json.RawMessage(`{"who":"Ines","reason":"noise","kind":"overfitting"}`),
		Origin:  json.RawMessage(`{"kind":"branch","from":"quays/3@e4"}`)}
	got := f.ToRun(ctx, "vessels", loss, row, store.Summary{})
	require.Equal(t, "vessels/1", got.Address)
	require.Equal(t, loss, got.Objective)
	require.Nil(t, got.Best)
	require.Equal(t, "Ines", got.Verdict.Dispute.Who)
	require.NotContains(t, got.Origin.From, "quays", "a project that is not seen")
	require.Equal(t, `0.1`, string(got.Hyper["lr"]))
}

// slow answers for lists that take as long as they are let.
type slow struct {
	listing
	under, most atomic.Int32
	open        chan struct{}
	err         error
}

func (l *slow) FindRuns(ctx context.Context, q store.RunQuery) ([]store.RunPlace, error) {
	n := l.under.Add(1)
	defer l.under.Add(-1)
	for most := l.most.Load(); n > most && !l.most.CompareAndSwap(most, n); most = l.most.Load() {
	}
	if l.err != nil {
		return nil, l.err
	}
	select {
	case <-l.open:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	return l.listing.FindRuns(ctx, q)
}

// One person's expensive lists wait for each other, not others for them.
func TestListsOfOnePersonTakeTurns(t *testing.T) {
	l := &slow{listing: listing{Harbour: slicetest.New(3)}, open: make(chan struct{})}
	f := finding.New(act.New(l.Harbour, slog.New(slog.DiscardHandler)), l)
	ask := func(ctx context.Context) error {
		in := &api.RunsInput{ProjectInput: slicetest.In, RunChoice: api.RunChoice{Where: "hyper.lr < 1"}}
		in.Limit = 10
		_, err := f.ListRuns(ctx, act.Who{}, in)
		return err
	}
	one, _ := slicetest.Ctx(t.Context(), "reader")
	answers := make(chan error, 10)
	for range 10 {
		go func() { answers <- ask(one) }()
	}
	require.Eventually(t, func() bool { return l.under.Load() == 2 }, 10*time.Second, time.Millisecond)
	ada := act.Who{ID: 8, Name: "Ada"}.With([]store.RoleOn{{Project: "vessels", Role: "reader"}})
	other := act.As(t.Context(), ada, "")
	go func() { answers <- ask(other) }()
	require.Eventually(t, func() bool { return l.under.Load() == 3 }, 10*time.Second, time.Millisecond, "hers begins")
	close(l.open)
	for range 11 {
		require.NoError(t, <-answers)
	}
	require.EqualValues(t, 3, l.most.Load())
}

// What a list is given up over is named.
func TestWhatIsTooCostlyIsNamed(t *testing.T) {
	l := &slow{listing: listing{Harbour: slicetest.New(3)}, err: &pgconn.PgError{Code: "57014"}}
	f := finding.New(act.New(l.Harbour, slog.New(slog.DiscardHandler)), l)
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.RunsInput{ProjectInput: slicetest.In, RunChoice: api.RunChoice{Where: "hyper.lr < 1"}}
	in.Columns = `state,evaluated("hydrophone#3:test").accuracy`
	_, err := f.ListRuns(ctx, who, in)
	require.True(t, api.Is(err, api.TooCostly), err)
	require.ErrorContains(t, err, `What costs most is column 2 (evaluated("hydrophone#3:test").accuracy)`)
	in.Where = "number in [" + strings.Repeat("7,", 1900) + "7]"
	in.Columns = strings.Repeat(`evaluated("hydrophone#3:test").accuracy,`, 60)
	in.Columns = in.Columns[:len(in.Columns)-1]
	_, err = f.ListRuns(ctx, who, in)
	require.ErrorContains(t, err, "ask for too much at once (437 of at most 400); the largest is where (number in [7,")
}
