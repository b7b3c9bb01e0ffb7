package act

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/store"
)

// journal is a storage with a chain of events.
type journal struct {
	Storage
	links  []store.Chained
	told   []store.Told
	beside int64
	asked  store.AuditQuery
}

func (j *journal) Link(before []byte, event string) []byte {
	d := sha256.Sum256(append(append([]byte{}, before...), event...))
	return d[:]
}

func (j *journal) ReadChain(_ context.Context, after int64) ([]store.Chained, error) {
	return j.links[min(int(after), len(j.links)):min(int(after)+2, len(j.links))], nil
}

func (j *journal) BesideChain(context.Context) (int64, error) { return j.beside, nil }

func (j *journal) Audit(_ context.Context, q store.AuditQuery) ([]store.Told, error) {
	j.asked = q
	return j.told[:min(q.Limit, len(j.told))], nil
}

// whole has five events with their digests.
func whole() *journal {
	j := &journal{}
	var before []byte
	for n := range int64(5) {
		text := strings.Repeat("event", int(n)+1)
		before = j.Link(before, text)
		j.links = append(j.links, store.Chained{Seq: n + 1, Event: 10 * (n + 1), Digest: before, Text: text})
		j.told = append(j.told, store.Told{ID: 10 * (n + 1), Kind: "run", Verb: "started", Place: "192.0.2.1"})
	}
	return j
}

func TestTheChainTellsWhatWasDoneToIt(t *testing.T) {
	for name, c := range map[string]struct {
		spoil func(*journal)
		why   string
		at    int64
	}{
		"untouched":       {func(*journal) {}, "", 0},
		"an event edited": {func(j *journal) { j.links[2].Text = "other" }, "changed", 30},
		"a digest edited": {func(j *journal) { j.links[4].Digest = []byte("x") }, "changed", 50},
		"edited with its own digest": {func(j *journal) {
			j.links[1].Text = "other"
			j.links[1].Digest = j.Link(j.links[0].Digest, "other")
		}, "changed", 30},
		"an event taken out": {func(j *journal) { j.links[3].Gone = true }, "gone", 40},
		"its link as well":   {func(j *journal) { j.links = append(j.links[:1], j.links[2:]...) }, "gone", 30},
		"one put beside":     {func(j *journal) { j.beside = 25 }, "beside", 25},
	} {
		j := whole()
		c.spoil(j)
		got, err := New(j, nil).CheckAudit(t.Context(), Who{}, nil)
		require.NoError(t, err)
		require.Equal(t, c.why == "", got.Whole, name)
		require.Equal(t, c.why, got.Why, name)
		require.Equal(t, c.at, got.At, name)
		require.NotEmpty(t, got.Says)
	}
}

func TestPagesOfTheAudit(t *testing.T) {
	j := whole()
	a := New(j, nil)
	since := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	in := &api.ProjectAuditInput{ProjectInput: api.ProjectInput{Project: "vessels"},
		AuditInput: api.AuditInput{Kind: "run", Since: since}}
	in.Limit = 2
	page, err := a.GetProjectAudit(t.Context(), Who{}, in)
	require.NoError(t, err)
	require.Len(t, page.Items, 2)
	require.Equal(t, "20", page.Next, "the last one shown")
	require.Equal(t, "192.0.2.1", page.Items[0].From)
	require.Equal(t, store.AuditQuery{Project: "vessels", Kind: "run", Since: &since, Limit: 3}, j.asked)
	in.Cursor = "20"
	_, err = a.GetProjectAudit(t.Context(), Who{}, in)
	require.NoError(t, err)
	require.Equal(t, int64(20), j.asked.Before)
	for _, odd := range []string{"x", "-3", "1e3", "99999999999999999999"} {
		in.Cursor = odd
		_, err = a.GetProjectAudit(t.Context(), Who{}, in)
		require.True(t, api.Is(err, api.Malformed), odd)
	}
}

// pier is a transaction that knows one run and keeps what is written.
type pier struct {
	Tx
	events []store.Event
}

func (p *pier) RunOf(_ context.Context, run int64) (int64, string, error) {
	if run != 103 {
		return 0, "", store.ErrNone
	}
	return 1, "vessels/3", nil
}

func (p *pier) AddEvent(_ context.Context, e store.Event) error {
	p.events = append(p.events, e)
	return nil
}

