package web_test

import (
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
	"kembrel/core/tensor"
)

// rawSafetensors is a file with a header of one's own.
func rawSafetensors(header string, data int) []byte {
	b := binary.LittleEndian.AppendUint64(nil, uint64(len(header)))
	return append(append(b, header...), make([]byte, data)...)
}

// One bad file of weights, or one whose chunk is damaged or away, costs itself: those behind it are looked into, and
// what is away comes back.
func TestBadWeightsCostThemselves(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	state := func(at string) *api.Tensors {
		return call(t, s, api.GetTensors,
			&api.TensorsInput{CheckpointInput: api.CheckpointInput{RunInput: leg.RunInput, At: at}})
	}
	ready := func(at string) (got *api.Tensors) {
		require.Eventually(t, func() bool { got = state(at); return got.Ready || got.Problem != "" }, 60*time.Second,
			20*time.Millisecond, at)
		return got
	}
	many := strings.Builder{}
	for i := range 120_000 {
		many.WriteString(`,"t` + strconv.Itoa(i) + `":{"dtype":"F32","shape":[0],"data_offsets":[0,0]}`)
	}
	bad := map[int64][]byte{
		1: rawSafetensors(`{"a\u0000b":{"dtype":"F32","shape":[1],"data_offsets":[0,4]}}`, 4),
		2: rawSafetensors("{"+many.String()[1:]+"}", 0),
		3: []byte("nothing of the kind"),
		4: rawSafetensors(`{"a":{"dtype":"F32","shape":[1000000000],"data_offsets":[0,4000000000]}}`, 4),
	}
	for step, content := range bad {
		s.put(t, content)
		call(t, s, api.CommitCheckpoint, manifest(leg, step, map[string][]byte{"weights.safetensors": content}))
	}
	s.keepWeights(t, leg, 10, tensor.Float64("good.weight", []int64{2}, []float64{1, 2}))
	got := ready("s10")
	require.Empty(t, got.Problem)
	require.EqualValues(t, 2, got.Parameters)
	require.Equal(t, "a\uFFFDb", ready("s1").Tensors[0].Name)
	for _, at := range []string{"s2", "s3", "s4"} {
		require.NotEmpty(t, ready(at).Problem, at)
		require.Contains(t, ready(at).Says, "The weights cannot be read: ")
	}
	_, err := s.db.Pool.Exec(ctx, "delete from tensor_file")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return state("s10").Ready }, 40*time.Second, 100*time.Millisecond,
		"what nobody has looked into is found")
}

// Of many checkpoints each is judged by its own statistics.
func TestOddOfManyCheckpoints(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	for step := int64(1); step <= 140; step++ {
		values := []float64{1, -1, float64(step) / 1000, 0.5}
		if step == 77 {
			values = []float64{0, 0, 0, 0}
		}
		s.keepWeights(t, leg, step, tensor.Float64("a.weight", []int64{2, 2}, values))
	}
	for at, odd := range map[string]string{"s76": "", "s77": "dead", "s78": "", "s140": ""} {
		require.Eventually(t, func() bool {
			got := call(t, s, api.GetTensors,
				&api.TensorsInput{CheckpointInput: api.CheckpointInput{RunInput: leg.RunInput, At: at}})
			return got.Ready && got.Tensors[0].Odd == odd
		}, 60*time.Second, 50*time.Millisecond, at)
	}
}

