package web_test

import (
	"encoding/json"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/lineage"
	"kembrel/core/tensor"
)

// from begins a run of a project that comes from somewhere.
func (s *served) from(t *testing.T, project, kind, address string) string {
	in := &api.NewRun{ProjectInput: api.ProjectInput{Project: project}, Key: uuid.NewString()}
	in.Body.Started = time.Now()
	in.Body.Origin = &api.Origin{Kind: kind, From: address}
	if kind == "branch" {
		in.Body.Origin.Step, in.Body.Origin.Leg = 10, 1
	}
	return fmt.Sprintf("%s/%d", project, call(t, s, api.BeginRun, in).Number)
}

// around is the lineage of a thing: its nodes as "depth address state", its links as "from how to".
func (s *served) around(t *testing.T, in api.LineageInput) (nodes, links []string, all *api.Lineage) {
	t.Helper()
	if in.Limit == 0 {
		in.Limit = 300
	}
	all = call(t, s, api.GetLineage, &in)
	for _, n := range all.Nodes {
		text := fmt.Sprintf("%+d %s", n.Depth, n.Address)
		if n.State == lineage.Gone || n.State == lineage.Hidden {
			text += n.State
		}
		nodes = append(nodes, text)
	}
	for _, l := range all.Links {
		links = append(links, fmt.Sprintf("%s %s %s", all.Nodes[l.From].Address, l.How, all.Nodes[l.To].Address))
	}
	return nodes, links, all
}

