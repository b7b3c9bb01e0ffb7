package entering

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

type storage = Storage

// quay is a model with an edition in use, the rules and the runs of its project.
type quay struct {
	storage
	rules  []store.Entering
	runs   map[int64][]store.EnteringRun
	looked map[int64]string // trouble, by rule
	roles  string           // of whoever made a rule, on vessels
	closed *time.Time

	model   api.Model
	ended   []api.Run
	figures map[string]float64
	asked   []int
	taken   int // asking withdrawn
	refuses error
}

var (
	loss = verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}
	noon = time.Date(2026, 11, 21, 12, 0, 0, 0, time.UTC)
)

func (q *quay) ListEnterings(context.Context, string) ([]store.Entering, error) { return q.rules, nil }

func (q *quay) ListEnteringRuns(_ context.Context, rules []int64, _ []int, _ int) ([]store.EnteringRun, error) {
	return q.runs[rules[0]], nil
}

func (q *quay) Looked(_ context.Context, id, event int64, heard *time.Time, trouble string) error {
	q.looked[id] = trouble
	for i := range q.rules {
		if r := &q.rules[i]; r.ID == id {
			r.Event, r.Latest = event, 0
			if heard != nil {
				r.Heard = heard
			}
		}
	}
	return nil
}

func (q *quay) PersonByID(_ context.Context, id int64) (store.Person, error) {
	return store.Person{ID: id, Name: "Teo", Kind: "person", Closed: q.closed}, nil
}

func (q *quay) PersonRoles(context.Context, int64) ([]store.RoleOn, error) {
	return []store.RoleOn{{Project: "vessels", Role: q.roles}}, nil
}

func (q *quay) PutEnteringRun(_ context.Context, r store.EnteringRun) error {
	q.runs[r.Entering] = append(slices.DeleteFunc(q.runs[r.Entering],
		func(o store.EnteringRun) bool { return o.Run == r.Run }), r)
	return nil
}

func (q *quay) ListRuns(_ context.Context, _ act.Who, in *api.RunsInput) (*api.Page[api.Run], error) {
	if strings.Contains(in.Where, "(odd)") {
		return nil, api.Fail(api.Invalid, "there is no odd")
	}
	return &api.Page[api.Run]{Items: slices.Clone(q.ended)}, nil
}

func (q *quay) Project(_ context.Context, key string) (store.Project, error) {
	return store.Project{ID: 1, Key: key, Open: true, Objective: loss}, nil
}

func (q *quay) FindHeld(_ context.Context, in api.CheckpointInput) (*api.Checkpoint, []store.File, int64, error) {
	v, there := q.figures[act.RunAddress(in.Project, in.Number)]
	if !there {
		return nil, nil, 0, api.Fail(api.NotFound, "it has no checkpoint")
	}
	return &api.Checkpoint{Step: 40, Leg: 1, Figures: map[string]api.Float{"loss.val": api.Float(v)}}, nil, 1, nil
}

func (q *quay) GetModel(context.Context, act.Who, *api.ModelInput) (*api.Model, error) {
	m := q.model
	m.Latest = slices.Clone(m.Latest)
	return &m, nil
}

func (q *quay) GetEdition(context.Context, act.Who, *api.EditionInput) (*api.Edition, error) {
	return nil, errors.New("it is among the latest")
}

func (q *quay) AddEdition(_ context.Context, _ act.Who, in *api.NewEdition) (*api.Edition, error) {
	if q.refuses != nil {
		return nil, q.refuses
	}
	run, _, _ := strings.Cut(in.Body.Origin, "@")
	e := api.Edition{Number: len(q.model.Latest) + 1, Origin: in.Body.Origin, Why: in.Body.Why,
		Facts: facts(run, q.figures[run])}
	q.model.Latest = append([]api.Edition{e}, q.model.Latest...)
	return &e, nil
}

func (q *quay) AskFor(_ context.Context, who act.Who, in *api.Ask) (*api.Asked, error) {
	q.asked = append(q.asked, in.Body.Edition)
	q.model.Waiting = []api.Asking{{ID: int64(len(q.asked)), Standing: in.Standing, Edition: in.Body.Edition,
		Who: who.Name}}
	return &api.Asked{}, nil
}

func (q *quay) EndAsking(context.Context, act.Who, *api.EndAskingInput) (*api.None, error) {
	q.taken++
	q.model.Waiting = nil
	return nil, nil
}

func facts(run string, v float64) api.EditionFacts {
	return api.EditionFacts{Run: run, Objective: loss, Figures: map[string]api.Float{"loss.val": api.Float(v)},
		Data: map[string]string{"val": "hydrophone#2:val"}}
}

// run is one that ended at a minute past noon, on the data in use.
func (q *quay) run(number int, figure float64) {
	ended := noon.Add(time.Duration(number) * time.Minute)
	address := fmt.Sprint("vessels/", number)
	q.figures[address] = figure
	q.ended = append(q.ended, api.Run{Address: address, Project: "vessels", Number: number, Ended: &ended,
		Objective: loss, Values: []json.RawMessage{json.RawMessage(`"hydrophone#2:val"`)}})
}

