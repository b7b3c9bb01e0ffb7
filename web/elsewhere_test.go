package web_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"

	"kembrel/api"
	"kembrel/service/people"
)

// staff are the people of a provider.
type staff map[string]*storage.User

func (s staff) GetUserByID(id string) *storage.User {
	for _, u := range s {
		if u.ID == id {
			return u
		}
	}
	return nil
}
func (s staff) GetUserByUsername(name string) *storage.User { return s[name] }
func (s staff) ExampleClientID() string                     { return "none" }

// key signs what a provider says.
type key struct {
	id      string
	private *rsa.PrivateKey
}

func newKey(t *testing.T, id string) key {
	private, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return key{id, private}
}
func (k key) ID() string                                  { return k.id }
func (k key) SignatureAlgorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k key) Key() any                                    { return k.private }

type publicKey struct{ key }

func (k publicKey) Algorithm() jose.SignatureAlgorithm { return jose.RS256 }
func (k publicKey) Use() string                        { return "sig" }
func (k publicKey) Key() any                           { return &k.private.PublicKey }

// provided is what a whole provider keeps, with groups, and keys that can be changed.
type provided struct {
	*storage.Storage
	mutex  sync.Mutex
	key    key
	groups map[string][]string // by id
}

func (p *provided) SigningKey(context.Context) (op.SigningKey, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.key, nil
}
func (p *provided) KeySet(context.Context) ([]op.Key, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return []op.Key{publicKey{p.key}}, nil
}
func (p *provided) SetUserinfoFromToken(ctx context.Context, info *oidc.UserInfo, token, subject, origin string) error {
	err := p.Storage.SetUserinfoFromToken(ctx, info, token, subject, origin)
	p.mutex.Lock()
	defer p.mutex.Unlock()
	info.AppendClaims("groups", p.groups[subject])
	return err
}

// provider is one, served, that knows this service as a client.
func provider(t *testing.T, name, back string, users staff) (*provided, people.Provider) {
	t.Helper()
	p := &provided{key: newKey(t, "first"), groups: map[string][]string{}}
	var handler http.Handler
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		handler.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	p.Storage = storage.NewStorageWithClients(users,
		map[string]*storage.Client{"kembrel": storage.WebClient("kembrel", "a secret of both", back)})
	before := slog.Default()
	handler = exampleop.SetupServer(server.URL, p, slog.New(slog.DiscardHandler), false)
	slog.SetDefault(before)
	return p, people.Provider{Name: name, Title: "Sign-in of " + name, Issuer: server.URL, ClientID: "kembrel",
		ClientSecret: "a secret of both", GroupsClaim: "groups"}
}

// browser is somebody's browser, which goes where it is sent.
type browser struct {
	*http.Client
	s *served
}

func (s *served) browser(t *testing.T) *browser {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &browser{&http.Client{Jar: jar, Timeout: 10 * time.Second}, s}
}

func (b *browser) read(t *testing.T, r *http.Response, err error) (string, *http.Response) {
	t.Helper()
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return string(text), r
}

var hiddenID = regexp.MustCompile(`name="id" value="([^"]+)"`)

// signIn goes to the provider and enters name and password there; it returns what the service said when it was back.
func (b *browser) signIn(t *testing.T, provider, name string) string {
	t.Helper()
	r, err := b.Get(b.s.URL + "/oidc/" + provider + "?next=/vessels/3")
	text, r := b.read(t, r, err)
	found := hiddenID.FindStringSubmatch(text)
	require.NotNil(t, found, "the provider asks for a name: %s", text)
	form := url.Values{"id": {found[1]}, "username": {name}, "password": {"verysecure"}}
	r, err = b.PostForm(r.Request.URL.Scheme+"://"+r.Request.URL.Host+"/login/username", form)
	text, _ = b.read(t, r, err)
	for _, c := range b.Jar.Cookies(r.Request.URL) {
		if c.Name == "kembrel_said" {
			said, err := url.QueryUnescape(c.Value)
			require.NoError(t, err)
			return said
		}
	}
	if refresh := r.Header.Get("Refresh"); refresh != "" {
		return refresh
	}
	return text
}

// me is as whom a browser is signed in; "": as nobody.
func (b *browser) me(t *testing.T) string {
	t.Helper()
	r, err := b.Get(b.s.URL + "/api/v1/me")
	text, r := b.read(t, r, err)
	if r.StatusCode != 200 {
		return ""
	}
	var me api.Me
	require.NoError(t, json.Unmarshal([]byte(text), &me))
	return me.Name
}

