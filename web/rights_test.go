package web_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
)

// credential is a way to ask: its headers, and how it stands in docs/access.md ("": not in the table there).
type credential struct {
	name, column string
	header       []string
}

// cast is a service with an open project (vessels), a closed one (quays), each with a run that Maker made, and
// everybody who may ask.
type cast struct {
	*served
	credentials []credential
	others      map[string]*served
}

func newCast(t *testing.T) *cast {
	s := serve(t)
	c := &cast{served: s, others: map[string]*served{}}
	for _, key := range []string{"vessels", "quays", "elsewhere"} {
		in := &api.NewProject{}
		in.Body.Key = key
		call(t, s, api.CreateProject, in)
	}
	for _, key := range []string{"vessels", "quays"} {
		in := &api.NewModel{}
		in.Body.Name, in.Body.Project = "classifier-of-"+key, key
		call(t, s, api.CreateModel, in)
	}
	edit := &api.ProjectEdit{ProjectInput: api.ProjectInput{Project: "quays"}}
	closed := false
	edit.Body.Open = &closed
	call(t, s, api.ChangeProject, edit)
	add := func(name, column string, header ...string) {
		c.credentials = append(c.credentials, credential{name, column, header})
	}
	bearer := func(token string) []string { return []string{"Authorization", "Bearer " + token} }
	on := func(role string) map[string]string { return map[string]string{"vessels": role, "quays": role} }
	add("nobody", "nobody")
	add("wrong", "", bearer("kembrel_nonsense")...)
	revoked, expired := s.token(t, s.owner, 1), s.token(t, s.owner, 1)
	call(t, s, api.RevokeToken, &api.TokenInput{ID: revoked.ID})
	_, err := s.db.Pool.Exec(ctx, "update token set expires = now() - interval '1 second' where id = $1", expired.ID)
	require.NoError(t, err)
	add("expired", "", bearer(expired.Secret)...)
	add("revoked", "", bearer(revoked.Secret)...)
	stranger := s.as(t, "Stranger", nil)
	add("no role", "no role", stranger.bearer()...)
	maker := s.as(t, "Maker", on("recorder"))
	for _, key := range []string{"vessels", "quays"} {
		in := &api.NewRun{ProjectInput: api.ProjectInput{Project: key}, Key: uuid.NewString()}
		in.Body.Started = time.Now()
		call(t, maker, api.BeginRun, in)
	}
	for _, role := range []string{"reader", "recorder"} {
		add(role, role, s.as(t, "A "+role, on(role)).bearer()...)
	}
	add("maker", "recorder, own run", maker.bearer()...)
	for _, role := range []string{"member", "approver", "owner"} {
		other := s.as(t, "A "+role, on(role))
		c.others[role] = other
		add(role, role, other.bearer()...)
	}
	add("administrator", "administrator", s.bearer()...)
	add("owner elsewhere", "owner of another project", s.as(t, "Neighbour",
		map[string]string{"elsewhere": "owner"}).bearer()...)
	narrow := func(o *served, scope api.Scope) string {
		in := &api.NewToken{}
		in.Body.Name, in.Body.Days, in.Body.Scope = "narrow", 1, scope
		return call(t, o, api.CreateToken, in).Secret
	}
	add("narrowed to reader", "owner, token narrowed to reader",
		bearer(narrow(c.others["owner"], api.Scope{Role: "reader"}))...)
	add("narrowed to elsewhere", "administrator, token narrowed to another project",
		bearer(narrow(s, api.Scope{Project: "elsewhere"}))...)
	add("elsewhere address", "", bearer(narrow(s, api.Scope{Networks: []string{"203.0.113.0/24"}}))...)
	machine := &api.NewPerson{}
	machine.Body.Name, machine.Body.Machine = "Buildhall", true
	call(t, s, api.AddPerson, machine)
	for _, key := range []string{"vessels", "quays"} {
		call(t, s, api.SetProjectRole, &api.ProjectRoleInput{ProjectInput: api.ProjectInput{Project: key},
			Body: api.RoleEdit{Person: "Buildhall", Role: "recorder"}})
	}
	forMachine := &api.NewTokenFor{PersonInput: api.PersonInput{Name: "Buildhall"}}
	forMachine.Body.Name, forMachine.Body.Days = "checks", 1
	add("machine", "machine that is recorder", bearer(call(t, s, api.CreateTokenFor, forMachine).Secret)...)
	add("session with foreign origin", "", "Cookie", s.session(t), "Origin", "http://elsewhere.example")
	return c
}

