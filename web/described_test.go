package web_test

import (
	"encoding/json"
	"fmt"
	"mime"
	"net/http"
	"path"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/web"
)

// described holds every answer of the API in every test of this package against the description: an operation answers
// with the statuses and media types that it is said to answer with, and with nothing else.
type described struct {
	t     testing.TB
	paths map[string]map[string]struct {
		Responses map[string]struct {
			Content map[string]any `json:"content"`
		} `json:"responses"`
	}
}

func describedBy(t testing.TB, s *web.Server) *described {
	text, err := s.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(text, &doc))
	d := &described{t: t}
	require.NoError(t, json.Unmarshal(doc.Paths, &d.paths))
	return d
}

// of is the path of the description that an address is of.
func (d *described) of(address string) string {
	got := strings.Split(address, "/")
	best := ""
	for template := range d.paths {
		parts := strings.Split(template, "/")
		fits := len(parts) == len(got)
		for i := 0; fits && i < len(parts); i++ {
			fits = parts[i] == got[i] || strings.HasPrefix(parts[i], "{") && got[i] != ""
		}
		if fits && (best == "" || strings.Count(template, "{") < strings.Count(best, "{")) {
			best = template
		}
	}
	return best
}

func (d *described) wrong(r *http.Request, status int, header http.Header) string {
	kind, _, _ := mime.ParseMediaType(header.Get("Content-Type"))
	template := d.of(r.URL.Path)
	method := strings.ToLower(r.Method)
	if method == "head" {
		method = "get"
	}
	op, there := d.paths[template][method]
	switch {
	case template == "" || !there:
		if status < 400 {
			return "no operation of the description"
		}
		return ""
	case status >= 400:
		if kind != "application/problem+json" {
			return "an error that is no problem but " + kind
		}
		return ""
	}
	response, there := op.Responses[strconv.Itoa(status)]
	if !there {
		return "a status that is not described"
	}
	if status == http.StatusNotModified { // without content, whatever its head says
		return ""
	}
	if kind == "" && (len(response.Content) == 0 || method == "get" && header.Get("Content-Length") == "0") {
		return ""
	}
	for media := range response.Content {
		if fits, _ := path.Match(media, kind); fits {
			return ""
		}
	}
	return fmt.Sprintf("%q, which is not described", kind)
}

// held is a handler whose answers are held against the description.
func (d *described) held(inner http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !strings.HasPrefix(r.URL.Path, "/api/") {
			inner.ServeHTTP(w, r)
			return
		}
		noted := &noting{ResponseWriter: w}
		asked := *r.URL
		inner.ServeHTTP(noted, r)
		if noted.status > 0 {
			if wrong := d.wrong(r, noted.status, w.Header()); wrong != "" {
				d.t.Errorf("%s %s answered %d with %s", r.Method, asked.Path, noted.status, wrong)
			}
		}
	})
}

// noting notes the status of an answer.
type noting struct {
	http.ResponseWriter
	status int
}

func (n *noting) WriteHeader(status int) {
	if n.status == 0 {
		n.status = status
	}
	n.ResponseWriter.WriteHeader(status)
}

func (n *noting) Write(p []byte) (int, error) {
	if n.status == 0 {
		n.status = http.StatusOK
	}
	return n.ResponseWriter.Write(p)
}

func (n *noting) Flush() { http.NewResponseController(n.ResponseWriter).Flush() }

func (n *noting) Unwrap() http.ResponseWriter { return n.ResponseWriter }