func TestSignInElsewhere(t *testing.T) {
	s := serve(t)
	users := staff{
		"teo": {ID: "u1", Username: "teo", Password: "verysecure", FirstName: "Teo", LastName: "Lind",
			Email: "teo@harbour.example", EmailVerified: true},
		"maud": {ID: "u2", Username: "maud", Password: "verysecure", FirstName: "Maud", LastName: "Berg",
			Email: "maud@harbour.example", EmailVerified: false},
		"twin": {ID: "u9", Username: "twin", Password: "verysecure", FirstName: "Another", LastName: "Lind",
			Email: "another@harbour.example", EmailVerified: true},
	}
	others := staff{"rolf": {ID: "u1", Username: "rolf", Password: "verysecure", FirstName: "Rolf", LastName: "<Hale>",
		Email: "rolf@pilots.example", EmailVerified: true}}
	harbour, one := provider(t, "harbour", s.URL+"/oidc/harbour/back", users)
	_, two := provider(t, "pilots", s.URL+"/oidc/pilots/back", others)
	one.Teams = map[string]string{"crew": "Harbour"}
	two.Add, two.Role = true, "recorder"
	s.service.SignInWith([]people.Provider{one, two, {Name: "gone", Title: "Gone",
		Issuer: "http://127.0.0.1:1", ClientID: "x"}})
	list := call(t, s, api.ListProviders, &struct{}{})
	require.Len(t, list.Items, 3)
	call(t, s, api.SetTeam, &api.TeamEdit{TeamInput: api.TeamInput{Team: "Harbour"}})
	teo := s.as(t, "Teo", nil)

	// Nobody here has the address; then somebody has, but it must be verified there.
	b := s.browser(t)
	require.Contains(t, b.signIn(t, "harbour", "teo"), "nobody here has that address")
	require.Empty(t, b.me(t))
	email := func(name, email string) {
		e := &api.PersonEdit{PersonInput: api.PersonInput{Name: name}}
		e.Body.Email = &email
		call(t, s, api.ChangePerson, e)
	}
	s.as(t, "Maud", nil)
	email("Teo", "Teo@harbour.example")
	email("Maud", "maud@harbour.example")
	require.Contains(t, s.browser(t).signIn(t, "harbour", "maud"), "nobody here has that address",
		"an address that is not verified joins nobody")
	b = s.browser(t)
	require.Equal(t, "0; url=/vessels/3", b.signIn(t, "harbour", "teo"))
	require.Equal(t, "Teo", b.me(t))
	email("Teo", "another@harbour.example")
	require.Equal(t, "0; url=/vessels/3", s.browser(t).signIn(t, "harbour", "teo"),
		"once joined, they are found by who they are there")
	require.Contains(t, s.browser(t).signIn(t, "harbour", "twin"), "an address that another account there has used",
		"a second account with the same address is not the same person")

	// An answer of another issuer is not taken, and what strangers read names no address of the inside.
	tricked := s.browser(t)
	tricked.CheckRedirect = func(r *http.Request, _ []*http.Request) error {
		if strings.HasSuffix(r.URL.Path, "/back") && r.URL.Query().Get("iss") == "" {
			r.URL.RawQuery += "&iss=" + url.QueryEscape("https://evil.example")
		}
		return nil
	}
	require.Contains(t, tricked.signIn(t, "harbour", "teo"), "the answer names another issuer")
	require.Empty(t, tricked.me(t))
	stranger := s.browser(t)
	gone, err := stranger.Get(s.URL + "/oidc/gone")
	stranger.read(t, gone, err)
	for _, c := range stranger.Jar.Cookies(gone.Request.URL) {
		require.NotContains(t, c.Value, "127.0.0.1")
	}

	// Groups there are teams here, both ways.
	teams := func() []string { return call(t, s, api.ListTeams, &struct{}{}).Items[0].People }
	require.Empty(t, teams())
	harbour.mutex.Lock()
	harbour.groups["u1"] = []string{"crew", "other"}
	harbour.mutex.Unlock()
	s.browser(t).signIn(t, "harbour", "teo")
	require.Equal(t, []string{"Teo"}, teams())
	harbour.mutex.Lock()
	harbour.groups["u1"] = nil
	harbour.key = newKey(t, "second") // and its keys are changed meanwhile
	harbour.mutex.Unlock()
	require.Equal(t, "0; url=/vessels/3", s.browser(t).signIn(t, "harbour", "teo"))
	require.Empty(t, teams())

	// Another provider adds whom it vouches for; the same number there is somebody else.
	r := s.browser(t)
	require.Equal(t, "0; url=/vessels/3", r.signIn(t, "pilots", "rolf"))
	require.Equal(t, "Rolf Hale", r.me(t))
	require.Contains(t, s.browser(t).signInFails(t, "gone"), "does not answer")

	// Whoever ends it there has ended it here: sessions of that person only.
	ended := func(subject, event string) int {
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256,
			Key: jose.JSONWebKey{Key: harbour.key.private, KeyID: harbour.key.id}}, nil)
		require.NoError(t, err)
		text, err := json.Marshal(map[string]any{"iss": one.Issuer, "aud": "kembrel", "iat": time.Now().Unix(),
			"exp": time.Now().Add(time.Minute).Unix(), "jti": "1", "sub": subject,
			"events": map[string]any{event: map[string]any{}}})
		require.NoError(t, err)
		signed, err := signer.Sign(text)
		require.NoError(t, err)
		token, err := signed.CompactSerialize()
		require.NoError(t, err)
		response, _ := s.raw(t, "POST", "/oidc/harbour/logout", url.Values{"logout_token": {token}}.Encode(),
			"Content-Type", "application/x-www-form-urlencoded")
		return response.StatusCode
	}
	const logout = "http://schemas.openid.net/event/backchannel-logout"
	require.Equal(t, 400, ended("u1", "something else"))
	response, _ := s.raw(t, "POST", "/oidc/harbour/logout", "logout_token=nonsense", "Content-Type",
		"application/x-www-form-urlencoded")
	require.Equal(t, 400, response.StatusCode)
	require.Equal(t, "Teo", b.me(t))
	require.Equal(t, 200, ended("u1", logout))
	require.Empty(t, b.me(t))
	require.Equal(t, "Rolf Hale", r.me(t))
	call(t, teo, api.GetMe, &struct{}{})

	// Signing out here says where to be signed out there.
	b = s.browser(t)
	b.signIn(t, "harbour", "teo")
	q, err := http.NewRequest("DELETE", s.URL+"/api/v1/session", nil)
	require.NoError(t, err)
	q.Header.Set("Origin", s.URL)
	got, err := b.Do(q)
	text, _ := b.read(t, got, err)
	require.Contains(t, text, "/end_session?id_token_hint=")

	// What comes back without having been begun in this browser signs nobody in; and who is closed here stays out.
	stranger = s.browser(t)
	got, err = stranger.Get(s.URL + "/oidc/harbour/back?code=x&state=y")
	_, got = stranger.read(t, got, err)
	require.Equal(t, "/sign-in", got.Request.URL.Path)
	require.Empty(t, stranger.me(t))
	closed := true
	e := &api.PersonEdit{PersonInput: api.PersonInput{Name: "Teo"}}
	e.Body.Closed = &closed
	call(t, s, api.ChangePerson, e)
	require.Contains(t, s.browser(t).signIn(t, "harbour", "teo"), "closed here")
	for _, next := range []string{"//elsewhere.example", "https://elsewhere.example", "/\\elsewhere.example"} {
		response, _ := s.browser(t).head(t, "/oidc/harbour?next="+url.QueryEscape(next))
		require.NotContains(t, response.Header.Get("Location"), "elsewhere.example")
	}
}

