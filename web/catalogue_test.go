package web_test

import (
	"bytes"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/catalogue"
)

var classifier = api.ModelInput{Model: "vessel-classifier"}

// model makes a model of vessels with these standings.
func (s *served) model(t testing.TB, standings ...catalogue.Rule) *api.Model {
	t.Helper()
	in := &api.NewModel{}
	in.Body.Name, in.Body.Project, in.Body.Title = classifier.Model, "vessels", "Vessel classes by sound"
	in.Body.Standings = standings
	return call(t, s, api.CreateModel, in)
}

// catalogued is a service with a model and two checkpoints entered in it.
func catalogued(t *testing.T, standings ...catalogue.Rule) (*served, api.RunInput) {
	s := serve(t)
	s.project(t)
	run := s.saved(t, noise(1000, 200), 0.5, 0.3)
	s.model(t, standings...)
	s.enter(t, "vessels/1@e1")
	s.enter(t, "vessels/1@e2")
	return s, run
}

// enter enters a checkpoint.
func (s *served) enter(t testing.TB, origin string) *api.Edition {
	t.Helper()
	in := &api.NewEdition{ModelInput: classifier}
	in.Body.Origin, in.Body.Why = origin, "the best so far"
	return call(t, s, api.AddEdition, in)
}

func askFor(standing string, edition int, insteadOf ...int) *api.Ask {
	in := &api.Ask{ModelInput: classifier, Standing: standing}
	in.Body.Edition, in.Body.Why = edition, "better on every class"
	if len(insteadOf) > 0 {
		in.Body.InsteadOf = &insteadOf[0]
	}
	return in
}

func signOff(asking int64, edition int) *api.SignOffInput {
	in := &api.SignOffInput{AskingInput: api.AskingInput{ModelInput: classifier, Asking: asking}}
	in.Body.Edition, in.Body.Why = edition, "heard it at the quay"
	return in
}

func outcome(edition int, name string, passed bool) *api.NewEditionCheck {
	in := &api.NewEditionCheck{EditionInput: api.EditionInput{ModelInput: classifier, Edition: edition}}
	in.Body.Name, in.Body.Passed = name, passed
	in.Body.Figures = map[string]api.Float{"lowest recall": 0.84}
	return in
}

func inUse(standing string) *api.StandingInput {
	return &api.StandingInput{ModelInput: classifier, Standing: standing}
}

// A checkpoint becomes an edition with its files and what is known of it, once, and stays when its run is gone.
func TestEditionsOutliveTheirRun(t *testing.T) {
	s := serve(t)
	s.project(t)
	shared := noise(50_000, 200)
	run := s.saved(t, shared, 0.5, 0.3, 0.4)
	s.model(t)
	first := s.enter(t, "vessels/1@best")
	require.Equal(t, "vessel-classifier#1", first.Address)
	require.Equal(t, "vessels/1@s2.leg1", first.Origin)
	require.Equal(t, api.Float(0.3), first.Facts.Figures["loss.val"])
	require.Len(t, first.Warnings, 2, "neither architecture nor preprocess")
	require.Len(t, first.Files, 2)
	again := s.enter(t, "vessels/1@e2")
	require.True(t, again.Existed)
	require.Equal(t, 1, again.Number)
	require.Equal(t, 2, s.enter(t, "vessels/1@last").Number)

	for origin, want := range map[string]string{"vessels/1": "a checkpoint is entered", "vessels/1@e9": "no checkpoint",
		"no address": "address", "nowhere/1@best": "no project"} {
		in := &api.NewEdition{ModelInput: classifier}
		in.Body.Origin = origin
		_, err := client.Call(ctx, s.Client, api.AddEdition, in)
		require.ErrorContains(t, err, want)
	}

	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: run, Days: 1e-9})
	require.NoError(t, s.service.EraseRuns(ctx))
	_, err := s.db.Pool.Exec(ctx, "update chunk set kept = now() - interval '1 year'")
	require.NoError(t, err)
	free := &api.FreeInput{}
	free.Body.Now = true
	call(t, s, api.FreeStorage, free)
	require.Contains(t, call(t, s, api.GetStorage, &api.StorageInput{}).Says,
		"Beside them 2 editions whose runs are deleted")
	at := api.EditionInput{ModelInput: classifier, Edition: 1}
	got := call(t, s, api.GetEdition, &at)
	require.True(t, got.RunGone)
	require.Equal(t, first.Facts, got.Facts)
	into := filepath.Join(t.TempDir(), "model")
	require.NoError(t, client.RestoreFrom(ctx, client.OfEdition(s.Client, at), got.Files, into, false, func(int64) {}))
	restored, err := os.ReadFile(filepath.Join(into, "shared"))
	require.NoError(t, err)
	require.Equal(t, shared, restored)
}

