package people

import (
	"context"
	"errors"
	"fmt"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

func toPerson(p store.ListedPerson) api.Person {
	out := api.Person{Name: p.Name, Kind: p.Kind, Administrator: p.Administrator, Teams: p.Teams, Team: p.Team,
		Email: p.Email, Closed: p.Closed}
	if p.Role != nil {
		out.Role = api.RoleName(*p.Role)
	}
	return out
}

// ListPeople lists people and machines.
func (s *People) ListPeople(ctx context.Context, who act.Who, in *api.PageInput) (*api.Page[api.Person], error) {
	after, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	people, err := s.db.ListPeople(ctx, "", after, in.Limit+1)
	if err != nil {
		return nil, err
	}
	shown := func(p store.ListedPerson) api.Person {
		out := toPerson(p)
		if who.OnService() < api.Administrator && p.ID != who.ID {
			out.Email = ""
		}
		return out
	}
	return act.Page(people, in.Limit, shown, func(p store.ListedPerson) string { return fmt.Sprint(p.ID) }), nil
}

func (s *People) getPerson(ctx context.Context, name string) (*api.Person, error) {
	rows, err := s.db.ListPeople(ctx, name, 0, 1)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	out := toPerson(rows[0])
	return &out, nil
}

// AddPerson adds a person, with or without a password, or a machine.
func (s *People) AddPerson(ctx context.Context, who act.Who, in *api.NewPerson) (*api.Person, error) {
	b := in.Body
	p := store.Person{Name: b.Name, Administrator: b.Administrator, Kind: "person", Email: act.Clean(b.Email)}
	if b.Machine {
		p.Kind = "machine"
		if b.Password != "" || b.Administrator {
			return nil, api.Fail(api.Invalid, "a machine has no password and is no administrator; it has tokens")
		}
	} else if b.Team != "" {
		return nil, api.Fail(api.Invalid,
			"a machine belongs to a team; people are put into one with: kembrel teams set")
	}
	if b.Team != "" {
		if _, err := s.team(ctx, b.Team); err != nil {
			return nil, err
		}
	}
	if b.Password != "" {
		hash, err := s.tries.hash(ctx, b.Password)
		if err != nil {
			return nil, err
		}
		p.Password = &hash
	}
	if _, err := s.db.PersonByName(ctx, p.Name); err == nil {
		return nil, api.Fail(api.Conflict, "there is a person named %q", p.Name)
	} else if !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	err := s.db.InTx(ctx, func(q Tx) error {
		id, err := q.AddPerson(ctx, p, b.Team)
		if err != nil {
			return err
		}
		data := map[string]any{"kind": p.Kind}
		if p.Administrator {
			data["administrator"] = true
		}
		if b.Role != "" {
			data["role"] = b.Role
			if err := q.SetRole(ctx, nil, &id, nil, string(b.Role)); err != nil {
				return err
			}
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: p.Name, Person: who.ID, Verb: "added", Data: data})
	})
	if err != nil {
		return nil, err
	}
	return s.getPerson(ctx, p.Name)
}

// ChangePerson changes what a person is. The last administrator who can sign in stays one.
func (s *People) ChangePerson(ctx context.Context, who act.Who, in *api.PersonEdit) (*api.Person, error) {
	p, err := s.person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	b := in.Body
	if p.Kind == "machine" && b.Administrator != nil && *b.Administrator {
		return nil, api.Fail(api.Invalid, "a machine is no administrator")
	}
	if b.Role != nil && *b.Role != "" && b.Role.Of() == 0 {
		return nil, api.Fail(api.Invalid, "%.40q is no role", *b.Role)
	}
	defer s.credentialsEnded(ctx)
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.LockAdministrators(ctx); err != nil {
			return err
		}
		if err := q.ChangePerson(ctx, store.PersonEdit{ID: p.ID, Administrator: b.Administrator, Closed: b.Closed,
			Email: b.Email}); err != nil {
			return err
		}
		left, err := q.CountAdministrators(ctx)
		if err != nil {
			return err
		}
		if left == 0 {
			return api.Fail(api.Conflict,
				"%s is the last administrator who can sign in; make somebody else one first", p.Name)
		}
		data := map[string]any{}
		if b.Role != nil {
			data["role"] = *b.Role
			if *b.Role == "" {
				_, err = q.DropRole(ctx, nil, &p.ID, nil)
			} else {
				err = q.SetRole(ctx, nil, &p.ID, nil, string(*b.Role))
			}
			if err != nil {
				return err
			}
		}
		if b.Administrator != nil {
			data["administrator"] = *b.Administrator
		}
		if b.Email != nil {
			data["email"] = act.Clean(*b.Email)
		}
		verb := "changed"
		switch {
		case b.Closed != nil && *b.Closed:
			verb = "closed"
		case b.Closed != nil:
			verb = "let-in-again"
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: p.Name, Person: who.ID, Verb: verb, Data: data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.getPerson(ctx, p.Name)
}

// Rescue makes a sign-in link for an administrator: for whoever holds the machine itself, where nobody can sign in any
// more. There is always one, as the last cannot be lost.
func (s *People) Rescue(ctx context.Context) (*api.Link, string, error) {
	p, err := s.db.FirstAdministrator(ctx)
	if errors.Is(err, store.ErrNone) {
		return nil, "", errors.New("there is no administrator who can sign in; the database was changed by hand")
	}
	if err != nil {
		return nil, "", err
	}
	code := secret()
	var out api.Link
	err = s.db.InTx(ctx, func(q Tx) (err error) {
		if out.Expires, err = q.AddLink(ctx, hashOf(code), p.ID, nil); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "service", Subject: p.Name, Verb: "rescue-link-created"})
	})
	out.Path = "/enter#" + code
	return &out, p.Name, err
}