// A clock that is wrong is noticed: times are corrected by the service's, and the difference is said.
func TestWrongClock(t *testing.T) {
	s := serve(t)
	s.project(t)
	theirs := time.Now().Add(2*time.Hour + 13*time.Minute)
	header := append(s.bearer(), "Content-Type", "application/json", api.TimeHeader,
		strconv.FormatInt(theirs.UnixMilli(), 10))
	post := func(path, body string) string {
		response, text := s.raw(t, "POST", "/api/v1/projects/vessels/runs"+path, body,
			append(header, "Idempotency-Key", uuid.NewString())...)
		require.Less(t, response.StatusCode, 300, text)
		return text
	}
	when := func(back time.Duration) string { return theirs.Add(-back).Format(time.RFC3339Nano) }
	post("", `{"started":"`+when(10*time.Minute)+`"}`)
	recorder := uuid.NewString()
	post("/1/legs", `{"recorder":"`+recorder+`","host":"hydra-1","started":"`+when(10*time.Minute)+`"}`)
	header = append(header, "Kembrel-Recorder", recorder)
	post("/1/legs/1/batches",
		`{"number":1,"upto":1,"axis":{"step":[1],"epoch":[1],"time":[`+strconv.FormatInt(theirs.Add(-5*time.Minute).UnixMilli(), 10)+`]},"curves":[{"name":"loss.val","values":[1]}]}`)
	b := curve.Batch{Axis: []curve.Point{{Step: 2, Epoch: 2, Time: theirs.Add(-4 * time.Minute).UnixMilli()}},
		Columns: []curve.Column{{Curve: 1, Values: []float64{1}}}}
	packed := base64.StdEncoding.EncodeToString(curve.AppendJournal(nil, b))
	post("/1/legs/1/batches", `{"number":2,"upto":2,"packed":"`+packed+`"}`)
	post("/1/legs/1/end", `{"state":"finished","at":"`+when(time.Minute)+`"}`)
	run := call(t, s, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: 1})
	require.WithinDuration(t, time.Now().Add(-10*time.Minute), run.Started, 5*time.Second)
	require.WithinDuration(t, time.Now().Add(-time.Minute), *run.Ended, 5*time.Second)
	require.InDelta(t, 9*60, run.Took, 3)
	require.Contains(t, run.Notes[0].Text, "The clock of hydra-1 is 2h13m0s ahead of the service's.")
	response, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?runs=1&format=csv-long", "", s.bearer()...)
	require.Equal(t, http.StatusOK, response.StatusCode)
	for i, back := range []time.Duration{5 * time.Minute, 4 * time.Minute} {
		at, err := strconv.ParseInt(strings.Split(strings.Split(text, "\n")[i+1], ",")[4], 10, 64)
		require.NoError(t, err)
		require.WithinDuration(t, time.Now().Add(-back), time.UnixMilli(at), 5*time.Second)
	}

	// What lies in the future, or says nothing of its clock, is now.
	response, text = s.raw(t, "POST", "/api/v1/projects/vessels/runs",
		`{"started":"`+time.Now().Add(900*time.Hour).Format(time.RFC3339)+`"}`,
		append(s.bearer(), "Content-Type", "application/json", "Idempotency-Key", uuid.NewString())...)
	require.Equal(t, 201, response.StatusCode, text)
	var begun api.Run
	require.NoError(t, json.Unmarshal([]byte(text), &begun))
	require.WithinDuration(t, time.Now(), begun.Started, 5*time.Second)
}

// A client and a service of different age say so, whatever they cannot read of each other.
func TestLevels(t *testing.T) {
	s := serve(t)
	response, text := s.raw(t, "GET", "/api/v1/health", "", api.LevelHeader, "0")
	require.Equal(t, 426, response.StatusCode)
	require.Contains(t, text, "urn:kembrel:problem:too-old")
	response, _ = s.raw(t, "GET", "/api/v1/health", "", api.LevelHeader, "99")
	require.Equal(t, 200, response.StatusCode, "a newer client finds out for itself")
	require.Equal(t, strconv.Itoa(api.Level), response.Header.Get(api.LevelHeader))
	for level, c := range map[string]struct {
		status int
		body   string
		says   string
	}{
		"1": {404, `{"type":"urn:kembrel:problem:not-found","status":404,"detail":"there is no operation here"}`,
			"older than this kembrel"},
		"": {422, `{"type":"urn:kembrel:problem:invalid","status":422,"detail":"unexpected property"}`,
			"older than this kembrel"},
		"99": {200, `{"items":"something else"}`, "newer than this kembrel"},
	} {
		other := serveOnce(t, func(w http.ResponseWriter) {
			if level != "" {
				w.Header().Set(api.LevelHeader, level)
			}
			w.Header().Set(api.VersionHeader, "9.9")
			w.Header().Set("Content-Type", map[bool]string{true: "application/problem+json",
				false: "application/json"}[c.status >= 400])
			w.WriteHeader(c.status)
			w.Write([]byte(c.body))
		})
		_, err := client.Call(ctx, client.New(other, ""), api.ListProjects, &api.ProjectsInput{})
		require.ErrorContains(t, err, c.says, level)
		require.ErrorContains(t, err, "9.9", level)
	}
}

