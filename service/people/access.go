package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"net/netip"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// whoIs is a person with their roles, as far as a token lets them be that.
func (s *People) whoIs(ctx context.Context, p store.Person, scope store.Scope) (act.Who, error) {
	roles, err := s.db.PersonRoles(ctx, p.ID)
	who := act.Who{ID: p.ID, Name: p.Name, Administrator: p.Administrator, HasPassword: p.Password != nil,
		Machine: p.Kind == "machine", Scope: scope}
	return who.With(roles), err
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

// WhoByToken finds the person behind a token that is used from an address.
func (s *People) WhoByToken(ctx context.Context, token, from string) (act.Who, error) {
	hash := hashOf(token)
	if known, ok := s.tokens.Get(string(hash)); ok && time.Since(known.at) < tokenMemory {
		return known.who, within(known.who.Scope, from)
	}
	t, err := s.db.TokenPerson(ctx, hash)
	switch {
	case errors.Is(err, store.ErrNone):
		return act.Who{}, api.Fail(api.SignedOut,
			"this token is not known here; create one with: kembrel tokens create")
	case err != nil:
		return act.Who{}, err
	case t.Closed != nil:
		return act.Who{}, api.Fail(api.SignedOut, "%s was closed by an administrator, and with them this token", t.Name)
	case t.Revoked:
		return act.Who{}, api.Fail(api.SignedOut,
			"this token has been revoked; create another with: kembrel tokens create")
	case t.Expired:
		return act.Who{}, api.Fail(api.SignedOut, "this token has expired; create another with: kembrel tokens create")
	}
	if err := within(t.Scope, from); err != nil {
		return act.Who{}, err
	}
	if t.Stale {
		if err := s.db.TouchToken(ctx, t.Token, from); err != nil {
			s.Log.Warn("note the use of a token", "err", err)
		}
	}
	who, err := s.whoIs(ctx, t.Person, t.Scope)
	if err != nil {
		return act.Who{}, err
	}
	who.Credential, who.Token = hash, t.Token
	s.tokens.Put(string(hash), knownToken{who, time.Now()})
	return who, nil
}

// within refuses a token that is used from an address which it is not for.
func within(scope store.Scope, from string) error {
	if len(scope.Networks) == 0 {
		return nil
	}
	if address, err := netip.ParseAddr(from); err == nil {
		for _, text := range scope.Networks {
			if network, err := netip.ParsePrefix(text); err == nil && network.Contains(address.Unmap()) {
				return nil
			}
		}
	}
	return api.Fail(api.SignedOut, "this token is for use from %s, not from %s",
		strings.Join(scope.Networks, ", "), from)
}

// A token that was good a moment ago is taken to be good: recorders call many times a second. A revoked one is
// forgotten at once by the replica that revokes it, and after this time by the others.
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
	if err := within(p.Scope, act.Place(ctx)); err != nil {
		return act.Who{}, err
	}
	who, err := s.whoIs(ctx, p.Person, p.Scope)
	if err != nil {
		return act.Who{}, err
	}
	who.Session = hashOf(session)
	who.Credential = who.Session
	if p.Parent != nil {
		who.Token = *p.Parent
	}
	if p.Stale {
		if err := s.db.TouchSession(ctx, who.Session); err != nil {
			s.Log.Warn("note the use of a session", "err", err)
		}
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
	if !right || err != nil || p.Closed != nil {
		name := p.Name
		if name == "" { // it may be a password, typed in the wrong place
			name = "a name that is not known here"
		}
		s.note(ctx, store.Event{Kind: "session", Subject: name, Verb: "sign-in-failed",
			Data: map[string]any{"with": "password"}})
		return "", nil, api.Fail(api.SignedOut, "name or password is not right")
	}
	return s.open(ctx, p, nil, store.Scope{}, "password", store.Elsewhere{})
}

// SignInByLink uses up a one-time link and opens a session.
func (s *People) SignInByLink(ctx context.Context, code, from string) (session string, me *api.Me, err error) {
	if err := s.tries.allow(from, ""); err != nil {
		return "", nil, err
	}
	p, err := s.db.UseLink(ctx, hashOf(code))
	if errors.Is(err, store.ErrNone) {
		s.note(ctx, store.Event{Kind: "session", Subject: "a link", Verb: "sign-in-failed",
			Data: map[string]any{"with": "link"}})
		return "", nil, api.Fail(api.SignedOut,
			"this sign-in link has been used or has expired; create another with: kembrel sign-in --link")
	}
	if err != nil {
		return "", nil, err
	}
	return s.open(ctx, p.Person, p.Parent, p.Scope, "link", store.Elsewhere{})
}

// open opens a session; parent is the token that it comes from.
func (s *People) open(ctx context.Context, p store.Person, parent *int64, scope store.Scope, with string,
	at store.Elsewhere) (string, *api.Me, error) {
	session := secret()
	err := s.db.InTx(ctx, func(q Tx) error {
		if err := q.AddSession(ctx, hashOf(session), p.ID, SessionHours, parent, act.Place(ctx), at); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "session", Subject: p.Name, Person: p.ID, Verb: "signed-in",
			Data: map[string]any{"with": with}})
	})
	if err != nil {
		return "", nil, err
	}
	who, err := s.whoIs(ctx, p, scope)
	return session, me(who), err
}