// A guarded standing takes an edition with the checks that it asks for and sign-offs of others on these; then it is in
// use, until another is or the one before is again.
func TestStandings(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.saved(t, noise(1000, 200), 0.5, 0.3, 0.4)
	s.model(t, catalogue.Rule{Name: "in-use", Approvers: 2, Checks: []string{"every class"}},
		catalogue.Rule{Name: "fallback"})
	ruth := s.as(t, "Ruth", map[string]string{"vessels": "approver"})
	teo := s.as(t, "Teo", map[string]string{"vessels": "approver"})
	member := s.as(t, "Vilja", map[string]string{"vessels": "member"})
	for _, origin := range []string{"vessels/1@e1", "vessels/1@e2", "vessels/1@e3"} {
		s.enter(t, origin)
	}
	refuse(t, s, api.GetStanding, inUse("in-use"), api.NotFound,
		"no edition of vessel-classifier has the standing in-use")
	refuse(t, s, api.GetStanding, inUse("nonsense"), api.NotFound, "it has: in-use, fallback")

	asked := call(t, member, api.AskFor, askFor("in-use", 1, 0))
	require.False(t, asked.Taken)
	require.Equal(t, "vessel-classifier#1: to be in use it waits for the check every class, 2 sign-offs.", asked.Says)
	require.Equal(t, asked.Asking.ID, call(t, member, api.AskFor, askFor("in-use", 1)).Asking.ID, "once")
	refuse(t, ruth, api.AskFor, askFor("in-use", 2), api.Conflict, "Vilja asked that #1 gets the standing in-use")
	require.Equal(t, 1, call(t, s, api.GetStanding, inUse("proposed")).Number)

	refuse(t, member, api.AddSignOff, signOff(asked.Asking.ID, 1), api.Denied, "approver")
	refuse(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 2), api.Conflict, "it is #1 that waits")
	got := call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.Contains(t, got.Says, "1 more sign-off")
	call(t, member, api.ReportCheck, outcome(1, "every class", false))
	got = call(t, teo, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.Contains(t, got.Says, "the check every class, which failed, 1 more sign-off")
	require.Equal(t, "checks", got.Asking.SignOffs[0].Not, "what Ruth signed was checked since")
	call(t, member, api.ReportCheck, outcome(1, "every class", true))
	call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.Contains(t, call(t, ruth, api.WithdrawSignOff, &signOff(asked.Asking.ID, 1).AskingInput).Says,
		"2 sign-offs")
	call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1))
	got = call(t, teo, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.True(t, got.Taken, got.Says)
	require.Equal(t, 1, call(t, s, api.GetStanding, inUse("in-use")).Number)
	refuse(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1), api.Conflict, "it became in use on")

	self := call(t, teo, api.AskFor, askFor("in-use", 2, 1))
	refuse(t, teo, api.AddSignOff, signOff(self.Asking.ID, 2), api.Denied, "whoever asks does not sign off")
	end := &api.EndAskingInput{AskingInput: api.AskingInput{ModelInput: classifier, Asking: self.Asking.ID},
		Why: "wrong clips"}
	call(t, member, api.EndAsking, end)
	refuse(t, member, api.EndAsking, end, api.Conflict, "Vilja took back on")

	require.True(t, call(t, member, api.AskFor, askFor("fallback", 1)).Taken)
	require.True(t, call(t, member, api.AskFor, askFor("fallback", 3)).Taken)
	back := &api.GoBackInput{ModelInput: classifier, Standing: "fallback"}
	back.Body.Why = "it hears no ferries"
	require.Equal(t, "vessel-classifier#1 has the standing fallback again.", call(t, member, api.GoBack, back).Says)
	back.Standing = "in-use"
	refuse(t, member, api.GoBack, back, api.Denied, "approver")
	refuse(t, ruth, api.GoBack, back, api.Conflict, "no other edition")
	refuse(t, member, api.AskFor, askFor("in-use", 0), api.Denied, "approver")

	m := call(t, s, api.GetModel, &classifier)
	require.Equal(t,
		"#1 is in use, since "+time.Now().UTC().Format("2 January 2006")+" by Vilja; #1 is fallback, since "+
			time.Now().UTC().Format("2 January 2006")+" by Vilja.", m.Says.InUse)
	require.Len(t, m.History, 4)
	for i := range m.History[:len(m.History)-1] {
		for _, h := range m.History[i+1:] {
			if h.Standing == m.History[i].Standing {
				require.Equal(t, m.History[i].Since, *h.Until, "no hole and no overlap")
				break
			}
		}
	}
	require.Equal(t, []string{"every class"}, m.Standings[0].Checks)

	use := func(edition int, where string) {
		in := &api.NewUse{EditionInput: api.EditionInput{ModelInput: classifier, Edition: edition}}
		in.Body.Where = where
		call(t, member, api.ReportUse, in)
	}
	use(1, "harbour-north")
	use(2, "harbour-south")
	use(3, "harbour-south")
	m = call(t, s, api.GetModel, &classifier)
	require.Equal(t, "Of 2 places 1 has an edition that was never in use.", m.Says.Where)
	require.Equal(t, []int{0, -1}, []int{m.Consumers[0].Behind, m.Consumers[1].Behind})

	edit := &api.ModelEdit{ModelInput: classifier}
	edit.Body.Standings = []catalogue.Rule{{Name: "in-use"}}
	refuse(t, s, api.ChangeModel, edit, api.Conflict, "has a history")
	edit.Body.Standings = append(edit.Body.Standings, catalogue.Rule{Name: "fallback"},
		catalogue.Rule{Name: "on-trial"})
	require.Len(t, call(t, s, api.ChangeModel, edit).Standings, 3)
	edit.Body.Standings = []catalogue.Rule{{Name: "proposed"}}
	refuse(t, s, api.ChangeModel, edit, api.Invalid, "there by itself")
}