// Whole numbers keep all their digits in every text that goes out.
func TestExportsKeepDigits(t *testing.T) {
	s := serve(t)
	s.project(t)
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Hyper = map[string]json.RawMessage{"seed": json.RawMessage("12345678901234567890"),
		"small": json.RawMessage("12345678"), "big": json.RawMessage("9007199254740993"),
		"on":    json.RawMessage("false"),
		"empty": json.RawMessage(`""`), "zero": json.RawMessage("0"), "formula": json.RawMessage(`"=1+1"`),
		"minus": json.RawMessage("-3")}
	in.Body.Recipe.Command = []string{}
	call(t, s, api.BeginRun, in)
	get := func(format string) string {
		response, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?what=runs&format="+format,
			"", s.bearer()...)
		require.Equal(t, http.StatusOK, response.StatusCode, text)
		return text
	}
	csv := get("csv")
	for _, want := range []string{"12345678901234567890", ",12345678,", "9007199254740993", "false", "'=1+1", ",-3,"} {
		require.Contains(t, csv, want)
	}
	require.NotContains(t, csv, "e+")
	lines := get("jsonl")
	for _, want := range []string{`"hyper.seed":12345678901234567890`, `"hyper.small":12345678`,
		`"hyper.big":9007199254740993`, `"hyper.on":false`, `"hyper.empty":""`, `"hyper.zero":0`,
		`"hyper.formula":"=1+1"`, `"hyper.minus":-3`} {
		require.Contains(t, lines, want)
	}
}

// A restore of what is away says what and what to do, at once with its status; it is whole when it is back, and so is
// the mark.
func TestFileWithoutItsChunk(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	content := noise(300_000, 9)
	s.put(t, content)
	call(t, s, api.CommitCheckpoint, manifest(leg, 1, map[string][]byte{"w": content}))
	pack := filepath.Join(s.blobs, "pack")
	require.NoError(t, os.Rename(pack, pack+"-away"))
	response, text := s.raw(t, "GET", "/api/v1/projects/vessels/runs/1/checkpoints/s1/file?path=w", "",
		append(s.bearer(), "Range", "bytes=10-20")...)
	require.Equal(t, http.StatusServiceUnavailable, response.StatusCode)
	require.Contains(t, text, "urn:kembrel:problem:chunk-gone")
	require.Contains(t, text, "try again")
	found := call(t, s, api.CheckBlobs, &api.CheckBlobsInput{})
	require.Len(t, found.Damaged, 1)
	require.True(t, found.Damaged[0].Missing)
	require.EqualValues(t, 1, call(t, s, api.GetBlobs, &struct{}{}).Missing)
	require.NoError(t, os.Rename(pack+"-away", pack))
	response, text = s.raw(t, "GET", "/api/v1/projects/vessels/runs/1/checkpoints/s1/file?path=w", "", s.bearer()...)
	require.Equal(t, http.StatusOK, response.StatusCode)
	require.Len(t, text, len(content))
	require.Zero(t, call(t, s, api.GetBlobs, &struct{}{}).Missing)
}