func fresh(rules ...catalogue.Entering) (*Entering, *quay) {
	h := slicetest.New(1)
	q := &quay{runs: map[int64][]store.EnteringRun{}, looked: map[int64]string{}, roles: "member",
		figures: map[string]float64{}}
	q.model = api.Model{Name: "vessel-classifier", Project: "vessels",
		Standings: []api.Standing{{Rule: catalogue.Rule{Name: "in-use"}, Edition: 1}},
		Latest:    []api.Edition{{Number: 1, Origin: "vessels/1@s40.leg1", Facts: facts("vessels/1", 0.5)}},
		History:   []api.Holding{{Standing: "in-use", Edition: 1, Since: noon.Add(-time.Hour)}}}
	for i, r := range rules {
		q.rules = append(q.rules, store.Entering{ID: int64(i + 1), Number: i + 1, ModelName: "vessel-classifier",
			Project: "vessels", Filter: r.Where, Checkpoint: "best", Margin: r.Margin, Ask: r.Ask, Each: r.Each,
			Person: 7, Latest: 1, Newest: 1})
	}
	return New(h.Finder().Act, q, q, q, q), q
}

func fates(rows []store.EnteringRun) map[int]string {
	out := map[int]string{}
	for _, r := range rows {
		out[r.Run] = r.Fate
	}
	return out
}

// What ends is judged once, entered where it is better, and the best of what the rule asked for waits.
func TestEntersOnce(t *testing.T) {
	margin := 0.01
	s, q := fresh(catalogue.Entering{Margin: &margin, Ask: "in-use"})
	q.run(2, 0.6)
	q.run(3, 0.4)
	q.run(4, 0.45)
	q.run(5, 0.3)
	q.run(6, 0)
	delete(q.figures, "vessels/6")
	for range 2 {
		require.NoError(t, s.EnterByRules(t.Context()))
		require.Equal(t, map[int]string{2: "not-better", 3: "enters", 4: "another-better", 5: "enters",
			6: "no-checkpoint"}, fates(q.runs[1]))
		require.Equal(t, []int{2, 3}, q.asked)
		require.Equal(t, 1, q.taken, "what it had asked for before makes room")
	}
	q.figures["vessels/6"] = 0.2 // it came a moment later
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "enters", fates(q.runs[1])[6])
	// somebody asked for another edition: that is decided first
	q.model.Waiting = []api.Asking{{ID: 9, Standing: "in-use", Edition: 1, Who: "Ines"}}
	q.run(7, 0.1)
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "enters", fates(q.runs[1])[7])
	require.Equal(t, int64(9), q.model.Waiting[0].ID)
	// long after, nothing is looked at
	past := time.Now().Add(-2 * settling)
	q.rules[0].Heard = &past
	q.run(8, 0.01)
	require.NoError(t, s.EnterByRules(t.Context()))
	require.NotContains(t, fates(q.runs[1]), 8)
}

// Figures of other data and by other objectives are not compared.
func TestLikeIsComparedWithLike(t *testing.T) {
	s, q := fresh()
	q.run(2, 0.1)
	q.run(3, 0.1)
	q.ended[0].Values[0] = json.RawMessage(`"hydrophone#1:val"`)
	q.ended[1].Objective.Direction = verdict.Higher
	ctx, who := slicetest.Ctx(t.Context(), "member")
	margin := 0.0
	past, err := s.TryRule(ctx, who, &api.NewRule{Body: catalogue.Entering{Margin: &margin}})
	require.NoError(t, err)
	require.Equal(t, catalogue.OtherData, past.Runs[0].Fate)
	require.Equal(t, catalogue.OtherObjective, past.Runs[1].Fate)
	require.Equal(t, "Of 2 runs that ended, 0 would have entered vessel-classifier.", past.Says)
	// before an edition was in use, the first enters
	q.model.History[0].Since = noon.Add(time.Hour)
	past, err = s.TryRule(ctx, who, &api.NewRule{Body: catalogue.Entering{Margin: &margin}})
	require.NoError(t, err)
	require.Equal(t, catalogue.Enters, past.Runs[0].Fate)
	require.Contains(t, past.Runs[0].Says, "no edition was in use")
}

// What is wrong with a rule is kept on it, and the next rule works.
func TestTroubleIsKept(t *testing.T) {
	margin := 0.0
	s, q := fresh(catalogue.Entering{Ask: "outside"}, catalogue.Entering{Where: "odd"},
		catalogue.Entering{Margin: &margin})
	q.run(2, 0.1)
	q.rules[1].Created = noon
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "standing", q.looked[1])
	require.Empty(t, q.looked[3])
	require.Len(t, q.runs[3], 1)
	q.run(3, 0.01)
	q.refuses = errors.New("the disk is full")
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "fault", q.looked[3])
	require.NotContains(t, fates(q.runs[3]), 3, "it is tried again")
	q.refuses = nil
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "enters", fates(q.runs[3])[3])
	q.roles = "reader"
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "author", q.looked[3])
	q.roles, q.closed = "owner", &noon
	require.NoError(t, s.EnterByRules(t.Context()))
	require.Equal(t, "author", q.looked[3])
}