// A hundred ask at once: one wins, and the others are told who.
func TestOneStandingForAHundred(t *testing.T) {
	s, _ := catalogued(t, catalogue.Rule{Name: "in-use"})
	var wait sync.WaitGroup
	var mutex sync.Mutex
	won, told := 0, 0
	for i := range 100 {
		wait.Go(func() {
			got, err := client.Call(ctx, s.Client, api.AskFor, askFor("in-use", 1+i%2, 0))
			mutex.Lock()
			defer mutex.Unlock()
			switch {
			case err == nil && got.Taken:
				won++
			case api.Is(err, api.Conflict):
				told++
			}
		})
	}
	wait.Wait()
	holder := call(t, s, api.GetStanding, inUse("in-use")).Number
	require.Equal(t, 100, won+told)
	require.LessOrEqual(t, won, 50, "those of one edition")
	var holdings int
	require.NoError(t, s.db.Pool.QueryRow(ctx, "select count(*) from holding").Scan(&holdings))
	require.Equal(t, 1, holdings)
	refuse(t, s, api.AskFor, askFor("in-use", 3-holder, 0), api.Conflict, fmt.Sprintf("meanwhile #%d, by ", holder))
}

// Whoever polls is told in a few bytes that nothing has changed.
func TestPollingAStanding(t *testing.T) {
	s, _ := catalogued(t, catalogue.Rule{Name: "in-use"})
	call(t, s, api.AskFor, askFor("in-use", 1))
	path := "/api/v1/models/vessel-classifier/standings/in-use"
	r, text := s.raw(t, "GET", path, "", s.bearer()...)
	require.Equal(t, http.StatusOK, r.StatusCode, text)
	tag := r.Header.Get("ETag")
	require.NotEmpty(t, tag)
	r, text = s.raw(t, "GET", path, "", append(s.bearer(), "If-None-Match", tag)...)
	require.Equal(t, http.StatusNotModified, r.StatusCode)
	require.Empty(t, text)
	require.Equal(t, tag, r.Header.Get("ETag"))
	call(t, s, api.AskFor, askFor("in-use", 2))
	r, _ = s.raw(t, "GET", path, "", append(s.bearer(), "If-None-Match", tag)...)
	require.Equal(t, http.StatusOK, r.StatusCode)
}

