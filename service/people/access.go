package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"kembrel/store"

	"kembrel/api"
	"kembrel/service/act"
)

func whoIs(p store.Person) act.Who {
	return act.Who{ID: p.ID, Name: p.Name, Administrator: p.Administrator, HasPassword: p.Password != nil}
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
func (s *People) WhoByToken(ctx context.Context, token string) (act.Who, error) {
	hash := hashOf(token)
	if known, ok := s.tokens.Get(string(hash)); ok && time.Since(known.at) < tokenMemory {
		return known.who, nil
	}
	t, err := s.db.TokenPerson(ctx, hash)
	switch {
	case errors.Is(err, store.ErrNone):
		return act.Who{}, api.Fail(api.SignedOut, "this token is not known here; create one with: kembrel tokens create")
	case err != nil:
		return act.Who{}, err
	case t.Revoked:
		return act.Who{}, api.Fail(api.SignedOut, "this token has been revoked; create another with: kembrel tokens create")
	case t.Expired:
		return act.Who{}, api.Fail(api.SignedOut, "this token has expired; create another with: kembrel tokens create")
	}
	if t.Stale {
		if err := s.db.TouchToken(ctx, t.Token); err != nil {
			s.Log.Warn("note the use of a token", "err", err)
		}
	}
	who := whoIs(t.Person)
	who.Credential, who.Token = hash, t.Token
	s.tokens.Put(string(hash), knownToken{who, time.Now()})
	return who, nil
}

// A token that was good a moment ago is taken to be good: recorders call many times a second. A revoked one is forgotten at once by the
// replica that revokes it, and after this time by the others.
const tokenMemory = 2 * time.Second

type knownToken struct {
	who act.Who
	at  time.Time
}

// WhoBySession finds the person behind a console session.
func (s *People) WhoBySession(ctx context.Context, session string) (act.Who, error) {
	p, err := s.db.SessionPerson(ctx, hashOf(session))
	if err != nil {
		return act.Who{}, orSignedOut(err)
	}
	who := whoIs(p.Person)
	who.Session = hashOf(session)
	who.Credential = who.Session
	if p.Parent != nil {
		who.Token = *p.Parent
	}
	return who, nil
}

func orSignedOut(err error) error {
	if errors.Is(err, store.ErrNone) {
		return api.Fail(api.SignedOut, "this session has ended; sign in again")
	}
	return err
}

// SignIn checks a password and opens a session; from is the address of the caller, for the limit on tries.
func (s *People) SignIn(ctx context.Context, in api.SignIn, from string) (session string, me *api.Me, err error) {
	if err := s.tries.allow(from, in.Name); err != nil {
		return "", nil, err
	}
	p, err := s.db.PersonByName(ctx, in.Name)
	if err != nil && !errors.Is(err, store.ErrNone) {
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
func (s *People) SignInByLink(ctx context.Context, code, from string) (session string, me *api.Me, err error) {
	if err := s.tries.allow(from, ""); err != nil {
		return "", nil, err
	}
	p, err := s.db.UseLink(ctx, hashOf(code))
	if errors.Is(err, store.ErrNone) {
		return "", nil, api.Fail(api.SignedOut, "this sign-in link has been used or has expired; create another with: kembrel sign-in --link")
	}
	if err != nil {
		return "", nil, err
	}
	return s.open(ctx, p.Person, p.Parent)
}

// open opens a session; parent is the token that it comes from.
func (s *People) open(ctx context.Context, p store.Person, parent *int64) (string, *api.Me, error) {
	session := secret()
	if err := s.db.AddSession(ctx, hashOf(session), p.ID, SessionHours, parent); err != nil {
		return "", nil, err
	}
	return session, me(whoIs(p)), nil
}

func me(w act.Who) *api.Me {
	return &api.Me{Name: w.Name, Administrator: w.Administrator, HasPassword: w.HasPassword}
}

// SignOut ends the caller's session.
func (s *People) SignOut(ctx context.Context, who act.Who) error {
	if who.Session == nil {
		return nil
	}
	defer s.credentialsEnded(ctx)
	return s.db.EndSession(ctx, who.Session)
}

// Me says who is asking.
func (s *People) Me(_ context.Context, who act.Who, _ *struct{}) (*api.Me, error) {
	return me(who), nil
}

// SetPassword sets the caller's password; all their other sessions end, and their other tokens if they say so.
func (s *People) SetPassword(ctx context.Context, who act.Who, in *api.PasswordInput) (*api.None, error) {
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
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetPassword(ctx, who.ID, hash, who.Session); err != nil {
			return err
		}
		what := "password set"
		if in.Body.RevokeTokens {
			what = "password set, tokens revoked"
			if err := q.RevokeTokens(ctx, who.ID, who.Token); err != nil {
				return err
			}
		}
		return q.AddEvent(ctx, store.Event{Kind: "person", Person: who.ID, What: what})
	})
	return nil, err
}

// CreateLink makes a one-time sign-in link for the caller.
func (s *People) CreateLink(ctx context.Context, who act.Who, _ *struct{}) (*api.Link, error) {
	code := rand.Text()
	expires, err := s.db.AddLink(ctx, hashOf(code), who.ID, madeWith(who))
	return &api.Link{Path: "/enter#" + code, Expires: expires}, err
}

// madeWith is the token that what somebody makes ends with; nil: none.
func madeWith(who act.Who) *int64 {
	if who.Token == 0 {
		return nil
	}
	return &who.Token
}

// ListPeople lists the people.
func (s *People) ListPeople(ctx context.Context, _ act.Who, in *api.PageInput) (*api.Page[api.Me], error) {
	after, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	people, err := s.db.ListPeople(ctx, after, in.Limit+1)
	if err != nil {
		return nil, err
	}
	return act.Page(people, in.Limit, func(p store.Person) api.Me { return *me(whoIs(p)) }, func(p store.Person) string { return fmt.Sprint(p.ID) }), nil
}

// AddPerson adds a person, with or without a password.
func (s *People) AddPerson(ctx context.Context, who act.Who, in *api.NewPerson) (*api.Me, error) {
	p := store.Person{Name: in.Body.Name, Administrator: in.Body.Administrator}
	if in.Body.Password != "" {
		hash, err := s.tries.hash(ctx, in.Body.Password)
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
		if _, err := q.AddPerson(ctx, p); err != nil {
			return err
		}
		return q.AddEvent(ctx, store.Event{Kind: "person", Person: who.ID, What: "added " + p.Name})
	})
	return me(whoIs(p)), err
}

