package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/store/pg"
)

// Who is the person behind a request; the zero value is nobody.
type Who struct {
	ID            int64
	Name          string
	Administrator bool
	hasPassword   bool
	session       []byte // hash of the session, where one was used
	credential    []byte // hash of the token or session
	token         int64  // the token used, or that the session comes from; 0: none
}

func whoIs(p pg.Person) Who {
	return Who{ID: p.ID, Name: p.Name, Administrator: p.Administrator, hasPassword: p.Password != nil}
}

// Allow is the one place that decides whether someone may call an operation.
func Allow(who Who, access api.Access) error {
	switch {
	case access == api.Anyone:
		return nil
	case who.ID == 0:
		return api.Fail(api.SignedOut, "sign in, or send a token: Authorization: Bearer ...")
	case access == api.Administrator && !who.Administrator:
		return api.Fail(api.Denied, "only an administrator may do this; %s is none", who.Name)
	}
	return nil
}

// tokenPrefix marks a personal token, so that one that leaks can be recognised.
const tokenPrefix = "kembrel_"

// SessionHours is how long a console session lasts.
const SessionHours = 24 * 14

func secret() string { return rand.Text() + rand.Text() }

func hashOf(secret string) []byte {
	h := sha256.Sum256([]byte(secret))
	return h[:]
}

// WhoByToken finds the person behind a token.
func (s *Service) WhoByToken(ctx context.Context, token string) (Who, error) {
	hash := hashOf(token)
	if known, ok := s.tokens.get(string(hash)); ok && time.Since(known.at) < tokenMemory {
		return known.who, nil
	}
	t, err := s.db.TokenPerson(ctx, hash)
	switch {
	case errors.Is(err, pg.ErrNone):
		return Who{}, api.Fail(api.SignedOut, "this token is not known here; create one with: kembrel tokens create")
	case err != nil:
		return Who{}, err
	case t.Revoked:
		return Who{}, api.Fail(api.SignedOut, "this token has been revoked; create another with: kembrel tokens create")
	case t.Expired:
		return Who{}, api.Fail(api.SignedOut, "this token has expired; create another with: kembrel tokens create")
	}
	if t.Stale {
		if err := s.db.TouchToken(ctx, t.Token); err != nil {
			s.options.Log.Warn("note the use of a token", "err", err)
		}
	}
	who := whoIs(t.Person)
	who.credential, who.token = hash, t.Token
	s.tokens.put(string(hash), knownToken{who, time.Now()})
	return who, nil
}

// A token that was good a moment ago is taken to be good: recorders call many times a second. A revoked one is forgotten at once by the
// replica that revokes it, and after this time by the others.
const tokenMemory = 2 * time.Second

type knownToken struct {
	who Who
	at  time.Time
}

// WhoBySession finds the person behind a console session.
func (s *Service) WhoBySession(ctx context.Context, session string) (Who, error) {
	p, err := s.db.SessionPerson(ctx, hashOf(session))
	if err != nil {
		return Who{}, orSignedOut(err)
	}
	who := whoIs(p.Person)
	who.session = hashOf(session)
	who.credential = who.session
	if p.Parent != nil {
		who.token = *p.Parent
	}
	return who, nil
}

func orSignedOut(err error) error {
	if errors.Is(err, pg.ErrNone) {
		return api.Fail(api.SignedOut, "this session has ended; sign in again")
	}
	return err
}

// SignIn checks a password and opens a session; from is the address of the caller, for the limit on tries.
func (s *Service) SignIn(ctx context.Context, in api.SignIn, from string) (session string, me *api.Me, err error) {
	if err := s.tries.allow(from, in.Name); err != nil {
		return "", nil, err
	}
	p, err := s.db.PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, pg.ErrNone) {
		return "", nil, err
	}
	hash := unusableHash // the same work for a name that is not known
	if err == nil && p.Password != nil {
		hash = *p.Password
	}
	right, failed := s.tries.check(ctx, hash, in.Password)
	if failed != nil {
		return "", nil, failed
	}
	if !right || err != nil {
		return "", nil, api.Fail(api.SignedOut, "name or password is not right")
	}
	return s.open(ctx, p, nil)
}

// SignInByLink uses up a one-time link and opens a session.
func (s *Service) SignInByLink(ctx context.Context, code, from string) (session string, me *api.Me, err error) {
	if err := s.tries.allow(from, ""); err != nil {
		return "", nil, err
	}
	p, err := s.db.UseLink(ctx, hashOf(code))
	if errors.Is(err, pg.ErrNone) {
		return "", nil, api.Fail(api.SignedOut, "this sign-in link has been used or has expired; create another with: kembrel sign-in --link")
	}
	if err != nil {
		return "", nil, err
	}
	return s.open(ctx, p.Person, p.Parent)
}

// open opens a session; parent is the token that it comes from.
func (s *Service) open(ctx context.Context, p pg.Person, parent *int64) (string, *api.Me, error) {
	session := secret()
	if err := s.db.AddSession(ctx, hashOf(session), p.ID, SessionHours, parent); err != nil {
		return "", nil, err
	}
	return session, me(whoIs(p)), nil
}

func me(w Who) *api.Me {
	return &api.Me{Name: w.Name, Administrator: w.Administrator, HasPassword: w.hasPassword}
}

// SignOut ends the caller's session.
func (s *Service) SignOut(ctx context.Context, who Who) error {
	if who.session == nil {
		return nil
	}
	defer s.credentialsEnded(ctx)
	return s.db.EndSession(ctx, who.session)
}

// Me says who is asking.
func (s *Service) Me(_ context.Context, who Who, _ *struct{}) (*api.Me, error) { return me(who), nil }