// The database itself refuses to have two editions in one standing, holes in its history, or editions that change.
func TestTheDatabaseKeepsTheCatalogue(t *testing.T) {
	s, _ := catalogued(t, catalogue.Rule{Name: "in-use"})
	call(t, s, api.AskFor, askFor("in-use", 1))
	for _, statement := range []string{
		"insert into holding (model, standing, seq, edition, since, person) select model, standing, 2, edition, now(), person from holding",
		"insert into holding (model, standing, seq, edition, since, person) select model, standing, 7, edition, now(), person from holding",
		"update holding set until = now() + interval '1 hour', edition = null", "delete from holding",
		"update edition set why = 'another'", "update edition_file set size = 1", "delete from edition_file",
		"delete from edition", "delete from model",
		"with ended as (update holding set until = now() returning *) insert into holding (model, standing, seq, edition, since, person) select model, standing, 2, edition, until + interval '1 day', person from ended",
	} {
		_, err := s.db.Pool.Exec(ctx, statement)
		require.Error(t, err, statement)
	}
}

// Models of a closed project are not there for whoever does not see it.
func TestModelsOfClosedProjects(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.saved(t, noise(1000, 200), 0.5)
	s.model(t)
	s.enter(t, "vessels/1@e1")
	stranger := s.as(t, "Stranger", map[string]string{"": "reader"})
	require.Len(t, call(t, stranger, api.ListModels, &api.PageInput{Limit: 10}).Items, 1)
	closed := false
	edit := &api.ProjectEdit{ProjectInput: vessels}
	edit.Body.Open = &closed
	call(t, s, api.ChangeProject, edit)
	require.Empty(t, call(t, stranger, api.ListModels, &api.PageInput{Limit: 10}).Items)
	refuse(t, stranger, api.GetModel, &classifier, api.NotFound, `there is no model "vessel-classifier"`)
	refuse(t, stranger, api.GetStanding, inUse("in-use"), api.NotFound, "there is no model")
	in := &api.NewModel{}
	in.Body.Name, in.Body.Project = "mine", "vessels"
	owner := s.as(t, "Owner elsewhere", map[string]string{"": "reader"})
	refuse(t, owner, api.CreateModel, in, api.Denied, "owner")
	in.Body.Name, in.Body.Project = classifier.Model, "vessels"
	refuse(t, s, api.CreateModel, in, api.Conflict, "already")
}

// An edition comes from its checkpoint, also when that is gone, and its checkpoint's page tells of it.
func TestLineageOfEditions(t *testing.T) {
	s, run := catalogued(t, catalogue.Rule{Name: "in-use"})
	call(t, s, api.AskFor, askFor("in-use", 2))
	nodes, links, all := s.around(t, api.LineageInput{Of: "vessel-classifier#2"})
	require.Equal(t, []string{"-2 vessels/1", "-1 vessels/1@e2", "+0 vessel-classifier#2"}, nodes)
	require.Equal(t, []string{"vessels/1 saved vessels/1@e2", "vessels/1@e2 entered vessel-classifier#2"}, links)
	require.Equal(t, "in use", all.Nodes[2].Title)
	nodes, _, all = s.around(t, api.LineageInput{Of: "vessels/1"})
	require.Equal(t, []string{"+0 vessels/1", "+1 vessels/1@e1", "+1 vessels/1@e2", "+2 vessel-classifier#1",
		"+2 vessel-classifier#2"}, nodes)
	require.Contains(t, all.After, "2 editions")
	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: run, Days: 1e-9})
	require.NoError(t, s.service.EraseRuns(ctx))
	nodes, _, _ = s.around(t, api.LineageInput{Of: "vessel-classifier#2"})
	require.Equal(t, []string{"-1 vessels/1@s2.leg1gone", "+0 vessel-classifier#2"}, nodes)
	for _, of := range []string{"vessel-classifier#3", "nothing#1"} {
		refuse(t, s, api.GetLineage, &api.LineageInput{Of: of, Limit: 10}, api.NotFound, "there is no")
	}
}