// note writes an event of its own; what fails of it is logged only.
func (s *People) note(ctx context.Context, e store.Event) {
	err := s.db.InTx(ctx, func(q Tx) error { return s.Event(ctx, q, e) })
	if err != nil {
		s.Log.Warn("an event is lost", "kind", e.Kind, "verb", e.Verb, "err", err)
	}
}

func me(w act.Who) *api.Me {
	out := &api.Me{Name: w.Name, Administrator: w.OnService() == api.Administrator, HasPassword: w.HasPassword,
		Scope: toScope(w.Scope)}
	if r := w.OnService(); r >= api.Reader {
		out.Role = api.RoleName(min(r, api.Owner).String())
	}
	return out
}

// toScope is what a token is narrowed to; nil: nothing.
func toScope(s store.Scope) *api.Scope {
	if s.Role == nil && s.Project == nil && len(s.Networks) == 0 {
		return nil
	}
	out := &api.Scope{Networks: s.Networks}
	if s.Role != nil {
		out.Role = api.RoleName(*s.Role)
	}
	if s.Project != nil {
		out.Project = *s.Project
	}
	return out
}

// SignOut ends the caller's session. Where they were signed in elsewhere, it returns the address at which they are
// signed out there too.
func (s *People) SignOut(ctx context.Context, who act.Who) (elsewhere string, err error) {
	if who.Session == nil {
		return "", nil
	}
	if at, err := s.db.SessionElsewhere(ctx, who.Session); err == nil && at.Provider != "" {
		elsewhere = s.providers.endAddress(at)
	}
	defer s.credentialsEnded(ctx)
	return elsewhere, s.db.InTx(ctx, func(q Tx) error {
		if err := q.EndSession(ctx, who.Session); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "session", Subject: who.Name, Person: who.ID, Verb: "signed-out"})
	})
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
		if in.Body.RevokeTokens {
			if err := q.RevokeTokens(ctx, who.ID, who.Token); err != nil {
				return err
			}
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: who.Name, Person: who.ID, Verb: "password-set",
			Data: map[string]any{"tokens_revoked": in.Body.RevokeTokens}})
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

// FirstStart makes the administrator of an empty service and returns whether it did.
func (s *People) FirstStart(ctx context.Context, name string) (bool, error) {
	n, err := s.db.CountPeople(ctx)
	if err != nil || n > 0 {
		return false, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		id, err := q.AddPerson(ctx, store.Person{Name: name, Administrator: true}, "")
		if err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "person", Subject: name, Person: id, Verb: "added",
			Data: map[string]any{"administrator": true, "by": "the first start"}})
	})
	return err == nil, err
}

// OwnerAccess gives whoever started the service on their own machine a token or a sign-in link as the first
// administrator.
func (s *People) OwnerAccess(ctx context.Context) (act.Who, error) {
	p, err := s.db.FirstAdministrator(ctx)
	if err != nil {
		return act.Who{}, err
	}
	return s.whoIs(ctx, p, store.Scope{})
}
