package web_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store/pg/curves"
)

// Words that nobody declared become no series, whoever sends them.
func TestUnknownMethodsAreNoLabels(t *testing.T) {
	s := serve(t)
	series := func() int {
		r := httptest.NewRecorder()
		s.metrics.ServeHTTP(r, httptest.NewRequest("GET", "/", nil))
		return strings.Count(r.Body.String(), "kembrel_request_seconds_count{")
	}
	try := func(i int) {
		for _, path := range []string{"/api/v1/projects", "/api/v1/nothing", "/", fmt.Sprintf("/%d", i)} {
			response, _ := s.raw(t, fmt.Sprintf("ODD%d", i), path, "")
			require.Equal(t, http.StatusMethodNotAllowed/100, response.StatusCode/100, path)
		}
	}
	try(0)
	before := series()
	for i := range 50 {
		try(i)
	}
	require.Equal(t, before, series())
}

// Whoever looks after the service sees sign-ins, connections, the blob store, jobs and recorders.
func TestVitals(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.saved(t, noise(3000, 1), 0.5)
	response, _ := s.raw(t, "POST", "/api/v1/session", `{"name":"ines","password":"not this one"}`,
		"Content-Type", "application/json")
	require.Equal(t, http.StatusUnauthorized, response.StatusCode)
	figures := func() map[string]float64 {
		r := httptest.NewRecorder()
		s.metrics.ServeHTTP(r, httptest.NewRequest("GET", "/", nil))
		require.Equal(t, http.StatusOK, r.Code, r.Body.String())
		out := map[string]float64{}
		for line := range strings.Lines(r.Body.String()) {
			name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			if v, err := strconv.ParseFloat(value, 64); err == nil && !strings.HasPrefix(line, "#") {
				out[name] = v
			}
		}
		return out
	}
	require.Eventually(t, func() bool {
		return figures()[`kembrel_jobs{kind="inspect-weights",state="completed"}`] >= 1
	}, 60*time.Second, 100*time.Millisecond)
	s.leg(t)
	found := figures()
	for name, want := range map[string]float64{
		`kembrel_events_total{kind="session",verb="sign-in-failed"}`:   1,
		`kembrel_database_connections{lane="recorders",state="limit"}`: 8,
		`kembrel_blob_requests_total{outcome="failed",what="sync"}`:    0,
		`kembrel_recorders`:        1,
		`kembrel_database_answers`: 1,
	} {
		require.Contains(t, found, name)
		require.Equal(t, want, found[name], name)
	}
	require.GreaterOrEqual(t, found[`kembrel_blob_requests_total{outcome="done",what="sync"}`], 1.0)
	require.Greater(t, found[`kembrel_blob_seconds_total{what="sync"}`], 0.0)
}

// longRun brings in a run whose history is larger than what a connection holds.
func longRun(t *testing.T, s *served) {
	in := &api.NewHistory{ProjectInput: vessels, Key: uuid.NewString()}
	n := 300_000
	in.Body.Source, in.Body.Started, in.Body.Ended = "a test", time.UnixMilli(1_790_000_000_000),
		time.UnixMilli(1_790_000_000_000+int64(n))
	values := make([]float64, n)
	for i := range n {
		in.Body.Axis.Step, in.Body.Axis.Epoch = append(in.Body.Axis.Step, int64(i)),
			append(in.Body.Axis.Epoch, float64(i/100))
		in.Body.Axis.Time = append(in.Body.Axis.Time, in.Body.Started.UnixMilli()+int64(i))
		values[i] = 1 / float64(i+1)
	}
	for i := range 4 {
		in.Body.Curves = append(in.Body.Curves, api.Column{Name: fmt.Sprintf("loss%d", i), Values: values})
	}
	call(t, s, api.AddHistory, in)
	_, err := s.db.Seal(ctx, curves.SealRule{})
	require.NoError(t, err)
}

// stalled asks for something and reads its head only.
func stalled(t *testing.T, s *served, path string) (net.Conn, int) {
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	require.NoError(t, conn.(*net.TCPConn).SetReadBuffer(4096))
	_, err = fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", path, s.Token)
	require.NoError(t, err)
	response, err := http.ReadResponse(bufio.NewReaderSize(conn, 1024), nil)
	require.NoError(t, err)
	if response.StatusCode == http.StatusTooManyRequests {
		require.NotEmpty(t, response.Header.Get("Retry-After"))
	}
	return conn, response.StatusCode
}

// Readers of histories who read nothing hold no connection to the database and no lock; as many as there may be of them
// are let in, the others are told when to come again.
func TestSlowReadersStopNobody(t *testing.T) {
	s := serve(t)
	s.project(t)
	longRun(t, s)
	leg := s.leg(t)
	let := 0
	for range 14 {
		if _, status := stalled(t, s, "/api/v1/projects/vessels/history?format=csv-long"); status == http.StatusOK {
			let++
		} else {
			require.Equal(t, http.StatusTooManyRequests, status)
		}
	}
	require.Equal(t, 2, let)
	require.Eventually(t, func() bool { // nothing is held while they do not read
		var open, locks int
		require.NoError(t, s.db.Pool.QueryRow(ctx,
			`select count(*) filter (where xact_start is not null and pid <> pg_backend_pid() and backend_type = 'client backend'),
			(select count(*) from pg_locks l join pg_class c on c.oid = l.relation where c.relname like 'journal%' and l.pid <> pg_backend_pid())
			from pg_stat_activity where datname = current_database()`).Scan(&open, &locks))
		return open == 0 && locks == 0
	}, 20*time.Second, 20*time.Millisecond)
	for i := range int64(50) {
		call(t, s, api.SendBatch, batch(leg, i+1, i*2, "loss", 1, 2))
		call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10}})
	}
	require.Eventually(t, func() bool {
		_, err := s.db.Summarise(ctx)
		require.NoError(t, err)
		_, err = s.db.Seal(ctx, curves.SealRule{})
		require.NoError(t, err)
		var left int
		require.NoError(t, s.db.Pool.QueryRow(ctx, "select count(*) from journal").Scan(&left))
		return left == 0
	}, 20*time.Second, 100*time.Millisecond, "the journal can be emptied")

	other := s.withPerson(t, "Tor")
	_, status := stalled(t, other, "/api/v1/projects/vessels/history?format=csv-long")
	require.Equal(t, http.StatusOK, status, "one person does not take all places")
}

