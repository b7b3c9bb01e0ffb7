package web_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/chunk"
	"kembrel/service"
	"kembrel/service/act"
	"kembrel/store/blob"
	"kembrel/store/pg"
	"kembrel/test/testdb"
	"kembrel/web"
)

var ctx = context.Background()

// served is a service on a database of its own, with the administrator's client.
type served struct {
	*client.Client
	service *service.Service
	metrics http.Handler
	db      *pg.Store
	blobs   string
	owner   act.Who
	sent    *atomic.Int64 // bytes that the server has sent
}

func (s *served) downloaded() int64 { return s.sent.Load() }

// counting counts what goes out over its connections.
type counting struct {
	net.Listener
	sent *atomic.Int64
}

func (c counting) Accept() (net.Conn, error) {
	conn, err := c.Listener.Accept()
	return countingConn{conn, c.sent}, err
}

type countingConn struct {
	net.Conn
	sent *atomic.Int64
}

func (c countingConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.sent.Add(int64(n))
	return n, err
}

func serve(t testing.TB) *served { return serveWith(t) }

// serveWith is serve behind proxies that are believed.
func serveWith(t testing.TB, proxies ...string) *served {
	return serveAs(t, service.Options{LostAfter: time.Second}, proxies...)
}

// serveAs is serve with a service of one's own.
func serveAs(t testing.TB, o service.Options, proxies ...string) *served {
	s := &served{db: testdb.New(t), blobs: t.TempDir(), sent: new(atomic.Int64)}
	kept, err := blob.NewLocal(s.blobs)
	require.NoError(t, err)
	// shown where a test fails
	log := slog.New(slog.NewTextHandler(t.Output(), &slog.HandlerOptions{Level: slog.LevelWarn}))
	o.Log, o.Version = log, "1"
	s.service = service.New(s.db, kept, o)
	_, err = s.service.FirstStart(ctx, "Ines")
	require.NoError(t, err)
	s.owner, err = s.service.OwnerAccess(ctx)
	require.NoError(t, err)
	running, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- s.service.Run(running) }()
	console := fstest.MapFS{"index.html": {Data: []byte("<!doctype html>")}, "assets/a.js": {Data: []byte("1")}}
	bound := web.New(s.service, web.Options{Log: log, Version: "1", Console: console, Proxies: proxies})
	s.metrics = bound.Metrics()
	server := httptest.NewUnstartedServer(describedBy(t, bound).held(bound.Handler()))
	server.Listener = counting{server.Listener, s.sent}
	server.Start()
	s.service.ListensAt(server.URL)
	t.Cleanup(func() {
		server.CloseClientConnections()
		server.Close()
		stop()
		require.NoError(t, <-done)
	})
	s.Client = client.New(server.URL, s.token(t, s.owner, 1).Secret)
	return s
}

// summarised waits until every run's readings are counted, by whichever is at them.
func (s *served) summarised(t testing.TB) {
	require.Eventually(t, func() bool {
		_, err := s.db.Summarise(ctx)
		require.NoError(t, err)
		var behind bool
		require.NoError(t, s.db.Pool.QueryRow(ctx, "select exists (select from leg where batches > summarised)").
			Scan(&behind))
		return !behind
	}, 30*time.Second, 10*time.Millisecond)
}

func (s *served) token(t testing.TB, who act.Who, days int) *api.CreatedToken {
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days = "test", days
	token, err := s.service.CreateToken(ctx, who, in)
	require.NoError(t, err)
	return token
}

// as is the service as somebody else sees it, who is made where they are not there: with roles on projects ("": the
// service).
func (s *served) as(t testing.TB, name string, roles map[string]string) *served {
	t.Helper()
	p, err := s.db.PersonByName(ctx, name)
	if err != nil {
		in := &api.NewPerson{}
		in.Body.Name = name
		call(t, s, api.AddPerson, in)
		p, err = s.db.PersonByName(ctx, name)
	}
	require.NoError(t, err)
	for project, role := range roles {
		edit := api.RoleEdit{Person: name, Role: api.RoleName(role)}
		if project == "" {
			call(t, s, api.SetRole, &api.RoleInput{Body: edit})
		} else {
			call(t, s, api.SetProjectRole,
				&api.ProjectRoleInput{ProjectInput: api.ProjectInput{Project: project}, Body: edit})
		}
	}
	other := *s
	other.owner = act.Who{ID: p.ID, Name: name}
	other.Client = client.New(s.URL, s.token(t, other.owner, 1).Secret)
	return &other
}

