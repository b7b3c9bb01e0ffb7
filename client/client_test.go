package client

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/chunk"
)

// answering is a service on loopback that answers every request in one way, and the last request that it heard.
func answering(t *testing.T, answer http.HandlerFunc) (*Client, *http.Request, *string) {
	heard, body := new(http.Request), new(string)
	var mutex sync.Mutex // files are fetched by several requests at once
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		content, _ := io.ReadAll(r.Body)
		mutex.Lock()
		*heard, *body = *r, string(content)
		mutex.Unlock()
		answer(w, r)
	}))
	t.Cleanup(server.Close)
	return New(server.URL+"/", "kbr_secret"), heard, body
}

func saying(status int, kind, text string, headers ...string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		for i := 0; i < len(headers); i += 2 {
			w.Header().Set(headers[i], headers[i+1])
		}
		w.WriteHeader(status)
		io.WriteString(w, text)
	}
}

// Path, query, headers and body are filled from the input's tags.
func TestCallFillsTheRequest(t *testing.T) {
	c, heard, body := answering(t, saying(200, "application/json", `{"key":"vessels","title":"Vessels"}`))
	in := &api.ProjectEdit{ProjectInput: api.ProjectInput{Project: "ves/sels"}}
	title := "Vessels by sound"
	in.Body.Title = &title
	p, err := Call(t.Context(), c, api.ChangeProject, in)
	require.NoError(t, err)
	require.Equal(t, "Vessels", p.Title)
	require.Equal(t, "/api/v1/projects/ves%2Fsels", heard.URL.EscapedPath(), "a name cannot leave its place")
	require.JSONEq(t, `{"title":"Vessels by sound"}`, *body)
	require.Equal(t, "Bearer kbr_secret", heard.Header.Get("Authorization"))
	require.Equal(t, "application/json", heard.Header.Get("Content-Type"))
	require.Equal(t, strconv.Itoa(api.Level), heard.Header.Get(api.LevelHeader))
	require.NotEmpty(t, heard.Header.Get(api.TimeHeader))

	runs := &api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"}}
	runs.Where, runs.Limit = `hyper.lr < 0.1 && note == "a&b"`, 50
	_, err = Call(t.Context(), c, api.ListRuns, runs)
	require.NoError(t, err)
	query, err := url.ParseQuery(heard.URL.RawQuery)
	require.NoError(t, err)
	require.Equal(t, runs.Where, query.Get("where"))
	require.Equal(t, "50", query.Get("limit"))
	require.NotContains(t, query, "sort", "what was not asked is not said")

	audit := &api.ServiceAuditInput{}
	audit.Since = time.Date(2026, 11, 1, 12, 0, 0, 0, time.FixedZone("", 3600))
	_, err = Call(t.Context(), c, api.GetAudit, audit)
	require.NoError(t, err)
	require.Equal(t, "2026-11-01T11:00:00Z", heard.URL.Query().Get("since"), "RFC 3339")
}

func TestProblems(t *testing.T) {
	project := &api.ProjectInput{Project: "vessels"}
	problem := api.Fail(api.NotFound, "there is no project %q", "vessels")
	text, err := json.Marshal(problem)
	require.NoError(t, err)
	level := []string{api.LevelHeader, strconv.Itoa(api.Level)}
	for _, c := range []struct {
		name   string
		answer http.HandlerFunc
		kind   api.Kind
		says   string
	}{
		{"one of the service", saying(404, "application/problem+json", string(text), level...), api.NotFound,
			`there is no project "vessels"`},
		{"another server altogether", saying(404, "text/html", "<h1>Not here</h1>", level...), api.NotFound,
			"is it a Kembrel service?"},
		{"a proxy that is ill", saying(502, "text/plain", "bad gateway", level...), api.Unavailable, "502 Bad Gateway"},
		{"a problem that is none", saying(500, "application/problem+json", "{", level...), api.Internal, "500"},
		{"an older service", saying(404, "application/problem+json", string(text), api.LevelHeader, "1",
			api.VersionHeader, "v0.9"), api.NotFound, "is version v0.9, older than this kembrel"},
	} {
		client, _, _ := answering(t, c.answer)
		_, err := Call(t.Context(), client, api.GetProject, project)
		require.True(t, api.Is(err, c.kind), "%s: %v", c.name, err)
		require.ErrorContains(t, err, c.says, c.name)
	}
	newer, _, _ := answering(t, saying(200, "application/json", `{"key":7}`, api.LevelHeader,
		strconv.Itoa(api.Level+1), api.VersionHeader, "v9"))
	_, err = Call(t.Context(), newer, api.GetProject, project)
	require.ErrorContains(t, err, "newer than this kembrel")
	odd, _, _ := answering(t, saying(200, "application/json", `{"key":7}`, level...))
	_, err = Call(t.Context(), odd, api.GetProject, project)
	require.ErrorContains(t, err, "cannot be read; is it a Kembrel service?")
}

