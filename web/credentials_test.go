package web_test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/web"
)

// follow opens the live stream of a project and returns a channel that is closed when it ends.
func follow(t *testing.T, s *served, headers ...string) (ended chan struct{}) {
	request, err := http.NewRequest("GET", s.URL+"/api/v1/events?project=vessels", nil)
	require.NoError(t, err)
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	t.Cleanup(func() { response.Body.Close() })
	require.Equal(t, http.StatusOK, response.StatusCode)
	lines := bufio.NewScanner(response.Body)
	require.True(t, lines.Scan())
	require.Contains(t, lines.Text(), "hello")
	ended = make(chan struct{})
	go func() {
		for lines.Scan() {
		}
		close(ended)
	}()
	return ended
}

func ends(t *testing.T, ended chan struct{}, why string) {
	t.Helper()
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("the stream goes on: " + why)
	}
}

func goesOn(t *testing.T, ended chan struct{}) {
	t.Helper()
	select {
	case <-ended:
		t.Fatal("the stream has ended")
	case <-time.After(200 * time.Millisecond):
	}
}

// session signs in by a link made with a client's token.
func (s *served) session(t *testing.T) string {
	link := call(t, s, api.CreateLink, &struct{}{})
	code := strings.TrimPrefix(link.Path, "/enter#")
	response, says := s.raw(t, "POST", "/api/v1/session/link", `{"code":"`+code+`"}`, "Content-Type",
		"application/json")
	require.Equal(t, http.StatusOK, response.StatusCode, says)
	return "kembrel_session=" + response.Cookies()[0].Value
}

// What was made with a token ends with it, to any depth, streams included; what was not goes on.
func TestRevokedTokensEndWhatTheyMade(t *testing.T) {
	s := serve(t)
	s.project(t)
	make := func(with *served, name string) (*served, *api.CreatedToken) {
		in := &api.NewToken{}
		in.Body.Name, in.Body.Days = name, 1
		token := call(t, with, api.CreateToken, in)
		other := *s
		other.Client = client.New(s.URL, token.Secret)
		return &other, token
	}
	parent, token := make(s, "laptop")
	child, _ := make(parent, "training")
	grandchild, _ := make(child, "nightly")
	session := parent.session(t)
	unused := call(t, child, api.CreateLink, &struct{}{})
	other, _ := make(s, "another")
	streams := []chan struct{}{follow(t, s, grandchild.bearer()...), follow(t, s, "Cookie", session)}
	own := follow(t, s, other.bearer()...)
	call(t, s, api.RevokeToken, &api.TokenInput{ID: token.ID})
	for _, c := range []*served{parent, child, grandchild} {
		refuse(t, c, api.GetMe, &struct{}{}, api.SignedOut, "revoked")
	}
	response, _ := s.raw(t, "GET", "/api/v1/me", "", "Cookie", session)
	require.Equal(t, http.StatusUnauthorized, response.StatusCode)
	response, _ = s.raw(t, "POST", "/api/v1/session/link", `{"code":"`+strings.TrimPrefix(unused.Path, "/enter#")+`"}`,
		"Content-Type", "application/json")
	require.Equal(t, http.StatusUnauthorized, response.StatusCode)
	for _, ended := range streams {
		ends(t, ended, "its token was revoked")
	}
	goesOn(t, own)
	call(t, other, api.GetMe, &struct{}{})
}

// Streams end with a session that is signed out, and with one that ends behind the service's back, as in another
// replica.
func TestStreamsEndWithTheirSession(t *testing.T) {
	s := serve(t)
	s.project(t)
	one, two := s.session(t), s.session(t)
	first, second := follow(t, s, "Cookie", one), follow(t, s, "Cookie", two)
	response, _ := s.raw(t, "DELETE", "/api/v1/session", "", "Cookie", one, "Origin", s.URL)
	require.Equal(t, http.StatusOK, response.StatusCode)
	ends(t, first, "its session was signed out")
	goesOn(t, second)
	_, err := s.db.Pool.Exec(ctx, "update session set expires = now() - interval '1 second'")
	require.NoError(t, err)
	ends(t, second, "its session expired")
}