// FirstStart makes the administrator of an empty service and returns whether it did.
func (s *People) FirstStart(ctx context.Context, name string) (bool, error) {
	n, err := s.db.CountPeople(ctx)
	if err != nil || n > 0 {
		return false, err
	}
	_, err = s.db.AddPerson(ctx, store.Person{Name: name, Administrator: true})
	return err == nil, err
}

// OwnerAccess gives whoever started the service on their own machine a token or a sign-in link as the first administrator.
func (s *People) OwnerAccess(ctx context.Context) (act.Who, error) {
	p, err := s.db.FirstAdministrator(ctx)
	return whoIs(p), err
}

// ListTokens lists the caller's tokens.
func (s *People) ListTokens(ctx context.Context, who act.Who, _ *struct{}) (*api.Page[api.Token], error) {
	tokens, err := s.db.ListTokens(ctx, who.ID)
	out := &api.Page[api.Token]{Items: make([]api.Token, len(tokens))}
	for i, t := range tokens {
		out.Items[i] = api.Token(t)
	}
	return out, err
}

// CreateToken makes a personal token; its secret is in the answer and nowhere else.
func (s *People) CreateToken(ctx context.Context, who act.Who, in *api.NewToken) (*api.CreatedToken, error) {
	sec := tokenPrefix + secret()
	var t store.Token
	err := s.db.InTx(ctx, func(q Tx) (err error) {
		if t, err = q.AddToken(ctx, who.ID, act.Clean(in.Body.Name), hashOf(sec), in.Body.Days, madeWith(who)); err != nil {
			return err
		}
		return q.AddEvent(ctx, store.Event{Kind: "person", Person: who.ID, What: "token made: " + t.Name})
	})
	return &api.CreatedToken{Token: api.Token(t), Secret: sec}, err
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
		return q.AddEvent(ctx, store.Event{Kind: "person", Person: who.ID, What: fmt.Sprintf("token %d revoked", in.ID)})
	})
}