// withPerson is the same service as another person sees it.
func (s *served) withPerson(t *testing.T, name string) *served {
	in := &api.NewPerson{}
	in.Body.Name, in.Body.Password = name, "a long password"
	call(t, s, api.AddPerson, in)
	p, err := s.db.PersonByName(ctx, name)
	require.NoError(t, err)
	other := *s
	who := s.owner
	who.ID, who.Name = p.ID, name
	other.Client = client.New(s.URL, s.token(t, who, 1).Secret)
	return &other
}

// Small bodies that would make large things are refused while they arrive, and take little.
func TestBodiesThatGrow(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	legPath := fmt.Sprintf("/api/v1/projects/vessels/runs/%d/legs/%d", leg.Number, leg.Leg)
	as := append(s.bearer(), "Content-Type", "application/json", "Kembrel-Recorder", leg.Recorder,
		"Idempotency-Key", uuid.NewString())
	for name, c := range map[string]struct{ path, head, item, tail string }{
		"objects in a history": {"/api/v1/projects/vessels/history", `{"curves":[`, `{},`, `{}]}`},
		"objects in a batch":   {legPath + "/batches", `{"number":1,"upto":1,"curves":[`, `{},`, `{}]}`},
		"notes":                {legPath + "/batches", `{"number":1,"upto":1,"notes":[`, `{},`, `{}]}`},
		"numbers":              {legPath + "/batches", `{"number":1,"upto":1,"axis":{"step":[`, `0,`, `0]}}`},
		"lists":                {legPath + "/checkpoints", `{"files":[`, `[],`, `[]]}`},
		"texts":                {"/api/v1/chunks/missing", `{"digests":[`, `"",`, `""]}`},
		"chunks of a file": {legPath + "/checkpoints",
			`{"step":1,"files":[{"path":"a","chunks":[`, `{},`, `{}]}]}`},
	} {
		t.Run(name, func(t *testing.T) {
			content := c.head + strings.Repeat(c.item, (15<<20)/len(c.item)) + c.tail
			if strings.HasSuffix(c.path, "missing") {
				content = c.head + strings.Repeat(c.item, (1<<20)/len(c.item)) + c.tail
			}
			runtime.GC()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			response, says := s.raw(t, "POST", c.path, content, as...)
			runtime.ReadMemStats(&after)
			require.Equal(t, http.StatusRequestEntityTooLarge, response.StatusCode, says)
			require.Contains(t, says, "send it in parts")
			require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100<<20))
		})
	}
}

// Who sends all of a body before reading the answer gets the refusal, not a broken connection.
func TestRefusedAfterSendingAll(t *testing.T) {
	s := serve(t)
	s.project(t)
	content := `{"curves":[` + strings.Repeat("{},", 5_000_000) + "{}]}"
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = fmt.Fprintf(conn,
		"POST /api/v1/projects/vessels/history HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\nIdempotency-Key: %s\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
		s.Token, uuid.NewString(), len(content), content)
	require.NoError(t, err)
	response, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	require.Equal(t, http.StatusRequestEntityTooLarge, response.StatusCode)
}

// Many bodies at once are taken as far as there is room, and what one holds is free again when it is gone.
func TestBodiesHaveABudget(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content, err := json.Marshal(batch(leg, 1, 0, "loss", make([]float64, 400_000)...).Body)
	require.NoError(t, err)
	path := fmt.Sprintf("%s/api/v1/projects/vessels/runs/%d/legs/%d/batches", s.URL, leg.Number, leg.Leg)
	var held []*io.PipeWriter
	var wait sync.WaitGroup
	statuses := make(chan int, 20)
	for range 6 { // each sends nearly all, and then no more
		r, w := io.Pipe()
		held = append(held, w)
		request, err := http.NewRequest("POST", path, r)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+s.Token)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Kembrel-Recorder", leg.Recorder)
		wait.Go(func() { w.Write(content[:len(content)-10]) })
		wait.Go(func() {
			response, err := http.DefaultClient.Do(request)
			if err == nil {
				response.Body.Close()
				statuses <- response.StatusCode
			}
		})
	}
	select {
	case status := <-statuses:
		require.Equal(t, http.StatusTooManyRequests, status)
	case <-time.After(3 * time.Minute):
		t.Fatal("all were taken")
	}
	for _, w := range held {
		w.CloseWithError(io.ErrUnexpectedEOF)
	}
	wait.Wait()
	require.Eventually(t, func() bool {
		request, err := http.NewRequest("POST", path, bytes.NewReader(content))
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer "+s.Token)
		request.Header.Set("Content-Type", "application/json")
		request.Header.Set("Kembrel-Recorder", leg.Recorder)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		response.Body.Close()
		return response.StatusCode == http.StatusOK
	}, 3*time.Minute, 100*time.Millisecond, "what was held is free again")
}