// What came of a check stays with it: it is kept when loose chunks are cleaned away, comes back equal, and never
// changes; the files of the latest outcome are those that are shown.
func TestFilesOfACheck(t *testing.T) {
	s, _ := catalogued(t)
	report := noise(300_000, 7)
	in := outcome(1, "every class", true)
	for name, content := range map[string][]byte{"report.html": report,
		"out/rows.csv": []byte("class,recall\ntug,0.84\n")} {
		f, err := client.SendFile(ctx, s.Client, name, bytes.NewReader(content))
		require.NoError(t, err)
		in.Body.Files = append(in.Body.Files, f)
	}
	check := call(t, s, api.ReportCheck, in).Checks[0]
	require.Equal(t, "out/rows.csv", check.Files[0].Path)
	require.Equal(t, int64(len(report)), check.Files[1].Size)
	_, err := s.db.CleanChunks(ctx, 0)
	require.NoError(t, err)

	reader := s.as(t, "Ines", map[string]string{"vessels": "reader"})
	file := func(path, check string) *api.EditionFileInput {
		return &api.EditionFileInput{EditionInput: in.EditionInput, Path: path, Check: check}
	}
	body, err := client.Stream(ctx, reader.Client, api.GetEditionFile, file("report.html", "every class"))
	require.NoError(t, err)
	defer body.Close()
	got, err := io.ReadAll(body)
	require.NoError(t, err)
	require.Equal(t, report, got)
	for _, none := range []*api.EditionFileInput{file("report.html", ""), file("report.html", "another"),
		file("other.html", "every class")} {
		_, err := client.Stream(ctx, reader.Client, api.GetEditionFile, none)
		require.ErrorContains(t, err, "no file")
	}

	twice := outcome(1, "latency", true)
	twice.Body.Files = []api.File{in.Body.Files[0], in.Body.Files[0]}
	refuse(t, s, api.ReportCheck, twice, api.Invalid, "there twice")
	twice.Body.Files = twice.Body.Files[:1]
	twice.Body.Files[0].Path = "../report.html"
	refuse(t, s, api.ReportCheck, twice, api.Invalid, "")
	twice.Body.Files[0] = in.Body.Files[0]
	twice.Body.Files[0].Digest = "b3:" + strings.Repeat("ab", 32)
	twice.Body.Files[0].Chunks = []api.Piece{{Digest: twice.Body.Files[0].Digest, Size: twice.Body.Files[0].Size}}
	refuse(t, s, api.ReportCheck, twice, api.Conflict, "has not been sent")
	require.Len(t, call(t, s, api.GetEdition, &in.EditionInput).Checks, 1, "what was refused left nothing")

	call(t, s, api.ReportCheck, outcome(1, "every class", false))
	require.Empty(t, call(t, s, api.GetEdition, &in.EditionInput).Checks[0].Files)
	for _, change := range []string{"delete from check_file", "update check_file set path = 'x'"} {
		_, err := s.db.Pool.Exec(ctx, change)
		require.ErrorContains(t, err, "editions never change")
	}
}

