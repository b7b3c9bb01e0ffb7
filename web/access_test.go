package web_test

import (
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store/pg/db"
)

// concrete fills a path's parameters.
func concrete(path string) string {
	return strings.NewReplacer("{project}", "vessels", "{number}", "1", "{leg}", "1", "{at}", "best", "{id}", "999",
		"{digest}", "b3:"+strings.Repeat("0", 64), "{name}", "nobody", "{team}", "none", "{model}",
		"classifier-of-vessels", "{edition}", "1", "{standing}", "in-use", "{asking}", "1", "{subscription}", "night-watch", "{event}", "1").Replace(path)
}

// Whatever the operation, nothing but sign-in and health answers without a token, with a wrong, an expired or a revoked
// one.
func TestNobodyGetsIn(t *testing.T) {
	s := serve(t)
	s.project(t)
	revoked, expired := s.token(t, s.owner, 1), s.token(t, s.owner, 1)
	call(t, s, api.RevokeToken, &api.TokenInput{ID: revoked.ID})
	_, err := s.db.Pool.Exec(ctx, "update token set expires = now() - interval '1 second' where id = $1", expired.ID)
	require.NoError(t, err)
	credentials := map[string]string{"none": "", "unknown": "Bearer kembrel_nonsense",
		"revoked": "Bearer " + revoked.Secret,
		"expired": "Bearer " + expired.Secret, "not bearer": "Basic aTp4", "empty": "Bearer "}
	words := map[string]string{"revoked": "revoked", "expired": "expired", "unknown": "not known"}
	open := 0
	for _, op := range api.Operations() {
		if op.Access == api.Anyone {
			open++
			continue
		}
		for name, value := range credentials {
			header := []string{"Content-Type", "application/json"}
			if value != "" {
				header = append(header, "Authorization", value)
			}
			body := ""
			if op.Method != "GET" && op.Method != "DELETE" {
				body = "{}"
			}
			response, content := s.raw(t, op.Method, api.Base+concrete(op.Path), body, header...)
			require.Equal(t, http.StatusUnauthorized, response.StatusCode, "%s with %s: %s", op.ID, name, content)
			require.Contains(t, content, words[name])
		}
	}
	require.Equal(t, 5, open, "sign-in, link, providers, health, ready")
}

func TestOnlyAdministratorsAddPeople(t *testing.T) {
	s := serve(t)
	in := &api.NewPerson{}
	in.Body.Name, in.Body.Password = "Teo", "a long password"
	call(t, s, api.AddPerson, in)
	refuse(t, s, api.AddPerson, in, api.Conflict, "Teo")
	teo, err := s.db.PersonByName(ctx, "teo")
	require.NoError(t, err)
	require.NotContains(t, *teo.Password, "a long password")
	other := *s
	who := s.owner
	who.ID, who.Name, who.Administrator = teo.ID, "Teo", false
	other.Client = client.New(s.URL, s.token(t, who, 1).Secret)
	in.Body.Name = "Maud"
	refuse(t, &other, api.AddPerson, in, api.Denied, "administrator")
	mine := call(t, &other, api.ListTokens, &struct{}{})
	require.Len(t, mine.Items, 1, "one's own tokens only")
	refuse(t, &other, api.RevokeToken, &api.TokenInput{ID: 1}, api.NotFound, "no token 1")
}

