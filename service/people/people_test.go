package people

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/slicetest"
	"kembrel/store"
)

type (
	storage = Storage
	tx      = Tx
)

// crew is a storage of people in memory.
type crew struct {
	storage
	tx
	h      *slicetest.Harbour
	people []store.ListedPerson
	teams  map[string][]string
	roles  map[string]string // by holder and place
	links  map[string]int64  // by hash
	tokens []store.NewToken
	ended  []int64 // tokens
	asked  int     // times that a token was looked up
	full   bool
}

func (c *crew) AddEvent(ctx context.Context, e store.Event) error { return c.h.AddEvent(ctx, e) }

func (c *crew) RunOf(ctx context.Context, run int64) (int64, string, error) {
	return c.h.RunOf(ctx, run)
}

func (c *crew) ProjectPlace(ctx context.Context, key string) (store.Place, error) {
	return c.h.ProjectPlace(ctx, key)
}

func (c *crew) InTx(_ context.Context, do func(q Tx) error) error {
	people, events := slices.Clone(c.people), c.h.Events
	err := do(c)
	if err == nil && c.full {
		err = errors.New("the disk is full")
	}
	if err != nil {
		c.people, c.h.Events = people, events
	}
	return err
}

func (c *crew) at(name string) int {
	return slices.IndexFunc(c.people, func(p store.ListedPerson) bool { return strings.EqualFold(p.Name, name) })
}

func (c *crew) PersonByName(_ context.Context, name string) (store.Person, error) {
	if i := c.at(name); i >= 0 {
		return c.people[i].Person, nil
	}
	return store.Person{}, store.ErrNone
}

func (c *crew) ListPeople(_ context.Context, name string, after int64, limit int) (out []store.ListedPerson,
	err error) {
	for _, p := range c.people {
		if (name == "" || p.Name == name) && p.ID > after && len(out) < limit {
			out = append(out, p)
		}
	}
	return out, nil
}

func (c *crew) PersonRoles(context.Context, int64) ([]store.RoleOn, error) { return nil, nil }

func (c *crew) GoodCredentials(context.Context, [][]byte) ([][]byte, error) { return nil, nil }

func (c *crew) AddPerson(_ context.Context, p store.Person, team string) (int64, error) {
	p.ID = int64(len(c.people) + 1)
	c.people = append(c.people, store.ListedPerson{Person: p, Team: team})
	return p.ID, nil
}

func (c *crew) ChangePerson(_ context.Context, in store.PersonEdit) error {
	p := &c.people[in.ID-1]
	if in.Administrator != nil {
		p.Administrator = *in.Administrator
	}
	if in.Closed != nil {
		p.Closed = nil
		if now := time.Now(); *in.Closed {
			p.Closed = &now
		}
	}
	if in.Email != nil {
		p.Email = *in.Email
	}
	return nil
}

func (c *crew) LockAdministrators(context.Context) error { return nil }

func (c *crew) CountAdministrators(context.Context) (n int64, err error) {
	for _, p := range c.people {
		if p.Administrator && p.Closed == nil {
			n++
		}
	}
	return n, nil
}

func (c *crew) FirstAdministrator(context.Context) (store.Person, error) {
	for _, p := range c.people {
		if p.Administrator && p.Closed == nil {
			return p.Person, nil
		}
	}
	return store.Person{}, store.ErrNone
}

func place(project, person, team *int64) string {
	text := "service"
	if project != nil {
		text = "project"
	}
	if team != nil {
		return text + " team"
	}
	return text + " " + string(rune('0'+*person))
}

func (c *crew) SetRole(_ context.Context, project, person, team *int64, role string) error {
	c.roles[place(project, person, team)] = role
	return nil
}

func (c *crew) DropRole(_ context.Context, project, person, team *int64) (bool, error) {
	_, had := c.roles[place(project, person, team)]
	delete(c.roles, place(project, person, team))
	return had, nil
}

func (c *crew) ListTeams(_ context.Context, name string) (out []store.Team, err error) {
	for n, p := range c.teams {
		if name == "" || n == name {
			out = append(out, store.Team{ID: 1, Name: n, People: p})
		}
	}
	return out, nil
}

func (c *crew) SetTeam(_ context.Context, name string, people []string) (int64, error) {
	c.teams[name] = people
	return 1, nil
}

func (c *crew) DropTeam(_ context.Context, name string) (bool, error) {
	delete(c.teams, name)
	return true, nil
}

func (c *crew) AddLink(_ context.Context, hash []byte, person int64, _ *int64) (time.Time, error) {
	c.links[string(hash)] = person
	return time.Now().Add(time.Hour), nil
}