// A sign-off counts as long as whoever gave it may give it; a rule that is lowered holds neither for what was asked
// before nor for the person who lowered it; and who signed is shown for ever.
func TestSignOffsHoldWhatTheyPromise(t *testing.T) {
	rule := catalogue.Rule{Name: "in-use", Approvers: 2, Checks: []string{"every class"},
		Reporters: map[string]string{"every class": "Kit"}}
	s, _ := catalogued(t, rule)
	ruth := s.as(t, "Ruth", map[string]string{"vessels": "approver"})
	teo := s.as(t, "Teo", map[string]string{"vessels": "approver"})
	kit := s.as(t, "Kit", map[string]string{"vessels": "recorder"})
	owner := s.as(t, "Vilja", map[string]string{"vessels": "owner"})
	asked := call(t, owner, api.AskFor, askFor("in-use", 1))
	call(t, kit, api.ReportCheck, outcome(1, "every class", false))
	call(t, owner, api.ReportCheck, outcome(1, "every class", true)) // her own takes no place of his
	require.Contains(t, call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1)).Says,
		"the check every class, which failed")

	// lowered by the one who asks: what waits goes on waiting, and so does what she asks for afterwards
	change := &api.ModelEdit{ModelInput: classifier}
	change.Body.Standings = []catalogue.Rule{{Name: "in-use"}}
	call(t, owner, api.ChangeModel, change)
	refuse(t, s, api.GetStanding, inUse("in-use"), api.NotFound, "no edition")
	call(t, owner, api.EndAsking, &api.EndAskingInput{AskingInput: api.AskingInput{ModelInput: classifier,
		Asking: asked.Asking.ID}, Why: "again"})
	asked = call(t, owner, api.AskFor, askFor("in-use", 1))
	require.False(t, asked.Taken, asked.Says)
	require.Equal(t, 2, asked.Asking.Needs.Approvers)
	events := call(t, owner, api.GetProjectAudit, &api.ProjectAuditInput{ProjectInput: vessels,
		AuditInput: api.AuditInput{Verb: "changed"}}).Items
	require.JSONEq(t, `{"standings":"in-use","standings_before":"in-use (2 sign-offs) after every class by Kit"}`,
		string(events[0].Data))

	// the role is looked at when it takes effect
	call(t, kit, api.ReportCheck, outcome(1, "every class", true))
	call(t, ruth, api.AddSignOff, signOff(asked.Asking.ID, 1))
	s.as(t, "Ruth", map[string]string{"vessels": "member"})
	got := call(t, teo, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.False(t, got.Taken, got.Says)
	require.Equal(t, "role", got.Asking.SignOffs[0].Not)
	s.as(t, "Ruth", map[string]string{"vessels": "approver"})
	got = call(t, teo, api.AddSignOff, signOff(asked.Asking.ID, 1))
	require.True(t, got.Taken, got.Says)
	m := call(t, s, api.GetModel, &classifier)
	for _, signed := range [][]api.Signed{m.History[0].SignOffs, m.Standings[0].SignOffs} {
		require.Len(t, signed, 2)
		require.Equal(t, []string{"Ruth", "Teo"}, []string{signed[0].Who, signed[1].Who})
	}
	e := call(t, s, api.GetEdition, &api.EditionInput{ModelInput: classifier, Edition: 1})
	require.Len(t, e.SignOffs, 2)
	require.Equal(t, "in-use", e.SignOffs[0].Standing)
	require.Len(t, e.Checks, 2, "hers and his")
	d := call(t, s, api.GetDescription, &api.EditionInput{ModelInput: classifier, Edition: 1})
	require.Len(t, d.SignOffs, 2)

	// another may do with the lowered rule
	require.True(t, call(t, teo, api.AskFor, askFor("in-use", 2)).Taken)

	// a database of an earlier version knows who signed off too, in a history that nothing else may change
	text, err := os.ReadFile("../store/pg/db/migrations/0035_sign_offs.sql")
	require.NoError(t, err)
	up, down, found := strings.Cut(string(text), "-- +goose Down")
	require.True(t, found)
	for _, sql := range []string{down, up} {
		_, err := s.db.Pool.Exec(ctx, sql)
		require.NoError(t, err)
	}
	var who []string
	require.NoError(t, s.db.Pool.QueryRow(ctx, `select array_agg(x->>'who' order by h.seq, x->>'who')
		from holding h, jsonb_array_elements(h.signed) x`).Scan(&who))
	require.Equal(t, []string{"Ruth", "Teo"}, who)
	_, err = s.db.Pool.Exec(ctx, "update holding set signed = '[]'")
	require.ErrorContains(t, err, "the history of a standing stays")
}

// The link of a check leads to the web, and a check has a name.
func TestWhatAChecksLinkIs(t *testing.T) {
	s, _ := catalogued(t)
	for _, link := range []string{"javascript:alert(1)", "data:text/html,x", "ftp://harbour.example/r", "https:",
		"//a"} {
		in := outcome(1, "every class", true)
		in.Body.Link = link
		refuse(t, s, api.ReportCheck, in, api.Invalid, "is no address on the web")
	}
	in := outcome(1, "  every \t class ", true)
	in.Body.Link = "https://build.harbour.example/17"
	require.Equal(t, "every class", call(t, s, api.ReportCheck, in).Checks[0].Name)
	refuse(t, s, api.ReportCheck, outcome(1, " \t ", true), api.Invalid, "no name")
}