// A new password ends the other sessions, and the tokens where that is asked for; the one it was set with stays.
func TestNewPassword(t *testing.T) {
	s := serve(t)
	s.project(t)
	session := s.session(t)
	stream := follow(t, s, "Cookie", session)
	before := *s
	before.Client = client.New(s.URL, s.token(t, s.owner, 1).Secret)
	in := &api.PasswordInput{}
	in.Body.Password = "harbour light"
	call(t, s, api.SetPassword, in)
	ends(t, stream, "the password is another")
	call(t, &before, api.GetMe, &struct{}{})
	in.Body.Old, in.Body.Password, in.Body.RevokeTokens = "harbour light", "another light", true
	call(t, s, api.SetPassword, in)
	refuse(t, &before, api.GetMe, &struct{}{}, api.SignedOut, "revoked")
	call(t, s, api.GetMe, &struct{}{})
}

// Who is over their own limit does not use up that of the person whose name they try.
func TestGuessersDoNotKeepOthersOut(t *testing.T) {
	s := serveWith(t, "127.0.0.1")
	in := &api.PasswordInput{}
	in.Body.Password = "harbour light"
	call(t, s, api.SetPassword, in)
	try := func(from, password string) int {
		body, err := json.Marshal(map[string]string{"name": "ines", "password": password})
		require.NoError(t, err)
		response, _ := s.raw(t, "POST", "/api/v1/session", string(body), "Content-Type", "application/json",
			"X-Forwarded-For", from)
		return response.StatusCode
	}
	refused := 0
	for range 60 {
		if try("192.0.2.1", "guess") == http.StatusTooManyRequests {
			refused++
		}
	}
	require.Greater(t, refused, 40)
	require.Equal(t, http.StatusOK, try("192.0.2.2", "harbour light"), "the person signs in from elsewhere")
	require.Equal(t, http.StatusTooManyRequests, try("192.0.2.1", "harbour light"))
	require.Equal(t, http.StatusTooManyRequests, try("192.0.2.2, 192.0.2.1", "harbour light"),
		"the address that the proxy added counts, not what the caller wrote before it")

	direct := serve(t)
	call(t, direct, api.SetPassword, in)
	last := 0
	for i := range 15 {
		response, _ := direct.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"guess"}`, "Content-Type",
			"application/json", "X-Forwarded-For", "192.0.2."+string(rune('0'+i%10)))
		last = response.StatusCode
	}
	require.Equal(t, http.StatusTooManyRequests, last, "without a trusted proxy nobody chooses their address")
}

// Many who sign in at once wait their turn; those for whom it would be long are told, and those who go away are not
// worked for.
func TestPasswordsAreCheckedInTurn(t *testing.T) {
	s := serveWith(t, "127.0.0.1")
	in := &api.PasswordInput{}
	in.Body.Password = "harbour light"
	call(t, s, api.SetPassword, in)
	statuses := map[int]int{}
	var mutex sync.Mutex
	var wait sync.WaitGroup
	for i := range 100 {
		wait.Go(func() {
			body := `{"name":"nobody` + string(rune('a'+i%26)) + string(rune('a'+i/26)) + `","password":"guess"}`
			request, err := http.NewRequest("POST", s.URL+"/api/v1/session", strings.NewReader(body))
			if err != nil {
				return
			}
			request.Header.Set("Content-Type", "application/json")
			request.Header.Set("X-Forwarded-For", "192.0.2."+string(rune('0'+i%10))+string(rune('0'+i/10)))
			response, err := http.DefaultClient.Do(request)
			if err != nil {
				return
			}
			response.Body.Close()
			mutex.Lock()
			defer mutex.Unlock()
			statuses[response.StatusCode]++
		})
	}
	wait.Wait()
	require.Equal(t, 100, statuses[http.StatusUnauthorized]+statuses[http.StatusTooManyRequests], "%v", statuses)
	require.GreaterOrEqual(t, statuses[http.StatusUnauthorized], 60, "%v", statuses)
}

func TestCheckProxies(t *testing.T) {
	require.NoError(t, web.CheckProxies(nil))
	require.NoError(t, web.CheckProxies([]string{"127.0.0.1", "10.0.0.0/8", "fd00::/8"}))
	for _, bad := range []string{"localhost", "10.0.0.0/99", "*", ""} {
		require.ErrorContains(t, web.CheckProxies([]string{bad}), "no address or network", bad)
	}
}