// answered is what came of a call: whether it was allowed, refused, hidden, or nobody was known.
func (c *cast) answered(t *testing.T, op api.Spec, project string, header []string) string {
	t.Helper()
	path := strings.NewReplacer("{project}", project, "{model}", "classifier-of-"+project).Replace(op.Path)
	body := ""
	if op.Method != "GET" && op.Method != "DELETE" {
		body = "{}"
	}
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	r, err := http.NewRequestWithContext(limited, op.Method, c.URL+api.Base+concrete(path), strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	if op.ID == "events" && response.StatusCode == 200 {
		return "yes" // it goes on
	}
	content, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	var p api.Problem
	if response.StatusCode >= 400 {
		require.NoError(t, json.Unmarshal(content, &p), "%s: %s", op.ID, content)
	}
	switch {
	case response.StatusCode == http.StatusUnauthorized:
		return "sign in"
	case response.StatusCode == http.StatusForbidden:
		return "no"
	case response.StatusCode == http.StatusNotFound && (strings.Contains(p.Detail,
		fmt.Sprintf("there is no project %q", project)) || strings.Contains(p.Detail, "there is no model")):
		return "hidden"
	case response.StatusCode >= 500:
		t.Errorf("%s: %d %s", op.ID, response.StatusCode, content)
	}
	return "yes"
}

// Every operation, asked for by everybody, on an open project and on a closed one. What came back is docs/access.md's
// table: a right that changes changes that file, and is read by whoever reviews it. KEMBREL_WRITE=1 writes it (make
// openapi).
func TestWhoMay(t *testing.T) {
	c := newCast(t)
	var table strings.Builder
	columns := []string{"operation", "closed project"}
	for _, who := range c.credentials {
		if who.column != "" && who.column != "nobody" {
			columns = append(columns, who.column)
		}
	}
	fmt.Fprintf(&table, "| %s |\n|%s\n", strings.Join(columns, " | "), strings.Repeat("---|", len(columns)))
	for _, op := range api.Operations() {
		// they make and end what is asked with
		if op.ID == "sign-in" || op.ID == "sign-in-by-link" || op.ID == "sign-out" {
			continue
		}
		onProject := strings.Contains(op.Path, "{project}") || strings.Contains(op.Path, "{model}")
		row := []string{fmt.Sprintf("`%s %s` %s", op.Method, op.Path, op.Summary)}
		hidden := 0
		var cells []string
		for _, who := range c.credentials {
			open := c.answered(t, op, "vessels", who.header)
			switch who.name {
			case "nobody", "wrong", "expired", "revoked", "elsewhere address":
				want := "sign in"
				if op.Access == api.Anyone {
					want = "yes"
				}
				require.Equal(t, want, open, "%s by %s", op.ID, who.name)
			case "session with foreign origin":
				want := "no"
				if op.Method == "GET" || op.Access == api.Anyone {
					want = "yes"
				}
				require.Equal(t, want, open, "%s by %s", op.ID, who.name)
			}
			if onProject {
				closed := c.answered(t, op, "quays", who.header)
				switch who.name {
				case "no role", "owner elsewhere", "narrowed to elsewhere":
					require.Equal(t, "hidden", closed, "%s of a closed project by %s", op.ID, who.name)
					hidden++
				default:
					require.Equal(t, open, closed,
						"%s by %s: a role holds on a closed project as on an open one", op.ID, who.name)
				}
			}
			if who.column != "" && who.name != "nobody" {
				cells = append(cells, open)
			}
		}
		closed := ""
		if onProject {
			closed = "hidden"
			require.Equal(t, 3, hidden, op.ID)
		}
		if op.Access == api.Anyone {
			closed = "for anyone"
		}
		fmt.Fprintf(&table, "| %s |\n", strings.Join(append(append(row, closed), cells...), " | "))
	}
	const file, begin, end = "../docs/access.md", "<!-- table: written by the test -->\n", "<!-- end of the table -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	was, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	if os.Getenv("KEMBREL_WRITE") == "1" {
		require.NoError(t, os.WriteFile(file, []byte(head+begin+table.String()+end+tail), 0o644))
		was = table.String()
	}
	require.Equal(t, was, table.String(),
		"docs/access.md does not say what is; run make openapi, and look at what changed")
}

