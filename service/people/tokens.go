package people

import (
	"context"
	"fmt"
	"net/netip"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

func toToken(t store.Token) api.Token {
	return api.Token{ID: t.ID, Name: t.Name, Created: t.Created, Expires: t.Expires, Revoked: t.Revoked,
		Used: t.Used, From: t.UsedFrom,
		Parent: t.Parent, Scope: toScope(t.Scope)}
}

func toTokens(rows []store.Token) []api.Token {
	out := make([]api.Token, len(rows))
	for i, t := range rows {
		out[i] = toToken(t)
	}
	return out
}

// ListTokens lists the caller's tokens.
func (s *People) ListTokens(ctx context.Context, who act.Who, _ *struct{}) (*api.Page[api.Token], error) {
	tokens, err := s.db.ListTokens(ctx, who.ID)
	return &api.Page[api.Token]{Items: toTokens(tokens)}, err
}

// CreateToken makes a personal token; its secret is in the answer and nowhere else. It is not wider than the token it
// is made with.
func (s *People) CreateToken(ctx context.Context, who act.Who, in *api.NewToken) (*api.CreatedToken, error) {
	if err := narrower(who.Scope, &in.Body.Scope); err != nil {
		return nil, err
	}
	return s.createToken(ctx, who, who.ID, who.Name, madeWith(who), in)
}

// narrower refuses a scope that is wider than that of the token it is made with; what it leaves open is as there.
func narrower(has store.Scope, wants *api.Scope) error {
	refuse := func(format string, args ...any) error { return api.Fail(api.Denied, format, args...) }
	if has.Role != nil {
		most := api.RoleName(*has.Role)
		if wants.Role == "" {
			wants.Role = most
		}
		if wants.Role.Of() > most.Of() {
			return refuse("the token used is %s at most; so is what is made with it", most)
		}
	}
	if has.Project != nil {
		if wants.Project == "" {
			wants.Project = *has.Project
		}
		if wants.Project != *has.Project {
			return refuse("the token used is for project %s only; so is what is made with it", *has.Project)
		}
	}
	if len(has.Networks) > 0 {
		if len(wants.Networks) > 0 {
			return refuse("the token used is for some addresses only; what is made with it is for the same")
		}
		wants.Networks = has.Networks
	}
	return nil
}

// networks checks address ranges; an address alone is a range of one.
func networks(texts []string) ([]string, error) {
	if len(texts) > 20 {
		return nil, api.Fail(api.Invalid, "%d address ranges are more than 20", len(texts))
	}
	out := []string{}
	for _, text := range texts {
		p, err := netip.ParsePrefix(text)
		if address, failed := netip.ParseAddr(text); failed == nil {
			p, err = netip.PrefixFrom(address, address.BitLen()), nil
		}
		if err != nil {
			return nil, api.Fail(api.Invalid,
				"%.60q is no range of addresses; write 10.1.0.0/16 or 2001:db8::/32", text)
		}
		out = append(out, p.Masked().String())
	}
	return out, nil
}

func (s *People) createToken(ctx context.Context, who act.Who, person int64, name string, parent *int64,
	in *api.NewToken) (*api.CreatedToken, error) {
	sec := tokenPrefix + secret()
	t := store.NewToken{Person: person, Name: act.Clean(in.Body.Name), Hash: hashOf(sec),
		Days: in.Body.Days, Parent: parent}
	data := map[string]any{"token": t.Name, "days": t.Days}
	if in.Body.Scope.Role != "" {
		role, err := api.ParseRole(string(in.Body.Scope.Role))
		if err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
		text := role.String()
		t.Role, data["role"] = &text, text
	}
	if key := in.Body.Scope.Project; key != "" {
		if sees, err := s.Sees(ctx, key); err != nil || !sees {
			if err == nil {
				err = act.NoProject(key)
			}
			return nil, err
		}
		p, err := s.db.ProjectPlace(ctx, key)
		if err != nil {
			return nil, err
		}
		t.Project, data["project"] = &p.ID, key
	}
	var err error
	if t.Networks, err = networks(in.Body.Scope.Networks); err != nil {
		return nil, err
	}
	if len(t.Networks) > 0 {
		data["networks"] = t.Networks
	}
	var made store.Token
	err = s.db.InTx(ctx, func(q Tx) (err error) {
		if made, err = q.AddToken(ctx, t); err != nil {
			return err
		}
		data["number"] = made.ID
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: name, Person: who.ID,
			Verb: "token-created", Data: data})
	})
	return &api.CreatedToken{Token: toToken(made), Secret: sec}, err
}

