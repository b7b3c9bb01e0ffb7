package people

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"sync"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// Provider is a service elsewhere that people sign in with by OpenID Connect: authorization code flow with PKCE (RFC
// 7636), discovery, and keys that may be changed there at any time.
type Provider struct {
	Name         string            `json:"name"`  // in addresses: letters, digits, hyphens
	Title        string            `json:"title"` // on the button
	Issuer       string            `json:"issuer"`
	ClientID     string            `json:"client_id"`
	ClientSecret string            `json:"client_secret"`
	SecretFile   string            `json:"client_secret_file"` // or a file that holds it
	Scopes       []string          `json:"scopes"`             // beside openid, profile and email
	GroupsClaim  string            `json:"groups_claim"`       // "groups" unless said
	Teams        map[string]string `json:"teams"`              // group there → team here: membership follows
	Add          bool              `json:"add"`                // whoever signs in there and is unknown here is added
	Role         string            `json:"role"`               // on the service, of those who are added; "": none
}

var providerName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)

// ReadProviders reads a file of providers: a JSON list.
func ReadProviders(path string) ([]Provider, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("providers: %w", err)
	}
	var list []Provider
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.DisallowUnknownFields()
	if err := d.Decode(&list); err != nil {
		return nil, fmt.Errorf("providers: %s: %w", path, err)
	}
	seen := map[string]bool{}
	for i := range list {
		p := &list[i]
		switch {
		case !providerName.MatchString(p.Name) || seen[p.Name]:
			return nil,
				fmt.Errorf("providers: %s: %q is no name of its own; write lower-case letters, digits and hyphens",
					path, p.Name)
		case p.Issuer == "" || p.ClientID == "":
			return nil, fmt.Errorf("providers: %s: %s needs an issuer and a client_id", path, p.Name)
		case p.Role != "" && api.RoleName(p.Role).Of() == 0:
			return nil, fmt.Errorf("providers: %s: %s gives the role %q, which there is not", path, p.Name, p.Role)
		}
		if p.SecretFile != "" {
			secret, err := os.ReadFile(p.SecretFile)
			if err != nil {
				return nil, fmt.Errorf("providers: %w", err)
			}
			p.ClientSecret = strings.TrimSpace(string(secret))
		}
		seen[p.Name] = true
		p.Title = cmp.Or(p.Title, p.Name)
		p.GroupsClaim = cmp.Or(p.GroupsClaim, "groups")
	}
	return list, nil
}

// providers are those that there are, each found out about when it is first needed, and again after a time: one that is
// away does not keep the service from starting.
type providers struct {
	list  []Provider
	log   *slog.Logger
	mutex sync.Mutex
	found map[string]*discovered
}

type discovered struct {
	*oidc.Provider
	end string // end_session_endpoint
	iss bool   // it names itself in what it sends back (RFC 9207)
	at  time.Time
}

// providerAge is how long what was found out about a provider holds; its keys are looked up whenever one is unknown.
const providerAge = time.Hour

// providerTime is how long a provider may take to answer.
const providerTime = 10 * time.Second

var providerClient = &http.Client{Timeout: providerTime}

// SignInWith says which providers there are. It is called once, before anything is asked.
func (s *People) SignInWith(list []Provider) { s.providers.list, s.providers.log = list, s.Log }

// ListProviders lists the services that people sign in with.
func (s *People) ListProviders(_ context.Context, _ act.Who, _ *struct{}) (*api.Page[api.Provider], error) {
	out := &api.Page[api.Provider]{Items: []api.Provider{}}
	for _, p := range s.providers.list {
		out.Items = append(out.Items, api.Provider{Name: p.Name, Title: p.Title, Path: "/oidc/" + p.Name})
	}
	return out, nil
}

func (p *providers) named(name string) (Provider, error) {
	for _, one := range p.list {
		if one.Name == name {
			return one, nil
		}
	}
	return Provider{}, api.Fail(api.NotFound, "there is no sign-in with %.40q here", name)
}