func TestSignInWithPasswordAndSession(t *testing.T) {
	s := serve(t)
	in := &api.PasswordInput{}
	in.Body.Password = "harbour light"
	call(t, s, api.SetPassword, in)
	in.Body.Password = "another light"
	refuse(t, s, api.SetPassword, in, api.Denied, "present password")

	jsonType := []string{"Content-Type", "application/json"}
	response, content := s.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"wrong"}`, jsonType...)
	require.Equal(t, 401, response.StatusCode)
	require.NotContains(t, content, "wrong\"", "what was typed is not echoed")
	response, unknown := s.raw(t, "POST", "/api/v1/session", `{"name":"nobody","password":"wrong"}`, jsonType...)
	require.Equal(t, 401, response.StatusCode)
	require.Equal(t, content, unknown, "a name that is not known looks no different")

	response, _ = s.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"harbour light"}`, jsonType...)
	require.Equal(t, 200, response.StatusCode)
	cookie := response.Cookies()[0]
	require.True(t, cookie.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	session := "kembrel_session=" + cookie.Value

	response, content = s.raw(t, "GET", "/api/v1/me", "", "Cookie", session)
	require.Equal(t, 200, response.StatusCode)
	require.Contains(t, content, `"has_password":true`)
	make := func(origin ...string) int {
		response, _ := s.raw(t, "POST", "/api/v1/projects", `{"key":"vessels"}`,
			append([]string{"Cookie", session, "Content-Type", "application/json"}, origin...)...)
		return response.StatusCode
	}
	require.Equal(t, 403, make(), "no Origin")
	require.Equal(t, 403, make("Origin", "http://evil.example"))
	require.Equal(t, 403, make("Origin", "null"))
	secure := strings.Replace(s.URL, "http:", "https:", 1)
	require.Equal(t, 403, make("Origin", secure), "the scheme is part of an origin")
	require.Equal(t, 201, make("Origin", secure, "X-Forwarded-Proto", "https"), "a proxy ended TLS")
	require.Equal(t, 409, make("Origin", s.URL))
	response, _ = s.raw(t, "DELETE", "/api/v1/session", "", "Cookie", session, "Origin", s.URL)
	require.Equal(t, 200, response.StatusCode)
	response, _ = s.raw(t, "GET", "/api/v1/me", "", "Cookie", session)
	require.Equal(t, 401, response.StatusCode)

	last := 0
	for range 15 {
		response, _ = s.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"guess"}`, jsonType...)
		last = response.StatusCode
	}
	require.Equal(t, 429, last, "guessing is limited")
}

func TestLinkWorksOnce(t *testing.T) {
	s := serve(t)
	link := call(t, s, api.CreateLink, &struct{}{})
	_, code, _ := strings.Cut(link.Path, "#")
	body, _ := json.Marshal(map[string]string{"code": code})
	use := func() int {
		response, _ := s.raw(t, "POST", "/api/v1/session/link", string(body), "Content-Type", "application/json")
		return response.StatusCode
	}
	require.Equal(t, 200, use())
	require.Equal(t, 401, use())
}

func TestSecretsAreKeptAsHashesOnly(t *testing.T) {
	s := serve(t)
	var found int
	require.NoError(t, s.db.Pool.QueryRow(ctx,
		"select count(*) from token where hash::text like '%' || $1 || '%' or name like '%' || $1 || '%'",
		s.Token).Scan(&found))
	require.Zero(t, found)
}

func TestProblemsForEverything(t *testing.T) {
	s := serve(t)
	s.project(t)
	for _, c := range []struct {
		method, path, body string
		status             int
		kind               api.Kind
	}{
		{"GET", "/api/v1/nothing", "", 404, api.NotFound},
		{"GET", "/api", "", 404, api.NotFound},
		{"GET", "/api/v1/projects/", "", 404, api.NotFound},
		{"PUT", "/api/v1/projects", "", 405, api.NotAllowed},
		{"POST", "/anywhere", "", 405, api.NotAllowed},
		{"GET", "/assets/../../etc/passwd", "", 404, api.NotFound},
		{"GET", "/assets/none.js", "", 404, api.NotFound},
		{"GET", "/api/v1/projects/none/runs/0", "", 404, api.NotFound},
		{"POST", "/api/v1/projects", "{", 400, api.Malformed},
		{"POST", "/api/v1/projects", `{"key":"secret-value-here","nonsense":1}`, 422, api.Invalid},
		{"GET", "/api/v1/projects?limit=9999", "", 422, api.Invalid},
		{"GET", "/api/v1/projects/vessels/runs/0", "", 422, api.Invalid},
		{"POST", "/api/v1/projects", strings.Repeat(" ", 2<<20), 413, api.TooLarge},
	} {
		response, content := s.raw(t, c.method, c.path, c.body,
			append(s.bearer(), "Content-Type", "application/json")...)
		if c.path == "/assets/../../etc/passwd" && response.StatusCode == 200 {
			require.Contains(t, content, "doctype", "the console's page, not a file from elsewhere")
			continue
		}
		require.Equal(t, c.status, response.StatusCode, "%s %s: %s", c.method, c.path, content)
		require.Equal(t, "application/problem+json", response.Header.Get("Content-Type"))
		var p api.Problem
		require.NoError(t, json.Unmarshal([]byte(content), &p))
		require.Equal(t, c.kind, p.Kind())
		require.NotContains(t, content, "secret-value-here", "values are not echoed")
	}
}

func TestHeadersKeepABrowserSafe(t *testing.T) {
	s := serve(t)
	response, content := s.raw(t, "GET", "/vessels/3?axis=step", "")
	require.Equal(t, 200, response.StatusCode)
	require.Contains(t, content, "doctype")
	csp := response.Header.Get("Content-Security-Policy")
	require.Contains(t, csp, "default-src 'none'")
	require.NotContains(t, csp, "unsafe")
	require.Equal(t, "nosniff", response.Header.Get("X-Content-Type-Options"))
	response, _ = s.raw(t, "GET", "/assets/a.js", "")
	require.Contains(t, response.Header.Get("Cache-Control"), "immutable")
	response, content = s.raw(t, "GET", "/api/v1/ready", "")
	require.Equal(t, 200, response.StatusCode, content)
}

// A database that is away is said to be so, and comes back by itself.
func TestDatabaseAway(t *testing.T) {
	s := serve(t)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err := s.service.Ready(gone)
	require.True(t, api.Is(err, api.Unavailable))
	require.True(t, db.Away(context.DeadlineExceeded))
	p := s.service.Problem(context.DeadlineExceeded)
	require.Equal(t, api.Unavailable, p.Kind())
	require.Equal(t, api.Internal, s.service.Problem(http.ErrBodyNotAllowed).Kind())
	require.NotContains(t, s.service.Problem(http.ErrBodyNotAllowed).Error(), "body")
}