// A closed project is in no list, count, stream or sum of those who have no role on it, nor do other runs tell of it.
func TestClosedProjectsDoNotLeak(t *testing.T) {
	c := newCast(t)
	// a role on the service is none on a closed project
	stranger := c.as(t, "Stranger", map[string]string{"": "member"})
	keys := func(o *served) (out []string) {
		for _, p := range call(t, o, api.ListProjects, &api.ProjectsInput{PageInput: api.PageInput{Limit: 100}}).Items {
			out = append(out, p.Key)
		}
		return out
	}
	require.Equal(t, []string{"elsewhere", "quays", "vessels"}, keys(c.served))
	require.Equal(t, []string{"elsewhere", "vessels"}, keys(stranger))
	quays := api.RunInput{ProjectInput: api.ProjectInput{Project: "quays"}, Number: 1}
	want := refuse(t, stranger, api.GetRun, &api.RunInput{ProjectInput: api.ProjectInput{Project: "nowhere"},
		Number: 1}, api.NotFound, "nowhere").Detail
	got := refuse(t, stranger, api.GetRun, &quays, api.NotFound, "quays").Detail
	require.Equal(t, strings.ReplaceAll(want, "nowhere", "quays"), got,
		"what one may not see looks as what is not there")

	// Nor by the way: a run that comes from one of it, a difference to a checkpoint of it, what takes room.
	secret, err := c.db.RunID(ctx, "quays", 1)
	require.NoError(t, err)
	_, err = c.db.Pool.Exec(ctx,
		`update run set origin = '{"kind": "rerun", "from": "quays/1"}' where number = 1 and id <> $1`, secret)
	require.NoError(t, err)
	shown := call(t, stranger, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: 1})
	text, err := json.Marshal(shown)
	require.NoError(t, err)
	require.NotContains(t, string(text), "quays")
	require.Contains(t, string(text), "a run that you do not see")
	require.Equal(t, "quays/1",
		call(t, c.served, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: 1}).Origin.From)
	branch := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	branch.Body.Started, branch.Body.Origin = time.Now(), &api.Origin{Kind: "rerun", From: "quays/1"}
	refuse(t, stranger, api.BeginRun, branch, api.NotFound, "there is no project")
	refuse(t, stranger, api.GetStorage, &api.StorageInput{Project: "quays"}, api.NotFound, "there is no project")
	sizes := call(t, stranger, api.GetStorage, &api.StorageInput{})
	text, err = json.Marshal(sizes)
	require.NoError(t, err)
	require.NotContains(t, string(text), "quays")

	// Nor live: of two events the stranger hears one.
	time.Sleep(time.Second) // roles were given a moment ago: who listens then begins anew
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	body, err := client.Stream(limited, stranger.Client, api.GetEvents, &api.EventsInput{})
	require.NoError(t, err)
	defer body.Close()
	heard := make(chan string, 1)
	go func() {
		var all strings.Builder
		buffer := make([]byte, 4096)
		for !strings.Contains(all.String(), "A title") {
			n, err := body.Read(buffer)
			all.Write(buffer[:n])
			if err != nil {
				break
			}
		}
		heard <- all.String()
	}()
	time.Sleep(200 * time.Millisecond)
	title := "A title"
	for _, key := range []string{"quays", "vessels"} {
		edit := &api.ProjectEdit{ProjectInput: api.ProjectInput{Project: key}}
		edit.Body.Title = &title
		call(t, c.served, api.ChangeProject, edit)
	}
	text2 := <-heard
	require.Contains(t, text2, "vessels")
	require.NotContains(t, text2, "quays")

	// Who gets a role sees it, at once, and no longer when it is taken away.
	call(t, c.served, api.SetTeam, &api.TeamEdit{TeamInput: api.TeamInput{Team: "Harbour"}, Body: struct {
		People []string `json:"people" maxItems:"1000" doc:"All of them"`
	}{[]string{"Stranger"}}})
	call(t, c.served, api.SetProjectRole, &api.ProjectRoleInput{ProjectInput: quays.ProjectInput,
		Body: api.RoleEdit{Team: "Harbour", Role: "reader"}})
	require.Equal(t, "reader", call(t, stranger, api.GetProject, &quays.ProjectInput).Role)
	call(t, c.served, api.DropProjectRole, &api.ProjectRoleHolder{ProjectInput: quays.ProjectInput,
		RoleHolder: api.RoleHolder{Team: "Harbour"}})
	refuse(t, stranger, api.GetProject, &quays.ProjectInput, api.NotFound, "there is no project")
}