// RevokeToken ends a token of the caller, with the tokens, sessions and links that were made with it.
func (s *People) RevokeToken(ctx context.Context, who act.Who, in *api.TokenInput) (*api.None, error) {
	defer s.credentialsEnded(ctx)
	return nil, s.db.InTx(ctx, func(q Tx) error {
		done, err := q.RevokeToken(ctx, who.ID, in.ID)
		if err != nil {
			return err
		}
		if !done {
			return api.Fail(api.NotFound, "you have no token %d; kembrel tokens lists yours", in.ID)
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: who.Name, Person: who.ID, Verb: "token-revoked",
			Data: map[string]any{"number": in.ID}})
	})
}

func toSessions(rows []store.Session, who act.Who) []api.Session {
	out := make([]api.Session, len(rows))
	for i, r := range rows {
		out[i] = api.Session{ID: r.ID, Created: r.Created, Used: r.Used, Expires: r.Expires, From: r.Place,
			This: string(r.Hash) == string(who.Session)}
	}
	return out
}

// ListSessions lists the caller's open sessions.
func (s *People) ListSessions(ctx context.Context, who act.Who, _ *struct{}) (*api.Page[api.Session], error) {
	rows, err := s.db.ListSessions(ctx, who.ID)
	return &api.Page[api.Session]{Items: toSessions(rows, who)}, err
}

// EndSession ends one of the caller's sessions.
func (s *People) EndSession(ctx context.Context, who act.Who, in *api.SessionInput) (*api.None, error) {
	defer s.credentialsEnded(ctx)
	return nil, s.db.InTx(ctx, func(q Tx) error {
		done, err := q.EndOneSession(ctx, who.ID, in.ID)
		if err != nil {
			return err
		}
		if !done {
			return api.Fail(api.NotFound, "you have no session %d", in.ID)
		}
		return s.Event(ctx, q, store.Event{Kind: "session", Subject: who.Name, Person: who.ID, Verb: "ended",
			Data: map[string]any{"number": in.ID}})
	})
}

// ListCredentials lists a person's tokens and sessions.
func (s *People) ListCredentials(ctx context.Context, who act.Who, in *api.PersonInput) (*api.Credentials, error) {
	p, err := s.person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	tokens, err := s.db.ListTokens(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	sessions, err := s.db.ListSessions(ctx, p.ID)
	return &api.Credentials{Tokens: toTokens(tokens), Sessions: toSessions(sessions, who)}, err
}

// EndCredentials ends all tokens and sessions of a person.
func (s *People) EndCredentials(ctx context.Context, who act.Who, in *api.PersonInput) (*api.None, error) {
	p, err := s.person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	defer s.credentialsEnded(ctx)
	return nil, s.db.InTx(ctx, func(q Tx) error {
		if err := q.EndSessions(ctx, p.ID); err != nil {
			return err
		}
		if err := q.RevokeTokens(ctx, p.ID, 0); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: p.Name, Person: who.ID, Verb: "credentials-ended"})
	})
}

// CreateLinkFor makes a one-time sign-in link for a person. It is theirs alone, whoever asked for it.
func (s *People) CreateLinkFor(ctx context.Context, who act.Who, in *api.PersonInput) (*api.Link, error) {
	p, err := s.person(ctx, in.Name)
	switch {
	case err != nil:
		return nil, err
	case p.Kind == "machine":
		return nil, api.Fail(api.Conflict, "%s is a machine, which does not sign in; create a token for it", p.Name)
	case p.Closed != nil:
		return nil, api.Fail(api.Conflict, "%s is closed; let them in again first", p.Name)
	}
	code := secret()
	var out api.Link
	err = s.db.InTx(ctx, func(q Tx) (err error) {
		if out.Expires, err = q.AddLink(ctx, hashOf(code), p.ID, nil); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: p.Name, Person: who.ID,
			Verb: "sign-in-link-created"})
	})
	out.Path = "/enter#" + code
	return &out, err
}

// CreateTokenFor makes a token for a machine.
func (s *People) CreateTokenFor(ctx context.Context, who act.Who, in *api.NewTokenFor) (*api.CreatedToken, error) {
	p, err := s.person(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	if p.Kind != "machine" {
		return nil, api.Fail(api.Conflict,
			"%s is a person and creates their own tokens; only machines are given them", p.Name)
	}
	return s.createToken(ctx, who, p.ID, p.Name, nil, &in.NewToken)
}

// person finds a person by name.
func (s *People) person(ctx context.Context, name string) (store.Person, error) {
	p, err := s.db.PersonByName(ctx, name)
	return p, act.OrNotFound(err, "there is nobody named %s; kembrel people lists everybody",
		fmt.Sprintf("%.80q", name))
}