// A service that is away is told from one that refuses, and a caller that gives up from both.
func TestAway(t *testing.T) {
	c, _, _ := answering(t, saying(200, "application/json", "{}"))
	gone := New("http://127.0.0.1:1", "")
	_, err := Call(t.Context(), gone, api.GetProject, &api.ProjectInput{Project: "vessels"})
	require.ErrorIs(t, err, ErrAway)
	require.EqualError(t, err, "the service does not answer at http://127.0.0.1:1: connection refused")
	for says, cause := range map[string]error{"the connection was lost": &net.OpError{Op: "write", Net: "tcp",
		Err: net.ErrClosed}, "no address is known for hydra-2": &net.DNSError{Name: "hydra-2"}} {
		err := away{"http://hydra-2", cause}
		require.EqualError(t, err, "the service does not answer at http://hydra-2: "+says)
		require.ErrorIs(t, err, ErrAway)
		require.ErrorIs(t, err, cause)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Call(ctx, c, api.GetProject, &api.ProjectInput{Project: "vessels"})
	require.ErrorIs(t, err, context.Canceled)
	require.NotErrorIs(t, err, ErrAway)
	_, err = Call(t.Context(), New("no address", ""), api.GetProject, &api.ProjectInput{Project: "vessels"})
	require.Error(t, err)
}

func TestAll(t *testing.T) {
	page := 0
	c, _, _ := answering(t, func(w http.ResponseWriter, r *http.Request) {
		page++
		next := ""
		if page < 3 {
			next = strconv.Itoa(page)
		}
		if page > 10 {
			next = "round"
		}
		fmt.Fprintf(w, `{"items":[{"number":%d}],"next":%q}`, page, next)
	})
	in := &api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"}}
	next := func(in *api.RunsInput, cursor string) { in.Cursor = cursor }
	all, err := All(t.Context(), c, api.ListRuns, in, next)
	require.NoError(t, err)
	require.Len(t, all, 3)
	require.Equal(t, "2", in.Cursor)
	page = 10
	_, err = All(t.Context(), c, api.ListRuns, in, next)
	require.ErrorContains(t, err, "lead back to themselves")
}

// A batch goes over as CBOR, and so may its answer.
func TestBinary(t *testing.T) {
	c, heard, body := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", api.CBOR)
		api.Format.Marshal(w, api.Counted{Leg: 1, Batch: 4, Upto: 9})
	})
	in := &api.BatchInput{LegInput: api.LegInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{
		Project: "vessels"}, Number: 1}, Leg: 1, Recorder: "0"}}
	in.Body.Number = 4
	got, err := Call(t.Context(), c, api.SendBatch, in)
	require.NoError(t, err)
	require.EqualValues(t, 9, got.Upto)
	require.Equal(t, api.CBOR, heard.Header.Get("Content-Type"))
	require.Equal(t, "0", heard.Header.Get("Kembrel-Recorder"))
	var sent api.Batch
	require.NoError(t, api.UnmarshalCBOR([]byte(*body), &sent))
	require.EqualValues(t, 4, sent.Number)
}