// Recorders write to their own runs only; members to all.
func TestRunsBelongToTheirMakers(t *testing.T) {
	c := newCast(t)
	maker, other, member := c.as(t, "Maker", nil), c.as(t, "A recorder", nil), c.others["member"]
	open := func(o *served) *api.NewLeg {
		in := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: 1}, Key: uuid.NewString()}
		in.Body.Recorder, in.Body.Started = uuid.NewString(), time.Now()
		return in
	}
	refuse(t, other, api.OpenLeg, open(other), api.Denied, "another made it")
	leg := open(maker)
	call(t, maker, api.OpenLeg, leg)
	in := api.LegInput{RunInput: leg.RunInput, Leg: 1, Recorder: leg.Body.Recorder}
	call(t, maker, api.SendBatch, batch(in, 1, 1, "loss.val", 0.5))
	refuse(t, other, api.SendBatch, batch(in, 2, 2, "loss.val", 0.1), api.Denied, "another made it")
	call(t, member, api.ShowLife, &in)
	title := &api.RunEdit{RunInput: leg.RunInput}
	text := "Not mine"
	title.Body.Title = &text
	refuse(t, other, api.ChangeRun, title, api.Denied, "role member")
	require.Equal(t, text, call(t, member, api.ChangeRun, title).Title)
}

// A token is no wider than the one it is made with, and only as wide as it says.
func TestNarrowTokens(t *testing.T) {
	c := newCast(t)
	owner := c.others["owner"]
	narrow := &api.NewToken{}
	narrow.Body.Name, narrow.Body.Days = "ship's computer", 1
	narrow.Body.Scope = api.Scope{Role: "recorder", Project: "vessels", Networks: []string{"127.0.0.1", "10.1.0.0/16"}}
	made := call(t, owner, api.CreateToken, narrow)
	require.Equal(t, &api.Scope{Role: "recorder", Project: "vessels",
		Networks: []string{"127.0.0.1/32", "10.1.0.0/16"}}, made.Scope)
	n := *owner
	n.Client = client.New(c.URL, made.Secret)
	require.Equal(t, made.Scope, call(t, &n, api.GetMe, &struct{}{}).Scope)
	require.Equal(t, "recorder", call(t, &n, api.GetProject, &vessels).Role)
	list := call(t, &n, api.ListProjects, &api.ProjectsInput{PageInput: api.PageInput{Limit: 10}})
	require.Len(t, list.Items, 1)
	refuse(t, &n, api.GetProject, &api.ProjectInput{Project: "quays"}, api.NotFound, "there is no project")
	refuse(t, &n, api.SetPassword,
		func() *api.PasswordInput { in := &api.PasswordInput{}; in.Body.Password = "a long password"; return in }(),
		api.Denied, "narrowed")
	refuse(t, &n, api.RevokeToken, &api.TokenInput{ID: made.ID}, api.Denied, "narrowed")
	for says, scope := range map[string]api.Scope{"recorder at most": {Role: "owner"},
		"project vessels only": {Project: "quays"}, "some addresses only": {Networks: []string{"0.0.0.0/0"}}} {
		in := &api.NewToken{}
		in.Body.Name, in.Body.Days, in.Body.Scope = "wider", 1, scope
		refuse(t, &n, api.CreateToken, in, api.Denied, says)
	}
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days = "as wide", 1
	require.Equal(t, made.Scope, call(t, &n, api.CreateToken, in).Scope, "what is left open is as there")
	in.Body.Scope.Networks = []string{"the harbour"}
	refuse(t, owner, api.CreateToken, in, api.Invalid, "no range of addresses")
}