func (p *providers) discover(ctx context.Context, of Provider) (*discovered, error) {
	p.mutex.Lock()
	known := p.found[of.Name]
	p.mutex.Unlock()
	if known != nil && time.Since(known.at) < providerAge {
		return known, nil
	}
	// Its keys are fetched long after this request, so what it keeps must not end with it.
	found, err := oidc.NewProvider(oidc.ClientContext(context.WithoutCancel(ctx), providerClient), of.Issuer)
	if err != nil {
		if known != nil {
			return known, nil
		}
		return nil, p.silent(of, err)
	}
	var more struct {
		End string `json:"end_session_endpoint"`
		Iss bool   `json:"authorization_response_iss_parameter_supported"`
	}
	if err := found.Claims(&more); err != nil {
		return nil, p.silent(of, err)
	}
	d := &discovered{Provider: found, end: more.End, iss: more.Iss, at: time.Now()}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.found == nil {
		p.found = map[string]*discovered{}
	}
	p.found[of.Name] = d
	return d, nil
}

// silent says that a provider does not answer as it should. How is in the log alone: whoever signs in is a stranger
// yet, and errors name addresses of the inside.
func (p *providers) silent(of Provider, err error) error {
	if p.log != nil {
		p.log.Warn("a sign-in provider does not answer as it should", "provider", of.Name, "err", err)
	}
	return api.Fail(api.Unavailable,
		"%s does not answer as it should; an administrator finds the reason in the service's log",
		of.Title)
}

func (p *providers) config(of Provider, d *discovered, back string) oauth2.Config {
	return oauth2.Config{ClientID: of.ClientID, ClientSecret: of.ClientSecret, Endpoint: d.Endpoint(),
		RedirectURL: back,
		Scopes:      append([]string{oidc.ScopeOpenID, "profile", "email"}, of.Scopes...)}
}

// endAddress is where a session at a provider is ended by whoever had it (OpenID Connect RP-Initiated Logout); "" where
// it has no such place.
func (p *providers) endAddress(at store.Elsewhere) string {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	d := p.found[at.Provider]
	if d == nil || d.end == "" {
		return ""
	}
	u, err := url.Parse(d.end)
	if err != nil {
		return ""
	}
	q := u.Query()
	q.Set("id_token_hint", at.IDToken)
	u.RawQuery = q.Encode()
	return u.String()
}

// BeginElsewhere begins a sign-in with a provider: it returns the address to send the browser to, and the state that
// the browser must bring back. back is where the provider sends it, next the page to go to in the end.
func (s *People) BeginElsewhere(ctx context.Context, name, back, next string) (address, state string, err error) {
	if err := s.tries.allowBegin(act.Place(ctx)); err != nil {
		return "", "", err
	}
	p, err := s.providers.named(name)
	if err != nil {
		return "", "", err
	}
	d, err := s.providers.discover(ctx, p)
	if err != nil {
		return "", "", err
	}
	state = secret()
	t := store.SignInTry{Verifier: oauth2.GenerateVerifier(), Nonce: secret(), Next: next}
	if err := s.db.AddTry(ctx, hashOf(state), p.Name, t); err != nil {
		return "", "", err
	}
	config := s.providers.config(p, d, back)
	return config.AuthCodeURL(state, oidc.Nonce(t.Nonce), oauth2.S256ChallengeOption(t.Verifier)), state, nil
}

// claims are what a provider says of somebody.
type claims struct {
	Email    string `json:"email"`
	Verified bool   `json:"email_verified"`
	Name     string `json:"name"`
	Short    string `json:"preferred_username"`
	SID      string `json:"sid"`
	groups   []string
}