func (c *crew) UseLink(_ context.Context, hash []byte) (store.OpenedBy, error) {
	id, known := c.links[string(hash)]
	delete(c.links, string(hash))
	if !known {
		return store.OpenedBy{}, store.ErrNone
	}
	return store.OpenedBy{Person: c.people[id-1].Person}, nil
}

func (c *crew) AddSession(context.Context, []byte, int64, int, *int64, string, store.Elsewhere) error {
	return nil
}

func (c *crew) AddToken(_ context.Context, t store.NewToken) (store.Token, error) {
	c.tokens = append(c.tokens, t)
	return store.Token{ID: int64(len(c.tokens)), Name: t.Name}, nil
}

func (c *crew) TokenPerson(_ context.Context, hash []byte) (store.TokenPerson, error) {
	c.asked++
	for i, t := range c.tokens {
		if string(t.Hash) == string(hash) {
			return store.TokenPerson{Token: int64(i + 1), Person: c.people[t.Person-1].Person,
				Revoked: slices.Contains(c.ended, int64(i+1)),
				Scope:   store.Scope{Networks: t.Networks, Role: t.Role}}, nil
		}
	}
	return store.TokenPerson{}, store.ErrNone
}

func (c *crew) RevokeToken(_ context.Context, person, id int64) (bool, error) {
	if id < 1 || int(id) > len(c.tokens) || c.tokens[id-1].Person != person {
		return false, nil
	}
	c.ended = append(c.ended, id)
	return true, nil
}

func fresh(t *testing.T) (*People, *crew, context.Context, act.Who) {
	h := slicetest.New(0)
	c := &crew{h: h, teams: map[string][]string{}, roles: map[string]string{}, links: map[string]int64{}}
	c.people = []store.ListedPerson{{Person: store.Person{ID: 1, Name: "Ines", Administrator: true, Kind: "person"}}}
	who := act.Who{ID: 1, Name: "Ines", Administrator: true}
	return New(h.Finder().Act, c), c, act.As(t.Context(), who, "192.0.2.1"), who
}

func add(t *testing.T, s *People, ctx context.Context, who act.Who, change func(in *api.NewPerson)) error {
	t.Helper()
	in := &api.NewPerson{}
	in.Body.Name = "Teo"
	change(in)
	_, err := s.AddPerson(ctx, who, in)
	return err
}

func TestAddPeopleAndMachines(t *testing.T) {
	s, c, ctx, who := fresh(t)
	c.teams["Sonar"] = nil
	require.NoError(t, add(t, s, ctx, who, func(in *api.NewPerson) { in.Body.Role = "member" }))
	require.Equal(t, "member", c.roles["service 2"])
	require.True(t, api.Is(add(t, s, ctx, who, func(in *api.NewPerson) { in.Body.Name = "teo" }), api.Conflict),
		"names are told apart whatever their case")
	require.NoError(t, add(t, s, ctx, who, func(in *api.NewPerson) {
		in.Body.Name, in.Body.Machine, in.Body.Team = "buildhall", true, "Sonar"
	}))
	for says, change := range map[string]func(in *api.NewPerson){
		"a machine has no password": func(in *api.NewPerson) {
			in.Body.Machine,
				in.Body.Password = true, "a b c d e f"
		},
		"is no administrator": func(in *api.NewPerson) { in.Body.Machine, in.Body.Administrator = true, true },
		"belongs to a team":   func(in *api.NewPerson) { in.Body.Team = "Sonar" },
		"there is no team":    func(in *api.NewPerson) { in.Body.Machine, in.Body.Team = true, "None" },
	} {
		require.ErrorContains(t, add(t, s, ctx, who, func(in *api.NewPerson) { in.Body.Name = "x"; change(in) }), says)
	}
	c.full = true
	require.ErrorContains(t, add(t, s, ctx, who, func(in *api.NewPerson) { in.Body.Name = "late" }), "disk is full")
	require.Len(t, c.people, 3)
	require.Len(t, c.h.Events, 2)
}