// Somebody who leaves is closed: their sessions and tokens end at once, what they made stays under their name. The last
// administrator stays.
func TestPeopleLeave(t *testing.T) {
	c := newCast(t)
	maker := c.as(t, "Maker", nil)
	yes, no := true, false
	edit := func(name string, change func(e *api.PersonEdit)) *api.PersonEdit {
		e := &api.PersonEdit{PersonInput: api.PersonInput{Name: name}}
		change(e)
		return e
	}
	closed := call(t, c.served, api.ChangePerson, edit("Maker", func(e *api.PersonEdit) { e.Body.Closed = &yes }))
	require.NotNil(t, closed.Closed)
	refuse(t, maker, api.GetMe, &struct{}{}, api.SignedOut, "closed")
	require.Equal(t, "Maker", call(t, c.served, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: 1}).Who)
	refuse(t, c.served, api.CreateLinkFor, &api.PersonInput{Name: "Maker"}, api.Conflict, "closed")
	call(t, c.served, api.ChangePerson, edit("Maker", func(e *api.PersonEdit) { e.Body.Closed = &no }))
	call(t, maker, api.GetMe, &struct{}{})

	refuse(t, c.served, api.ChangePerson, edit("Ines", func(e *api.PersonEdit) { e.Body.Closed = &yes }), api.Conflict,
		"last administrator")
	refuse(t, c.served, api.ChangePerson, edit("Ines", func(e *api.PersonEdit) { e.Body.Administrator = &no }),
		api.Conflict, "last administrator")
	refuse(t, c.served, api.ChangePerson, edit("Buildhall", func(e *api.PersonEdit) { e.Body.Administrator = &yes }),
		api.Invalid, "machine")
	call(t, c.served, api.ChangePerson, edit("Maker", func(e *api.PersonEdit) { e.Body.Administrator = &yes }))
	call(t, maker, api.ChangePerson, edit("Ines", func(e *api.PersonEdit) { e.Body.Administrator = &no }))
	refuse(t, c.served, api.GetAudit,
		&api.ServiceAuditInput{AuditInput: api.AuditInput{PageInput: api.PageInput{Limit: 1}}},
		api.Denied, "administrator")

	// Two who take each other's: one stays.
	call(t, maker, api.ChangePerson, edit("Ines", func(e *api.PersonEdit) { e.Body.Administrator = &yes }))
	for range 5 {
		done := make(chan error, 2)
		go func() {
			_, err := client.Call(ctx, maker.Client, api.ChangePerson,
				edit("Ines", func(e *api.PersonEdit) { e.Body.Administrator = &no }))
			done <- err
		}()
		go func() {
			_, err := client.Call(ctx, c.Client, api.ChangePerson,
				edit("Maker", func(e *api.PersonEdit) { e.Body.Administrator = &no }))
			done <- err
		}()
		<-done
		<-done
		left, err := c.db.CountAdministrators(ctx)
		require.NoError(t, err)
		require.Positive(t, left)
		_, err = c.db.Pool.Exec(ctx, "update person set administrator = true where name in ('Ines', 'Maker')")
		require.NoError(t, err)
		time.Sleep(2100 * time.Millisecond) // tokens are remembered for two seconds
	}
}