// FinishElsewhere uses up a sign-in with what the provider sent back and opens a session.
func (s *People) FinishElsewhere(ctx context.Context, name, back, code, iss, state,
	from string) (session, next string, err error) {
	p, err := s.providers.named(name)
	if err != nil {
		return "", "", err
	}
	t, err := s.db.UseTry(ctx, hashOf(state), p.Name)
	if err != nil {
		if errors.Is(err, store.ErrNone) {
			err = api.Fail(api.SignedOut, "this sign-in has been used or took too long; begin it anew")
		}
		return "", "", err
	}
	refuse := func(err error) (string, string, error) {
		s.note(ctx, store.Event{Kind: "session", Subject: p.Name, Verb: "sign-in-failed",
			Data: map[string]any{"with": p.Name, "why": err.Error()}})
		var ours saidOf
		if !errors.As(err, &ours) { // those of libraries name addresses
			err = errors.New("its answer cannot be believed; an administrator finds the reason in the audit")
		}
		return "", "", api.Fail(api.SignedOut, "%s could not say who you are: %v", p.Title, err)
	}
	d, err := s.providers.discover(ctx, p)
	if err != nil {
		return "", "", err
	}
	if iss != p.Issuer && (iss != "" || d.iss) { // RFC 9207: another provider's answer is not taken for this one's
		return refuse(saidOf("the answer names another issuer"))
	}
	ctx = oidc.ClientContext(ctx, providerClient)
	config := s.providers.config(p, d, back)
	token, err := config.Exchange(ctx, code, oauth2.VerifierOption(t.Verifier))
	if err != nil {
		return refuse(saidOf("it did not take the code that it gave"))
	}
	raw, _ := token.Extra("id_token").(string)
	id, err := d.Verifier(&oidc.Config{ClientID: p.ClientID}).Verify(ctx, raw)
	if err != nil {
		return refuse(err)
	}
	if id.Nonce != t.Nonce {
		return refuse(saidOf("its answer is to another sign-in"))
	}
	c, err := s.claims(ctx, p, d, id, token)
	if err != nil {
		return refuse(err)
	}
	person, err := s.personElsewhere(ctx, p, id.Subject, c)
	if err != nil {
		var known *api.Problem
		if errors.As(err, &known) {
			s.note(ctx, store.Event{Kind: "session", Subject: cmp.Or(c.Email, c.Short, id.Subject),
				Verb: "sign-in-failed", Data: map[string]any{"with": p.Name}})
		}
		return "", "", err
	}
	session, _, err = s.open(ctx, person, nil, store.Scope{}, p.Name,
		store.Elsewhere{Provider: p.Name, Subject: id.Subject, SID: c.SID, IDToken: raw})
	return session, t.Next, err
}

// saidOf is what is wrong with a provider's answer, in words that a stranger may read.
type saidOf string

func (e saidOf) Error() string { return string(e) }

// claims gathers what the token says, and what more the provider says of whoever has it.
func (s *People) claims(ctx context.Context, p Provider, d *discovered, id *oidc.IDToken,
	token *oauth2.Token) (claims, error) {
	all := map[string]json.RawMessage{}
	if err := id.Claims(&all); err != nil {
		return claims{}, err
	}
	if _, has := all["email"]; (!has || len(p.Teams) > 0 && all[p.GroupsClaim] == nil) && d.UserInfoEndpoint() != "" {
		info, err := d.UserInfo(ctx, oauth2.StaticTokenSource(token))
		if err != nil {
			return claims{}, err
		}
		if info.Subject != id.Subject {
			return claims{}, saidOf("it speaks of somebody else")
		}
		more := map[string]json.RawMessage{}
		if err := info.Claims(&more); err != nil {
			return claims{}, err
		}
		for name, v := range more {
			if _, has := all[name]; !has {
				all[name] = v
			}
		}
	}
	var c claims
	text, err := json.Marshal(all)
	if err == nil {
		err = json.Unmarshal(text, &c)
	}
	if err != nil {
		return claims{}, err
	}
	json.Unmarshal(all[p.GroupsClaim], &c.groups) // one that is no list of texts names no group
	return c, nil
}

// personElsewhere is who somebody at a provider is here: who was joined to them before, the one person with their
// verified address, or, where the provider is told to add people, somebody new. Their teams follow their groups.
func (s *People) personElsewhere(ctx context.Context, p Provider, subject string, c claims) (store.Person, error) {
	who := cmp.Or(c.Email, c.Short, subject)
	person, err := s.db.IdentityPerson(ctx, p.Name, subject)
	known := err == nil
	if err != nil && !errors.Is(err, store.ErrNone) {
		return person, err
	}
	if !known && c.Verified && c.Email != "" {
		found, err := s.db.PeopleByEmail(ctx, c.Email)
		if err != nil {
			return person, err
		}
		if len(found) == 1 {
			person = found[0]
			other, err := s.db.HasIdentity(ctx, p.Name, person.ID)
			if err != nil {
				return person, err
			}
			if other {
				return person, api.Fail(api.Denied,
					"%s knows you as %s, an address that another account there has used here; an administrator finds out who is who", p.Title, who)
			}
		}
	}
	if person.ID == 0 && !p.Add {
		return person, api.Fail(api.Denied,
			"%s knows you as %s, but nobody here has that address; an administrator sets it with: kembrel people change NAME --email", p.Title, who)
	}
	if person.Closed != nil {
		return person, api.Fail(api.Denied, "%s is closed here", person.Name)
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if person.ID == 0 {
			if person, err = s.addElsewhere(ctx, q, p, c, who); err != nil {
				return err
			}
		}
		if !known {
			if err := q.AddIdentity(ctx, p.Name, subject, person.ID); err != nil {
				return err
			}
			if err := s.Event(ctx, q, store.Event{Kind: "person", Subject: person.Name, Person: person.ID,
				Verb: "joined", Data: map[string]any{"provider": p.Name, "as": who}}); err != nil {
				return err
			}
		}
		var named, wanted []string
		for group, team := range p.Teams {
			named = append(named, team)
			for _, g := range c.groups {
				if g == group {
					wanted = append(wanted, team)
				}
			}
		}
		if len(named) == 0 {
			return nil
		}
		return q.JoinTeams(ctx, person.ID, named, append([]string{}, wanted...))
	})
	return person, err
}