// The last administrator who can sign in stays one, whichever way they are to go.
func TestLastAdministrator(t *testing.T) {
	s, c, ctx, who := fresh(t)
	no, yes := false, true
	change := func(name string, administrator, closed *bool) error {
		in := &api.PersonEdit{PersonInput: api.PersonInput{Name: name}}
		in.Body.Administrator, in.Body.Closed = administrator, closed
		_, err := s.ChangePerson(ctx, who, in)
		return err
	}
	require.ErrorContains(t, change("Ines", &no, nil), "the last administrator")
	require.ErrorContains(t, change("Ines", nil, &yes), "the last administrator")
	require.True(t, c.people[0].Administrator)
	require.Empty(t, c.h.Events)
	require.NoError(t, add(t, s, ctx, who, func(*api.NewPerson) {}))
	require.NoError(t, change("Teo", &yes, nil))
	require.NoError(t, change("Ines", nil, &yes))
	require.ErrorContains(t, change("Teo", &no, nil), "the last administrator")
	require.NoError(t, change("Ines", nil, &no))
	require.Equal(t, []string{"person Teo added", "person Teo changed", "person Ines closed",
		"person Ines let-in-again"}, c.h.Verbs())
	require.True(t, api.Is(change("Nobody", nil, nil), api.NotFound))

	link, name, err := s.Rescue(t.Context())
	require.NoError(t, err)
	require.Equal(t, "Ines", name)
	_, code, _ := strings.Cut(link.Path, "#")
	_, me, err := s.SignInByLink(ctx, code, "192.0.2.1")
	require.NoError(t, err)
	require.True(t, me.Administrator)
	_, _, err = s.SignInByLink(ctx, code, "192.0.2.1")
	require.True(t, api.Is(err, api.SignedOut), "once")
}

func TestLinksForOthers(t *testing.T) {
	s, c, ctx, who := fresh(t)
	require.NoError(t, add(t, s, ctx, who, func(*api.NewPerson) {}))
	require.NoError(t, add(t, s, ctx, who, func(in *api.NewPerson) {
		in.Body.Name,
			in.Body.Machine = "buildhall", true
	}))
	_, err := s.CreateLinkFor(ctx, who, &api.PersonInput{Name: "Teo"})
	require.NoError(t, err)
	_, err = s.CreateLinkFor(ctx, who, &api.PersonInput{Name: "buildhall"})
	require.ErrorContains(t, err, "does not sign in")
	now := time.Now()
	c.people[1].Closed = &now
	_, err = s.CreateLinkFor(ctx, who, &api.PersonInput{Name: "Teo"})
	require.ErrorContains(t, err, "let them in again first")
	_, err = s.CreateTokenFor(ctx, who, &api.NewTokenFor{PersonInput: api.PersonInput{Name: "Teo"}})
	require.ErrorContains(t, err, "only machines are given them")
}

// A token is known until it is revoked, is no wider than what it is made with, and is for the addresses it names.
func TestTokens(t *testing.T) {
	s, c, ctx, who := fresh(t)
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days, in.Body.Networks = "laptop", 30, []string{"192.0.2.0/24"}
	in.Body.Role = "recorder"
	made, err := s.CreateToken(ctx, who, in)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(made.Secret, tokenPrefix))
	require.NotContains(t, string(c.tokens[0].Hash), made.Secret)
	for _, e := range c.h.Events {
		for _, v := range e.Data {
			require.NotEqual(t, made.Secret, v, "nothing secret in the audit")
		}
	}
	got, err := s.WhoByToken(ctx, made.Secret, "192.0.2.9")
	require.NoError(t, err)
	require.Equal(t, "Ines", got.Name)
	require.True(t, got.Narrowed())
	asked := c.asked
	_, err = s.WhoByToken(ctx, made.Secret, "198.51.100.1")
	require.ErrorContains(t, err, "is for use from 192.0.2.0/24, not from 198.51.100.1")
	require.Equal(t, asked, c.asked, "what was good a moment ago is not asked for again")

	wider := &api.NewToken{}
	wider.Body.Name, wider.Body.Role = "wide", "owner"
	_, err = s.CreateToken(ctx, got, wider)
	require.True(t, api.Is(err, api.Denied))
	wider.Body.Role = ""
	_, err = s.CreateToken(ctx, got, wider)
	require.NoError(t, err)
	require.Equal(t, "recorder", *c.tokens[1].Role, "what it leaves open is as there")
	require.Equal(t, []string{"192.0.2.0/24"}, c.tokens[1].Networks)

	_, err = s.RevokeToken(ctx, who, &api.TokenInput{ID: 9})
	require.ErrorContains(t, err, "you have no token 9")
	_, err = s.RevokeToken(ctx, who, &api.TokenInput{ID: 1})
	require.NoError(t, err)
	_, err = s.WhoByToken(ctx, made.Secret, "192.0.2.9")
	require.ErrorContains(t, err, "has been revoked")
	_, err = s.WhoByToken(ctx, "kembrel_none", "192.0.2.9")
	require.ErrorContains(t, err, "not known here")
	in.Body.Project = "docks"
	_, err = s.CreateToken(ctx, who, in)
	require.True(t, api.Is(err, api.NotFound))
}