// Events are written once: the database refuses to change them, and the chain shows what somebody did to it who can.
func TestAudit(t *testing.T) {
	c := newCast(t)
	_, err := c.db.Pool.Exec(ctx, "update event set verb = 'nothing'")
	require.ErrorContains(t, err, "written once")
	_, err = c.db.Pool.Exec(ctx, "delete from event")
	require.ErrorContains(t, err, "written once")
	_, err = c.db.Pool.Exec(ctx, "truncate event_chain")
	require.ErrorContains(t, err, "written once")

	c.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"wrong"}`, "Content-Type", "application/json")
	c.raw(t, "POST", "/api/v1/session", `{"name":"my long password","password":"x"}`, "Content-Type",
		"application/json")
	ask := func(change func(in *api.ServiceAuditInput)) []api.Event {
		in := &api.ServiceAuditInput{AuditInput: api.AuditInput{PageInput: api.PageInput{Limit: 100}}}
		change(in)
		return call(t, c.served, api.GetAudit, in).Items
	}
	failed := ask(func(in *api.ServiceAuditInput) { in.Verb = "sign-in-failed" })
	require.Len(t, failed, 2)
	failed = failed[1:]
	require.Equal(t, []string{"session", "Ines", "127.0.0.1"},
		[]string{failed[0].Kind, failed[0].Subject, failed[0].From})
	require.Len(t, ask(func(in *api.ServiceAuditInput) { in.Subject = "vessels/1" }), 1)
	require.Equal(t, "Maker", ask(func(in *api.ServiceAuditInput) { in.Subject, in.Kind = "vessels/1", "run" })[0].Who)
	for _, e := range ask(func(in *api.ServiceAuditInput) { in.Project = "quays" }) {
		require.Equal(t, "quays", e.Project)
	}
	owner := c.others["owner"]
	mine := call(t, owner, api.GetProjectAudit, &api.ProjectAuditInput{ProjectInput: vessels,
		AuditInput: api.AuditInput{PageInput: api.PageInput{Limit: 100}}})
	require.NotEmpty(t, mine.Items)
	text, err := json.Marshal(ask(func(*api.ServiceAuditInput) {}))
	require.NoError(t, err)
	require.NotContains(t, string(text), "kembrel_", "nothing secret is in it")
	require.NotContains(t, string(text), "my long password", "nor what was typed for a name")

	check := func() *api.AuditCheck { return call(t, c.served, api.CheckAudit, &struct{}{}) }
	id := failed[0].ID
	upTo := int64(0)
	require.NoError(t, c.db.Pool.QueryRow(ctx, "select count(*) from event where id <= $1", id).Scan(&upTo))
	require.Eventually(t, func() bool { out := check(); return out.Whole && out.Events >= upTo }, 30*time.Second,
		100*time.Millisecond, "they are chained a moment after they were written")
	force := func(sql string) {
		_, err := c.db.Pool.Exec(ctx,
			"alter table event disable trigger event_stays; "+sql+"; alter table event enable trigger event_stays")
		require.NoError(t, err)
	}
	force(fmt.Sprintf("update event set subject = 'maud' where id = %d", id))
	require.Equal(t, []any{false, id, "changed"}, []any{check().Whole, check().At, check().Why})
	force(fmt.Sprintf("update event set subject = 'Ines' where id = %d", id))
	require.True(t, check().Whole)
	force("insert into event (kind, verb, xact) values ('run', 'put in', '3')")
	require.Equal(t, "beside", check().Why)
	force("delete from event where verb = 'put in'")
	force(fmt.Sprintf("delete from event where id = %d", id))
	require.Equal(t, []any{false, id, "gone"}, []any{check().Whole, check().At, check().Why})
}

// Times in queries go over as they are meant.
func TestAuditSince(t *testing.T) {
	c := newCast(t)
	count := func(since, until time.Time) int {
		in := &api.ServiceAuditInput{AuditInput: api.AuditInput{PageInput: api.PageInput{Limit: 500},
			Since: since, Until: until}}
		return len(call(t, c.served, api.GetAudit, in).Items)
	}
	all := count(time.Time{}, time.Time{})
	require.Greater(t, all, 20)
	require.Equal(t, all, count(time.Now().Add(-time.Hour), time.Time{}))
	require.Equal(t, all, count(time.Time{}, time.Now().Add(time.Hour)))
	require.Zero(t, count(time.Now().Add(time.Hour), time.Time{}))
	require.Zero(t, count(time.Time{}, time.Now().Add(-time.Hour)))
}