// Where a thing comes from and what uses it is found over everything that names another, both ways; who may not see a
// project does not learn what it used.
func TestLineage(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.snapshot(t, honest(60)...)
	leg := s.leg(t)
	used := batch(leg, 1, 1, "loss.val", 0.5)
	used.Body.Data = []api.DataUse{{Use: "train", Asked: "hydrophone#1:train"}, {Use: "val", Asked: "hydrophone#1:val"}}
	call(t, s, api.SendBatch, used)
	at := s.keepWeights(t, leg, 10, tensor.Float64("w", []int64{1}, []float64{1}))
	s.keepWeights(t, leg, 20, tensor.Float64("w", []int64{1}, []float64{2}))
	call(t, s, api.AddEvaluation, newEvaluation(at, "hydrophone#1:val", map[string]api.Float{"accuracy": 0.5}))
	branch := s.from(t, "vessels", "branch", "vessels/1@e10")
	quays := &api.NewProject{}
	quays.Body.Key = "quays"
	call(t, s, api.CreateProject, quays)
	shut, closed := &api.ProjectEdit{ProjectInput: api.ProjectInput{Project: "quays"}}, false
	shut.Body.Open = &closed
	call(t, s, api.ChangeProject, shut)
	s.from(t, "quays", "rerun", "vessels/1")
	s.from(t, "vessels", "rerun", "quays/1")
	for range 2 { // a run that is to be deleted, and one that is
		s.from(t, "vessels", "rerun", s.from(t, "vessels", "rerun", "vessels/1"))
	}
	for run, days := range map[int]float64{4: 3, 6: 1e-9} {
		in := api.RunInput{ProjectInput: vessels, Number: run}
		end := &api.NewLeg{RunInput: in, Key: uuid.NewString()}
		end.Body.Recorder, end.Body.Started = uuid.NewString(), time.Now()
		ended := &api.EndInput{LegInput: api.LegInput{RunInput: in, Leg: call(t, s, api.OpenLeg, end).Leg,
			Recorder: end.Body.Recorder}}
		ended.Body.State, ended.Body.At = "failed", time.Now()
		call(t, s, api.EndLeg, ended)
		call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: in, Days: days})
	}
	require.Eventually(t, func() bool {
		var n int
		return s.db.Pool.QueryRow(ctx, "select count(*) from run").Scan(&n) == nil && n == 7
	}, 60*time.Second, 50*time.Millisecond)

	nodes, links, all := s.around(t, api.LineageInput{Of: "vessels/1@e10"})
	require.ElementsMatch(t, []string{"-2 hydrophone#1", "-1 vessels/1", "+0 vessels/1@e10", "+1 vessels/1/evaluations/1",
		"+1 " + branch}, nodes)
	require.ElementsMatch(t, []string{"hydrophone#1 data vessels/1", "hydrophone#1 data vessels/1",
		"vessels/1 saved vessels/1@e10", "vessels/1@e10 branch " + branch, "vessels/1@e10 evaluated vessels/1/evaluations/1",
		"hydrophone#1 evaluated-on vessels/1/evaluations/1"}, links)
	require.Equal(t, "It comes from the snapshot hydrophone#1 and the run vessels/1.", all.Before)
	require.Equal(t, "What came of it: the run vessels/2 and 1 evaluation.", all.After)
	require.False(t, all.Cut)
	for _, n := range all.Nodes {
		if n.Kind == lineage.Run && n.Depth < 0 {
			require.EqualValues(t, 1, n.More, "one checkpoint of two that nothing uses")
		}
	}

	nodes, _, _ = s.around(t, api.LineageInput{Of: "hydrophone#1", Only: "after"})
	require.ElementsMatch(t, []string{"+0 hydrophone#1", "+1 vessels/1", "+1 vessels/1/evaluations/1", "+2 vessels/1@e10",
		"+3 " + branch, "+2 quays/1", "+3 vessels/3"}, nodes)
	nodes, _, _ = s.around(t, api.LineageInput{Of: "vessels/1/evaluations/1", Only: "before", Depth: 1})
	require.ElementsMatch(t, []string{"+0 vessels/1/evaluations/1", "-1 vessels/1@e10", "-1 hydrophone#1"}, nodes)
	nodes, _, all = s.around(t, api.LineageInput{Of: "hydrophone#1", Limit: 2})
	require.Len(t, nodes, 2)
	require.True(t, all.Cut)
	require.Contains(t, all.After, "There is more")

	nodes, _, all = s.around(t, api.LineageInput{Of: "vessels/5", Depth: 1})
	require.ElementsMatch(t, []string{"+0 vessels/5", "-1 vessels/4gone"}, nodes, "to be deleted")
	require.Contains(t, all.Before, "1 run (1 deleted, or not for you to see)")
	require.True(t, all.Cut, "its own origin is known until then")
	nodes, _, all = s.around(t, api.LineageInput{Of: "vessels/7"})
	require.ElementsMatch(t, []string{"+0 vessels/7", "-1 vessels/6gone"}, nodes, "deleted")
	require.False(t, all.Cut)

	reader := s.as(t, "rosa", map[string]string{"vessels": "reader"})
	nodes, _, _ = reader.around(t, api.LineageInput{Of: "hydrophone#1", Only: "after"})
	require.NotContains(t, nodes, "+2 quays/1")
	require.Len(t, nodes, 5)
	nodes, _, _ = reader.around(t, api.LineageInput{Of: "vessels/3"})
	require.ElementsMatch(t, []string{"+0 vessels/3", "-1 hidden"}, nodes)
	refuse(t, reader, api.GetLineage, &api.LineageInput{Of: "quays/1", Limit: 300}, api.NotFound, `no project "quays"`)

	for of, says := range map[string]string{"vessels": "is a project", "vessels/1@best": "no", "vessels/9": "no run",
		"hydrophone#9": "there is no hydrophone#9", "vessels/1/evaluations/7": "there is no vessels/1/evaluations/7",
		"Ä#1": "no address of data"} {
		_, err := client.Call(ctx, s.Client, api.GetLineage, &api.LineageInput{Of: of, Limit: 300})
		require.ErrorContains(t, err, says, of)
	}

	for format, begins := range map[string]string{"n": "document\n  prefix kembrel <urn:kembrel:lineage:1:>", "json": "{"} {
		body, err := client.Stream(ctx, s.Client, api.GetProvenance,
			&api.ProvenanceInput{LineageInput: api.LineageInput{Of: "vessels/1", Limit: 300}, Format: format})
		require.NoError(t, err)
		content, err := io.ReadAll(body)
		body.Close()
		require.NoError(t, err)
		require.Regexp(t, "^"+begins[:1], string(content))
		require.Contains(t, string(content), "here:vessels/1@e10")
		require.Contains(t, string(content), s.URL+"/")
		if format == "json" {
			require.True(t, json.Valid(content))
		} else {
			require.Contains(t, string(content), begins)
		}
	}

	other := s.leg(t)
	told := batch(other, 1, 1, "loss.val", 0.5)
	known := tensor.Float64("w", []int64{1}, []float64{1})
	told.Body.Data = nil
	call(t, s, api.SendBatch, told)
	s.keepWeights(t, other, 0, known)
	require.NoError(t, s.service.InspectPending(ctx))
	_, links, _ = s.around(t, api.LineageInput{Of: fmt.Sprint("vessels/", other.Number), Only: "before", Depth: 1})
	require.Equal(t, []string{fmt.Sprintf("vessels/1@e10 equal-weights vessels/%d", other.Number)}, links)
}
