package people

import (
	"context"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

func toTeam(t store.Team) api.Team { return api.Team{Name: t.Name, People: t.People} }

// ListTeams lists teams.
func (s *People) ListTeams(ctx context.Context, _ act.Who, _ *struct{}) (*api.Page[api.Team], error) {
	rows, err := s.db.ListTeams(ctx, "")
	out := &api.Page[api.Team]{Items: make([]api.Team, len(rows))}
	for i, t := range rows {
		out.Items[i] = toTeam(t)
	}
	return out, err
}

// team finds a team by name.
func (s *People) team(ctx context.Context, name string) (store.Team, error) {
	rows, err := s.db.ListTeams(ctx, name)
	if err == nil && len(rows) == 0 {
		err = api.Fail(api.NotFound, "there is no team %.80q; kembrel teams lists them", name)
	}
	if err != nil {
		return store.Team{}, err
	}
	return rows[0], nil
}

// SetTeam makes a team, or says who is in it.
func (s *People) SetTeam(ctx context.Context, who act.Who, in *api.TeamEdit) (*api.Team, error) {
	name := strings.TrimSpace(act.Clean(in.Team))
	if name == "" {
		return nil, api.Fail(api.Invalid, "a team has a name")
	}
	people := slices.Clone(in.Body.People)
	for i := range people {
		p, err := s.person(ctx, people[i])
		if err != nil {
			return nil, err
		}
		people[i] = p.Name
	}
	slices.Sort(people)
	people = slices.Compact(people)
	defer s.credentialsEnded(ctx)
	err := s.db.InTx(ctx, func(q Tx) error {
		if _, err := q.SetTeam(ctx, name, people); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "team", Subject: name, Person: who.ID, Verb: "set",
			Data: map[string]any{"people": people}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	t, err := s.team(ctx, name)
	out := toTeam(t)
	return &out, err
}

// DropTeam deletes a team.
func (s *People) DropTeam(ctx context.Context, who act.Who, in *api.TeamInput) (*api.None, error) {
	t, err := s.team(ctx, in.Team)
	if err != nil {
		return nil, err
	}
	defer s.credentialsEnded(ctx)
	defer s.Live.News()
	return nil, s.db.InTx(ctx, func(q Tx) error {
		if _, err := q.DropTeam(ctx, t.Name); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "team", Subject: t.Name, Person: who.ID, Verb: "deleted"})
	})
}

// ListRoles lists the roles given on the service.
func (s *People) ListRoles(ctx context.Context, _ act.Who, _ *struct{}) (*api.Page[api.GivenRole], error) {
	return s.listRoles(ctx, nil)
}

// ListProjectRoles lists the roles given on a project.
func (s *People) ListProjectRoles(ctx context.Context, _ act.Who,
	in *api.ProjectInput) (*api.Page[api.GivenRole], error) {
	p, err := s.db.ProjectPlace(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	return s.listRoles(ctx, &p.ID)
}

func (s *People) listRoles(ctx context.Context, project *int64) (*api.Page[api.GivenRole], error) {
	rows, err := s.db.ListRoles(ctx, project)
	out := &api.Page[api.GivenRole]{Items: make([]api.GivenRole, len(rows))}
	for i, r := range rows {
		out.Items[i] = api.GivenRole{Person: r.Person, Team: r.Team, Role: api.RoleName(r.Role), Given: r.Given}
	}
	return out, err
}

// SetRole gives a role on the service.
func (s *People) SetRole(ctx context.Context, who act.Who, in *api.RoleInput) (*api.GivenRole, error) {
	return s.changeRole(ctx, who, "", api.RoleHolder{Person: in.Body.Person, Team: in.Body.Team}, in.Body.Role)
}

// DropRole takes a role on the service away.
func (s *People) DropRole(ctx context.Context, who act.Who, in *api.RoleHolder) (*api.None, error) {
	_, err := s.changeRole(ctx, who, "", *in, "")
	return nil, err
}

// SetProjectRole gives a role on a project.
func (s *People) SetProjectRole(ctx context.Context, who act.Who, in *api.ProjectRoleInput) (*api.GivenRole, error) {
	return s.changeRole(ctx, who, in.Project, api.RoleHolder{Person: in.Body.Person, Team: in.Body.Team}, in.Body.Role)
}

// DropProjectRole takes a role on a project away.
func (s *People) DropProjectRole(ctx context.Context, who act.Who, in *api.ProjectRoleHolder) (*api.None, error) {
	_, err := s.changeRole(ctx, who, in.Project, in.RoleHolder, "")
	return nil, err
}

// changeRole gives a role on a project ("": on the service), or takes the one that was given away ("").
func (s *People) changeRole(ctx context.Context, who act.Who, key string, holder api.RoleHolder,
	role api.RoleName) (*api.GivenRole, error) {
	if (holder.Person == "") == (holder.Team == "") {
		return nil, api.Fail(api.Invalid, "a role is a person's or a team's: name one of them")
	}
	e := store.Event{Kind: "role", Person: who.ID, Verb: "given", Subject: "the service",
		Data: map[string]any{"role": role}}
	out := &api.GivenRole{Role: role, Given: time.Now()}
	var project, person, team *int64
	if key != "" {
		p, err := s.db.ProjectPlace(ctx, key)
		if err != nil {
			return nil, err
		}
		project, e.Project, e.Subject = &p.ID, p.ID, key
	}
	if holder.Person != "" {
		p, err := s.person(ctx, holder.Person)
		if err != nil {
			return nil, err
		}
		person, out.Person, e.Data["person"] = &p.ID, p.Name, p.Name
	} else {
		t, err := s.team(ctx, holder.Team)
		if err != nil {
			return nil, err
		}
		team, out.Team, e.Data["team"] = &t.ID, t.Name, t.Name
	}
	defer s.credentialsEnded(ctx)
	err := s.db.InTx(ctx, func(q Tx) error {
		if role != "" {
			if err := q.SetRole(ctx, project, person, team, string(role)); err != nil {
				return err
			}
			return s.Event(ctx, q, e)
		}
		had, err := q.DropRole(ctx, project, person, team)
		if err != nil {
			return err
		}
		if !had {
			return api.Fail(api.NotFound, "%s%s has no role of their own on %s", out.Person, out.Team, e.Subject)
		}
		e.Verb = "taken"
		delete(e.Data, "role")
		return s.Event(ctx, q, e)
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return out, nil
}