func TestSignIn(t *testing.T) {
	s, c, ctx, who := fresh(t)
	require.NoError(t, add(t, s, ctx, who, func(in *api.NewPerson) { in.Body.Password = "nine grey gulls" }))
	session, me, err := s.SignIn(ctx, api.SignIn{Name: "Teo", Password: "nine grey gulls"}, "192.0.2.1")
	require.NoError(t, err)
	require.NotEmpty(t, session)
	require.True(t, me.HasPassword)
	for name, password := range map[string]string{"Teo": "ten grey gulls", "nine grey gulls": "x", "Ines": ""} {
		_, _, err := s.SignIn(ctx, api.SignIn{Name: name, Password: password}, "192.0.2.1")
		require.ErrorContains(t, err, "name or password is not right")
	}
	for _, e := range c.h.Events {
		require.NotContains(t, e.Subject, "gulls", "a password typed in the wrong place is not kept")
	}
	now := time.Now()
	c.people[1].Closed = &now
	_, _, err = s.SignIn(ctx, api.SignIn{Name: "Teo", Password: "nine grey gulls"}, "192.0.2.1")
	require.ErrorContains(t, err, "name or password is not right", "who is closed is told no more")
	for range 20 {
		_, _, err = s.SignIn(ctx, api.SignIn{Name: "Rolf", Password: "x"}, "192.0.2.1")
	}
	require.True(t, api.Is(err, api.TooMany))
	_, _, err = s.SignIn(ctx, api.SignIn{Name: "Rolf", Password: "x"}, "198.51.100.7")
	require.False(t, api.Is(err, api.TooMany), "another address is not kept out")
}

func TestTeamsAndRoles(t *testing.T) {
	s, c, ctx, who := fresh(t)
	require.NoError(t, add(t, s, ctx, who, func(*api.NewPerson) {}))
	edit := &api.TeamEdit{}
	edit.Team, edit.Body.People = "Sonar", []string{"teo", "Ines", "Teo"}
	team, err := s.SetTeam(ctx, who, edit)
	require.NoError(t, err)
	require.Equal(t, []string{"Ines", "Teo"}, team.People, "each once, as they are written")
	edit.Body.People = []string{"Nobody"}
	_, err = s.SetTeam(ctx, who, edit)
	require.ErrorContains(t, err, `there is nobody named "Nobody"`)

	give := func(project, person, team string, role api.RoleName) error {
		if project == "" {
			in := &api.RoleInput{}
			in.Body.Person, in.Body.Team, in.Body.Role = person, team, role
			_, err := s.SetRole(ctx, who, in)
			return err
		}
		in := &api.ProjectRoleInput{ProjectInput: api.ProjectInput{Project: project}}
		in.Body.Person, in.Body.Team, in.Body.Role = person, team, role
		_, err := s.SetProjectRole(ctx, who, in)
		return err
	}
	require.NoError(t, give("", "Teo", "", "reader"))
	require.NoError(t, give("quays", "", "Sonar", "owner"))
	require.Equal(t, map[string]string{"service 2": "reader", "project team": "owner"}, c.roles)
	require.ErrorContains(t, give("quays", "Teo", "Sonar", "owner"), "name one of them")
	require.ErrorContains(t, give("quays", "", "", "owner"), "name one of them")
	require.ErrorContains(t, give("quays", "", "None", "owner"), "there is no team")
	last := c.h.Events[len(c.h.Events)-1]
	require.Equal(t, "quays", last.Subject)
	require.EqualValues(t, 2, last.Project)
	_, err = s.DropRole(ctx, who, &api.RoleHolder{Person: "Teo"})
	require.NoError(t, err)
	_, err = s.DropRole(ctx, who, &api.RoleHolder{Person: "Teo"})
	require.ErrorContains(t, err, "Teo has no role of their own on the service")
	_, err = s.DropTeam(ctx, who, &api.TeamInput{Team: "Sonar"})
	require.NoError(t, err)
	_, err = s.DropTeam(ctx, who, &api.TeamInput{Team: "Sonar"})
	require.True(t, api.Is(err, api.NotFound))
}

// Addresses of mail are for administrators and for oneself.
func TestListPeople(t *testing.T) {
	s, c, ctx, _ := fresh(t)
	c.people[0].Email = "ines@harbour.example"
	c.people = append(c.people, store.ListedPerson{Person: store.Person{ID: 2, Name: "Teo", Kind: "person",
		Email: "teo@harbour.example"}})
	list := func(who act.Who) (out []string) {
		page, err := s.ListPeople(ctx, who, &api.PageInput{Limit: 10})
		require.NoError(t, err)
		for _, p := range page.Items {
			out = append(out, p.Email)
		}
		return out
	}
	require.Equal(t, []string{"ines@harbour.example", "teo@harbour.example"}, list(act.Who{ID: 1, Administrator: true}))
	require.Equal(t, []string{"", "teo@harbour.example"}, list(act.Who{ID: 2}))
}