func TestCredentials(t *testing.T) {
	path := filepath.Join(t.TempDir(), "of", "mine", "credentials.json")
	t.Setenv("KEMBREL_CREDENTIALS", path)
	t.Setenv("KEMBREL_TOKEN", "")
	none, err := LoadCredential("http://harbour")
	require.NoError(t, err)
	require.Empty(t, none)
	require.NoError(t, SaveCredential("http://harbour", Credential{Token: "a", Name: "laptop"}))
	require.NoError(t, SaveCredential("http://quay", Credential{Token: "b"}))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "nobody else reads it")
	got, err := LoadCredential("http://harbour")
	require.NoError(t, err)
	require.Equal(t, Credential{Token: "a", Name: "laptop"}, got)
	require.NoError(t, SaveCredential("http://harbour", Credential{}))
	got, err = LoadCredential("http://harbour")
	require.NoError(t, err)
	require.Empty(t, got)
	t.Setenv("KEMBREL_TOKEN", "from outside")
	got, err = LoadCredential("http://quay")
	require.NoError(t, err)
	require.Equal(t, "from outside", got.Token)
	t.Setenv("KEMBREL_TOKEN", "")
	require.NoError(t, os.WriteFile(path, []byte("not JSON"), 0o600))
	_, err = LoadCredential("http://quay")
	require.ErrorContains(t, err, path)
	require.Error(t, SaveCredential("http://quay", Credential{Token: "c"}), "what cannot be read is not written over")
}

// Who signs in means that service where none is named, until they sign in elsewhere or out.
func TestDefaultService(t *testing.T) {
	t.Setenv("KEMBREL_CREDENTIALS", filepath.Join(t.TempDir(), "credentials.json"))
	require.Empty(t, DefaultService())
	require.NoError(t, SaveCredential("http://quay", Credential{Token: "a"}))
	require.Empty(t, DefaultService(), "that of the service on this machine is none")
	require.NoError(t, SaveCredential("http://harbour", Credential{Token: "b", Default: true}))
	require.Equal(t, "http://harbour", DefaultService())
	require.NoError(t, SaveCredential("http://pier", Credential{Token: "c", Default: true}))
	require.Equal(t, "http://pier", DefaultService())
	require.NoError(t, SaveCredential("http://pier", Credential{}))
	require.Empty(t, DefaultService())
}

// An address without a scheme is one of this machine or network, or one that is reached safely.
func TestAddresses(t *testing.T) {
	for text, want := range map[string]string{"127.0.0.1:7420": "http://127.0.0.1:7420",
		"localhost:7420/": "http://localhost:7420", "[::1]:7420": "http://[::1]:7420", "10.2.3.4": "http://10.2.3.4",
		"kembrel.example": "https://kembrel.example", "kembrel.example:8443/of/ours/": "https://kembrel.example:8443/of/ours",
		"http://kembrel.example/": "http://kembrel.example", "203.0.113.7:7420": "https://203.0.113.7:7420", "": ""} {
		require.Equal(t, want, Address(text), text)
	}
}

// shelf serves the bytes of a checkpoint's files.
type shelf struct {
	files  map[string][]byte
	broken bool // what is sent is not what was kept
}

func (s *shelf) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	content, there := s.files[r.URL.Query().Get("path")]
	if !there {
		for name, c := range s.files {
			if strings.HasSuffix(r.URL.Path, name) {
				content, there = c, true
			}
		}
	}
	if !there {
		http.NotFound(w, r)
		return
	}
	if s.broken {
		content = append([]byte{content[0] ^ 1}, content[1:]...)
	}
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(content)))
}

func shelved(t *testing.T, sizes map[string]int) (*shelf, []api.File) {
	s := &shelf{files: map[string][]byte{}}
	var files []api.File
	for name, size := range sizes {
		content := make([]byte, size)
		_, err := rand.Read(content)
		require.NoError(t, err)
		s.files[name] = content
		f := api.File{Part: "weights", Path: name, Size: int64(size), Digest: chunk.Sum(content).String()}
		for at := 0; at < size; at += 1 << 16 {
			piece := content[at:min(size, at+1<<16)]
			f.Chunks = append(f.Chunks, api.Piece{Digest: chunk.Sum(piece).String(), Size: int64(len(piece))})
		}
		files = append(files, f)
	}
	return s, files
}