// SetPassword sets the caller's password; all their other sessions end, and their other tokens if they say so.
func (s *Service) SetPassword(ctx context.Context, who Who, in *api.PasswordInput) (*api.None, error) {
	defer s.credentialsEnded(ctx)
	p, err := s.db.PersonByName(ctx, who.Name)
	if err != nil {
		return nil, err
	}
	if p.Password != nil {
		if err := s.tries.allowOwn(p.Name); err != nil {
			return nil, err
		}
		right, err := s.tries.check(ctx, *p.Password, in.Body.Old)
		if err != nil {
			return nil, err
		}
		if !right {
			return nil, api.Fail(api.Denied, "the present password is not right")
		}
	}
	hash, err := s.tries.hash(ctx, in.Body.Password)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		if err := q.SetPassword(ctx, who.ID, hash, who.session); err != nil {
			return err
		}
		what := "password set"
		if in.Body.RevokeTokens {
			what = "password set, tokens revoked"
			if err := q.RevokeTokens(ctx, who.ID, who.token); err != nil {
				return err
			}
		}
		return q.AddEvent(ctx, pg.Event{Kind: "person", Person: who.ID, What: what})
	})
	return nil, err
}

// CreateLink makes a one-time sign-in link for the caller.
func (s *Service) CreateLink(ctx context.Context, who Who, _ *struct{}) (*api.Link, error) {
	code := rand.Text()
	expires, err := s.db.AddLink(ctx, hashOf(code), who.ID, madeWith(who))
	return &api.Link{Path: "/enter#" + code, Expires: expires}, err
}

// madeWith is the token that what somebody makes ends with; nil: none.
func madeWith(who Who) *int64 {
	if who.token == 0 {
		return nil
	}
	return &who.token
}

// ListPeople lists the people.
func (s *Service) ListPeople(ctx context.Context, _ Who, in *api.PageInput) (*api.Page[api.Me], error) {
	after, err := cursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	people, err := s.db.ListPeople(ctx, after, in.Limit+1)
	if err != nil {
		return nil, err
	}
	return page(people, in.Limit, func(p pg.Person) api.Me { return *me(whoIs(p)) }, func(p pg.Person) string { return fmt.Sprint(p.ID) }), nil
}

// AddPerson adds a person, with or without a password.
func (s *Service) AddPerson(ctx context.Context, who Who, in *api.NewPerson) (*api.Me, error) {
	p := pg.Person{Name: in.Body.Name, Administrator: in.Body.Administrator}
	if in.Body.Password != "" {
		hash, err := s.tries.hash(ctx, in.Body.Password)
		if err != nil {
			return nil, err
		}
		p.Password = &hash
	}
	if _, err := s.db.PersonByName(ctx, p.Name); err == nil {
		return nil, api.Fail(api.Conflict, "there is a person named %q", p.Name)
	} else if !errors.Is(err, pg.ErrNone) {
		return nil, err
	}
	err := s.db.InTx(ctx, func(q pg.Queries) error {
		if _, err := q.AddPerson(ctx, p); err != nil {
			return err
		}
		return q.AddEvent(ctx, pg.Event{Kind: "person", Person: who.ID, What: "added " + p.Name})
	})
	return me(whoIs(p)), err
}

// FirstStart makes the administrator of an empty service and returns whether it did.
func (s *Service) FirstStart(ctx context.Context, name string) (bool, error) {
	n, err := s.db.CountPeople(ctx)
	if err != nil || n > 0 {
		return false, err
	}
	_, err = s.db.AddPerson(ctx, pg.Person{Name: name, Administrator: true})
	return err == nil, err
}

// OwnerAccess gives whoever started the service on their own machine a token or a sign-in link as the first administrator.
func (s *Service) OwnerAccess(ctx context.Context) (Who, error) {
	p, err := s.db.FirstAdministrator(ctx)
	return whoIs(p), err
}

// ListTokens lists the caller's tokens.
func (s *Service) ListTokens(ctx context.Context, who Who, _ *struct{}) (*api.Page[api.Token], error) {
	tokens, err := s.db.ListTokens(ctx, who.ID)
	out := &api.Page[api.Token]{Items: make([]api.Token, len(tokens))}
	for i, t := range tokens {
		out.Items[i] = api.Token(t)
	}
	return out, err
}

// CreateToken makes a personal token; its secret is in the answer and nowhere else.
func (s *Service) CreateToken(ctx context.Context, who Who, in *api.NewToken) (*api.CreatedToken, error) {
	sec := tokenPrefix + secret()
	var t pg.Token
	err := s.db.InTx(ctx, func(q pg.Queries) (err error) {
		if t, err = q.AddToken(ctx, who.ID, clean(in.Body.Name), hashOf(sec), in.Body.Days, madeWith(who)); err != nil {
			return err
		}
		return q.AddEvent(ctx, pg.Event{Kind: "person", Person: who.ID, What: "token made: " + t.Name})
	})
	return &api.CreatedToken{Token: api.Token(t), Secret: sec}, err
}

// RevokeToken ends a token of the caller, with the tokens, sessions and links that were made with it.
func (s *Service) RevokeToken(ctx context.Context, who Who, in *api.TokenInput) (*api.None, error) {
	defer s.credentialsEnded(ctx)
	return nil, s.db.InTx(ctx, func(q pg.Queries) error {
		done, err := q.RevokeToken(ctx, who.ID, in.ID)
		if err != nil {
			return err
		}
		if !done {
			return api.Fail(api.NotFound, "you have no token %d; kembrel tokens lists yours", in.ID)
		}
		return q.AddEvent(ctx, pg.Event{Kind: "person", Person: who.ID, What: fmt.Sprintf("token %d revoked", in.ID)})
	})
}