// signInFails goes to a provider that is not there, and returns what the service said.
func (b *browser) signInFails(t *testing.T, provider string) string {
	t.Helper()
	r, err := b.Get(b.s.URL + "/oidc/" + provider)
	_, r = b.read(t, r, err)
	for _, c := range b.Jar.Cookies(r.Request.URL) {
		if c.Name == "kembrel_said" {
			said, _ := url.QueryUnescape(c.Value)
			return said
		}
	}
	return ""
}

func (b *browser) head(t *testing.T, path string) (*http.Response, error) {
	t.Helper()
	b.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	r, err := b.Get(b.s.URL + path)
	require.NoError(t, err)
	r.Body.Close()
	return r, nil
}

func TestProvidersAreRead(t *testing.T) {
	for text, says := range map[string]string{
		`[{"name":"Harbour"}]`: "no name of its own", `[{"name":"harbour"}]`: "needs an issuer", `{`: "providers",
		`[{"name":"harbour","issuer":"https://x","client_id":"k","role":"king"}]`:  "which there is not",
		`[{"name":"harbour","issuer":"https://x","client_id":"k","colour":"red"}]`: "colour",
	} {
		file := t.TempDir() + "/providers.json"
		require.NoError(t, writeFile(file, text))
		_, err := people.ReadProviders(file)
		require.ErrorContains(t, err, says)
		require.False(t, strings.Contains(err.Error(), "secret"))
	}
}