// A restore is whole or not at all, goes on where it was cut off, and names what stands in its way.
func TestRestore(t *testing.T) {
	s, files := shelved(t, map[string]int{"w.safetensors": 300_000, "deep/o.safetensors": 70_000, "empty": 0})
	c, _, _ := answering(t, s.ServeHTTP)
	at := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"}, Number: 1},
		At: "e2"}
	into := filepath.Join(t.TempDir(), "model")
	silent := func(int64) {}
	require.NoError(t, Restore(t.Context(), c, at, files, into, false, silent))
	for name, content := range s.files {
		got, err := os.ReadFile(filepath.Join(into, name))
		require.NoError(t, err)
		require.Equal(t, content, got, name)
	}
	beside, err := filepath.Glob(filepath.Join(filepath.Dir(into), "*"))
	require.NoError(t, err)
	require.Equal(t, []string{into}, beside, "nothing is left beside")

	err = Restore(t.Context(), c, at, files, into, false, silent)
	require.True(t, IsExists(err), "%v", err)
	require.NoError(t, Restore(t.Context(), c, at, files, into, true, silent))

	// Sent by somebody who keeps other bytes under the same names: nothing appears.
	other := filepath.Join(t.TempDir(), "other")
	s.broken = true
	require.Error(t, Restore(t.Context(), c, at, files, other, false, silent))
	_, err = os.Stat(filepath.Join(other, "w.safetensors"))
	require.ErrorIs(t, err, os.ErrNotExist)
	s.broken = false
	require.NoError(t, Restore(t.Context(), c, at, files, other, false, silent))

	for _, path := range []string{"../outside", "/etc/passwd", "a/../../b"} {
		bad := []api.File{{Part: "weights", Path: path, Size: 1}}
		require.ErrorContains(t, Restore(t.Context(), c, at, bad, other, true, silent), "cannot be restored", path)
	}
}

// What only reads is asked again where the service is away for a moment; what writes is not, unless it may be said
// twice.
func TestWhatDoesNoHarmIsAskedAgain(t *testing.T) {
	for _, moment := range []http.HandlerFunc{
		saying(503, "application/problem+json", `{"type":"urn:kembrel:problem:unavailable","status":503}`, "Retry-After", "0"),
		saying(502, "text/html", "<h1>Bad Gateway</h1>"),
		func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) }, // it took the request, and went
	} {
		var asked atomic.Int32
		c, _, _ := answering(t, func(w http.ResponseWriter, r *http.Request) {
			if asked.Add(1) < 3 {
				moment(w, r)
				return
			}
			saying(200, "application/json", `{"key":"vessels"}`)(w, r)
		})
		_, err := Call(t.Context(), c, api.GetProject, &api.ProjectInput{Project: "vessels"})
		require.NoError(t, err)
		require.EqualValues(t, 3, asked.Load())
		asked.Store(0)
		_, err = Call(t.Context(), c, api.ChangeProject,
			&api.ProjectEdit{ProjectInput: api.ProjectInput{Project: "vessels"}})
		require.Error(t, err)
		require.EqualValues(t, 1, asked.Load(), "it may have been done")
	}
}

// Nothing that Go says of a deadline, or of JSON that does not fit, reaches a person.
func TestErrorsAreSentences(t *testing.T) {
	c, _, _ := answering(t, func(w http.ResponseWriter, r *http.Request) { <-r.Context().Done() })
	soon, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := Call(soon, c, api.GetProject, &api.ProjectInput{Project: "vessels"})
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.EqualError(t, err, "the service at "+c.URL+" did not answer in time")
	for level, want := range map[string]string{"99": "newer than this kembrel, which cannot read its answer: update this kembrel",
		"1": "older than this kembrel, which cannot read its answer: update the service", "2": "is it a Kembrel service?"} {
		for _, body := range []string{`{"key":{"of":"another kind"}}`, `{"key":[1`} {
			c, _, _ = answering(t, saying(200, "application/json", body, api.LevelHeader, level, api.VersionHeader,
				"7"))
			_, err = Call(t.Context(), c, api.GetProject, &api.ProjectInput{Project: "vessels"})
			require.Error(t, err)
			require.NotContains(t, err.Error(), "unmarshal")
			require.NotContains(t, err.Error(), "EOF")
			if !strings.HasSuffix(body, "1") {
				require.ErrorContains(t, err, want)
			}
		}
	}
}