// addElsewhere adds somebody whom a provider vouches for, under a name that nobody has.
func (s *People) addElsewhere(ctx context.Context, q Tx, p Provider, c claims, who string) (store.Person, error) {
	base := plainName(cmp.Or(c.Name, c.Short, who))
	name := base
	for n := 2; ; n++ {
		if _, err := s.db.PersonByName(ctx, name); errors.Is(err, store.ErrNone) {
			break
		} else if err != nil {
			return store.Person{}, err
		}
		name = fmt.Sprintf("%s %d", base, n)
	}
	person := store.Person{Name: name, Kind: "person"}
	if c.Verified {
		person.Email = act.Clean(c.Email)
	}
	id, err := q.AddPerson(ctx, person, "")
	if err != nil {
		return person, err
	}
	person.ID = id
	if p.Role != "" {
		if err := q.SetRole(ctx, nil, &id, nil, p.Role); err != nil {
			return person, err
		}
	}
	return person, s.Event(ctx, q, store.Event{Kind: "person", Subject: name, Verb: "added",
		Data: map[string]any{"by": p.Name, "role": p.Role}})
}

var oddInNames = regexp.MustCompile(`[^\p{L}\p{N} ._-]+`)

// plainName makes of what a provider says a name that people have here.
func plainName(text string) string {
	text = strings.Trim(strings.Join(strings.Fields(oddInNames.ReplaceAllString(act.Clean(text), " ")), " "), " ._-")
	if r := []rune(text); len(r) > 70 {
		text = strings.TrimSpace(string(r[:70]))
	}
	return cmp.Or(text, "somebody")
}

// EndedElsewhere ends the sessions that a provider says have ended there (OpenID Connect Back-Channel Logout 1.0).
func (s *People) EndedElsewhere(ctx context.Context, name, logoutToken string) error {
	p, err := s.providers.named(name)
	if err != nil {
		return err
	}
	d, err := s.providers.discover(ctx, p)
	if err != nil {
		return err
	}
	id, err := d.Verifier(&oidc.Config{ClientID: p.ClientID, SkipExpiryCheck: true}).Verify(oidc.ClientContext(ctx,
		providerClient), logoutToken)
	if err != nil {
		return api.Fail(api.Malformed, "the logout token is no good: %v", err)
	}
	var c struct {
		SID    string                     `json:"sid"`
		Nonce  string                     `json:"nonce"`
		Events map[string]json.RawMessage `json:"events"`
	}
	if err := id.Claims(&c); err != nil {
		return api.Fail(api.Malformed, "the logout token is no good: %v", err)
	}
	_, ends := c.Events["http://schemas.openid.net/event/backchannel-logout"]
	if !ends || c.Nonce != "" || id.Subject == "" && c.SID == "" || time.Since(id.IssuedAt) > 10*time.Minute {
		return api.Fail(api.Malformed, "the token is none that ends sessions")
	}
	defer s.credentialsEnded(ctx)
	return s.db.InTx(ctx, func(q Tx) error {
		ended, err := q.EndElsewhere(ctx, store.Elsewhere{Provider: p.Name, Subject: id.Subject, SID: c.SID})
		if err != nil || len(ended) == 0 {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "session", Subject: p.Name, Person: ended[0], Verb: "ended",
			Data: map[string]any{"by": p.Name, "sessions": len(ended)}})
	})
}