func call[I, O any](t testing.TB, s *served, op api.Operation[I, O], in *I) *O {
	t.Helper()
	out, err := client.Call(ctx, s.Client, op, in)
	require.NoError(t, err)
	return out
}

// refuse calls what must be refused, and returns the problem.
func refuse[I, O any](t *testing.T, s *served, op api.Operation[I, O], in *I, kind api.Kind, says string) *api.Problem {
	t.Helper()
	_, err := client.Call(ctx, s.Client, op, in)
	require.ErrorContains(t, err, says)
	var p *api.Problem
	require.ErrorAs(t, err, &p)
	require.Equal(t, kind, p.Kind())
	return p
}

// raw sends any request and returns status, headers and body.
func (s *served) raw(t *testing.T, method, path string, body string, header ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequest(method, s.URL+path, bytes.NewBufferString(body))
	require.NoError(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	response, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer response.Body.Close()
	content, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response, string(content)
}

func (s *served) bearer() []string { return []string{"Authorization", "Bearer " + s.Token} }

var vessels = api.ProjectInput{Project: "vessels"}

func (s *served) project(t testing.TB) {
	in := &api.NewProject{}
	in.Body.Key = "vessels"
	call(t, s, api.CreateProject, in)
}

// leg starts a run and opens its leg.
func (s *served) leg(t testing.TB) api.LegInput {
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Hyper = map[string]json.RawMessage{"lr": json.RawMessage("0.03"),
		"seed": json.RawMessage("18446744073709551615")}
	in.Body.Started = time.UnixMilli(1_790_000_000_000) // before its readings
	run := call(t, s, api.BeginRun, in)
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: run.Number}, Key: uuid.NewString()}
	open.Body.Recorder, open.Body.Started = uuid.NewString(), in.Body.Started
	counted := call(t, s, api.OpenLeg, open)
	return api.LegInput{RunInput: open.RunInput, Leg: counted.Leg, Recorder: open.Body.Recorder}
}

// batch makes a batch of one curve with readings at steps from, from+1 ...
func batch(leg api.LegInput, number, from int64, name string, values ...float64) *api.BatchInput {
	in := &api.BatchInput{LegInput: leg, Body: api.Batch{Number: number, Upto: number * 10}}
	for i := range values {
		in.Body.Axis.Step = append(in.Body.Axis.Step, from+int64(i))
		in.Body.Axis.Epoch = append(in.Body.Axis.Epoch, float64(from+int64(i)))
		in.Body.Axis.Time = append(in.Body.Axis.Time, 1_790_000_000_000+int64(i))
	}
	in.Body.Curves = []api.Column{{Name: name, Values: values}}
	return in
}

// manifest describes files of a checkpoint, one chunk each.
func manifest(leg api.LegInput, step int64, files map[string][]byte) *api.NewCheckpoint {
	in := &api.NewCheckpoint{LegInput: leg, Key: uuid.NewString()}
	in.Body.Step, in.Body.Epoch, in.Body.Saved = step, api.Float(step), time.Now()
	for path, content := range files {
		pieces, size, whole, err := chunk.Cut(bytes.NewReader(content), nil)
		if err != nil {
			panic(err) // reading memory does not fail
		}
		f := api.File{Part: "weights", Path: path, Size: size, Digest: whole.String()}
		for _, p := range pieces {
			f.Chunks = append(f.Chunks, api.Piece{Digest: p.Digest.String(), Size: p.Size})
		}
		in.Body.Files = append(in.Body.Files, f)
	}
	return in
}

func (s *served) put(t *testing.T, content []byte) {
	t.Helper()
	for len(content) > 0 {
		n := min(len(content), chunk.MaxSize)
		call(t, s, api.PutChunk, &api.ChunkInput{Digest: chunk.Sum(content[:n]).String(), RawBody: content[:n]})
		content = content[n:]
	}
}

// serveOnce is the address of a server that answers everything in one way.
func serveOnce(t *testing.T, answer func(w http.ResponseWriter)) string {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { answer(w) }))
	t.Cleanup(server.Close)
	return server.URL
}