func TestEventsOfRuns(t *testing.T) {
	a, p := New(&journal{}, nil), &pier{}
	ctx := As(t.Context(), Who{ID: 7}, "192.0.2.1")
	require.NoError(t, a.RunEvent(ctx, p, store.Event{Run: 103, Kind: "run", Verb: "started"}))
	require.NoError(t, a.RunEvent(ctx, p, store.Event{Run: 103, Kind: "checkpoint", Verb: "pinned", Subject: "@e9"}))
	require.NoError(t, a.RunEvent(ctx, p, store.Event{Run: 103, Kind: "note", Subject: "bad \x00 \xff name"}))
	require.ErrorIs(t, a.RunEvent(ctx, p, store.Event{Run: 4}), store.ErrNone)
	var subjects []string
	for _, e := range p.events {
		require.Equal(t, "192.0.2.1", e.Place)
		require.EqualValues(t, 1, e.Project)
		subjects = append(subjects, e.Subject)
	}
	require.Equal(t, []string{"vessels/3", "vessels/3@e9", "bad \uFFFD \uFFFD name"}, subjects)

	for data, want := range map[string]string{
		``:                             "token created",
		`null`:                         "token created",
		`{"by_rule": true, "left": 3}`: "token created (by rule true, left 3)",
		`{"names": ["a", "b c"]}`:      `token created (names "a", "b c")`,
	} {
		require.Equal(t, want, SayEvent("token-created", json.RawMessage(data)), data)
	}
}

func TestMarksAreInOrder(t *testing.T) {
	marks := []string{"9-1", "9-2", "9-10", "10-1", "10-3", "100-2"}
	for i, a := range marks {
		for j, b := range marks {
			require.Equal(t, i > j, after(a, b), "%s after %s", a, b)
		}
	}
}

func TestClocks(t *testing.T) {
	now := time.Now()
	for _, c := range []struct {
		ahead time.Duration
		says  string
	}{
		{0, ""}, {9 * time.Second, ""}, {-9 * time.Second, ""},
		{time.Hour, "The clock of quay-1 is 1h0m0s ahead of"}, {-90 * time.Second, "The clock of quay-1 is 1m30s behind"},
	} {
		ctx := WithClock(t.Context(), now.Add(c.ahead), now)
		require.Equal(t, c.says == "", Ahead(ctx) == 0)
		require.True(t, strings.HasPrefix(SayClock(ctx, "quay-1"), c.says), SayClock(ctx, "quay-1"))
		if c.says != "" {
			told := now.Add(c.ahead - time.Minute)
			require.WithinDuration(t, now.Add(-time.Minute), ByOurClock(ctx, told), time.Second)
		}
		require.WithinDuration(t, time.Now(), ByOurClock(ctx, time.Time{}), time.Second, "none is now")
		require.False(t, ByOurClock(ctx, now.Add(c.ahead+time.Hour)).After(time.Now()), "none is in the future")
	}
}

func TestRememberedIsBounded(t *testing.T) {
	var r Remembered[int, int]
	_, ok := r.Get(1)
	require.False(t, ok)
	for i := range MostRemembered + 5 {
		r.Put(i, i)
		require.LessOrEqual(t, len(r.entries), MostRemembered)
	}
	got, ok := r.Get(MostRemembered + 4)
	require.True(t, ok)
	require.Equal(t, MostRemembered+4, got)
	r.Forget()
	_, ok = r.Get(MostRemembered + 4)
	require.False(t, ok)
}

func TestWords(t *testing.T) {
	require.Equal(t, "1 run", Many(1, "run", "runs"))
	require.Equal(t, "0 runs", Many(0, "run", "runs"))
	require.Equal(t, "a, b", Few([]string{"a", "b"}, 2))
	require.Equal(t, "a, b and 2 more", Few([]string{"a", "b", "c", "d"}, 2))
	require.Equal(t, map[string]string{"a\uFFFD": "b\uFFFD"}, CleanMap(map[string]string{"a\x00": "b\xff"}))
	require.Equal(t, []string{"a", "b"}, SortedKeys(map[string]int{"b": 1, "a": 2}))
}

// Whoever may not see a project is told neither of it nor of its runs; an error is not taken for a yes.
func TestWhatIsShown(t *testing.T) {
	a := New(places{}, nil)
	reader := As(t.Context(), Who{ID: 3}.With(nil), "")
	require.Equal(t, "vessels/3@e9", a.Shown(reader, "vessels/3@e9"))
	require.Equal(t, Hidden, a.Shown(reader, "quays/3"))
	require.Equal(t, Hidden, a.Shown(reader, "never/3"))
	require.Equal(t, "a file", a.Shown(reader, "a file"), "it names no project")
	require.Equal(t, "quays/3", a.Shown(ByItself(t.Context()), "quays/3"), "what the service does by itself it may")
	require.True(t, api.Is(a.Need(reader, api.Reader, "never"), api.NotFound))
	require.True(t, api.Is(a.Need(reader, api.Recorder, "vessels"), api.Denied))
	require.NoError(t, a.Need(reader, api.Reader, "vessels"))
	broken := New(broken{}, nil)
	require.Equal(t, Hidden, broken.Shown(reader, "vessels/3"))
	require.False(t, broken.mayHear(reader, api.Event{Project: "vessels"}))
	require.False(t, a.mayHear(reader, api.Event{}), "of no project: for administrators")
	require.True(t, a.mayHear(As(t.Context(), Who{ID: 1, Administrator: true}.With(nil), ""), api.Event{}))
}

type broken struct{ Storage }

func (broken) ProjectPlace(context.Context, string) (store.Place, error) {
	return store.Place{}, errors.New("the database is away")
}
