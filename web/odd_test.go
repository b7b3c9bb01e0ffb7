package web_test

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// odd makes requests for operations as the OpenAPI file describes them, with values that are sometimes as they should
// be and often odd.
type odd struct {
	*rand.Rand
	schemas map[string]any
	known   map[string][]string // good values of parameters
}

var oddTexts = []string{"", "\x00", "a\x00b", "\xff\xfe", "\u202e", "💥", "-1", "0", "1", "2", "9223372036854775807",
	"9223372036854775808", "1e-999999999", "1e999", "NaN", "Infinity",
	"null", "true", "[]", "{}", "'", "\"", "%00", "..", "../../etc/passwd", "b3:00", "a,b", "loss desc",
	"hyper.lr > 1e-999999999", "loss.val < ", "((((((((1))))))))", "2026-13-40",
	"best", "last", "s1", "e1", "@best", "runs", "csv", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z",
	"+262143-01-01T00:00:00Z", "\\u0000", strings.Repeat("a", 300), strings.Repeat("(", 3000),
	strings.Repeat("a || ", 500) + "a", "\r\nX-Injected: 1", "état", "{\"a\":\"\x00\"}", "MQ==", "AAAA", "eyJ2IjoxfQ"}

func (o *odd) text() string { return oddTexts[o.IntN(len(oddTexts))] }

func (o *odd) parameter(name string, schema map[string]any) string {
	if good := o.known[name]; len(good) > 0 && o.IntN(3) > 0 {
		return good[o.IntN(len(good))]
	}
	if values, ok := schema["enum"].([]any); ok && o.IntN(4) > 0 {
		return fmt.Sprint(values[o.IntN(len(values))])
	}
	if schema["type"] == "integer" && o.IntN(3) > 0 {
		return fmt.Sprint([]int64{0, 1, 2, 100, 500, -1, 1 << 31, 1 << 62}[o.IntN(8)])
	}
	return o.text()
}

// value makes JSON of a schema.
func (o *odd) value(schema map[string]any, depth int) any {
	if ref, ok := schema["$ref"].(string); ok {
		schema = o.schemas[ref[strings.LastIndex(ref, "/")+1:]].(map[string]any)
	}
	if o.IntN(25) == 0 || depth > 6 {
		return []any{nil, true, -1, 0, 1e300, o.text(), []any{}, map[string]any{}}[o.IntN(8)]
	}
	if values, ok := schema["enum"].([]any); ok {
		return values[o.IntN(len(values))]
	}
	kind := schema["type"]
	if kinds, ok := kind.([]any); ok {
		kind = kinds[0]
	}
	switch kind {
	case "object":
		out := map[string]any{}
		properties, _ := schema["properties"].(map[string]any)
		names := make([]string, 0, len(properties))
		for name := range properties {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			if property := properties[name].(map[string]any); slices.Contains(required(schema), name) &&
				o.IntN(20) > 0 || o.IntN(2) == 0 {
				out[name] = o.value(property, depth+1)
			}
		}
		if values, ok := schema["additionalProperties"].(map[string]any); ok {
			for range o.IntN(4) {
				out[o.text()] = o.value(values, depth+1)
			}
		}
		return out
	case "array":
		out := []any{}
		for range o.IntN(4) {
			out = append(out, o.value(schema["items"].(map[string]any), depth+1))
		}
		return out
	case "integer":
		return []any{0, 1, 2, 12, -1, int64(1) << 40, int64(9223372036854775807), json.RawMessage("1e3"),
			json.RawMessage("99999999999999999999")}[o.IntN(9)]
	case "number":
		return []any{0, 0.5, -1, 1e308, json.RawMessage("1e-999999999"), json.RawMessage("1e999999"), "NaN",
			"Infinity"}[o.IntN(8)]
	case "boolean":
		return o.IntN(2) == 0
	case "string":
		switch schema["format"] {
		case "uuid":
			return uuid.NewString()
		case "date-time":
			return []string{"2026-11-28T10:00:00Z", "0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z",
				"1970-01-01T00:00:00Z"}[o.IntN(4)]
		}
		if good := o.known["text"]; o.IntN(2) == 0 {
			return good[o.IntN(len(good))]
		}
		return o.text()
	}
	return []any{0.5, 1, "text", json.RawMessage("1e-999999999"), json.RawMessage("123456789012345678901234567890"),
		map[string]any{"a": "\x00"}, []any{1, "\x00"}, nil}[o.IntN(8)]
}

func required(schema map[string]any) (out []string) {
	names, _ := schema["required"].([]any)
	for _, n := range names {
		out = append(out, n.(string))
	}
	return out
}

// Whatever comes, no operation fails by a fault of the service: bad input is the sender's (4xx), and is answered at
// once.
func TestOddRequests(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 3, 2, 1))
	text, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	var described struct {
		Paths      map[string]map[string]map[string]any
		Components struct{ Schemas map[string]any }
	}
	require.NoError(t, json.Unmarshal(text, &described))
	seed := uint64(20261128)
	if os.Getenv("KEMBREL_SEED") != "" {
		fmt.Sscan(os.Getenv("KEMBREL_SEED"), &seed)
	}
	o := &odd{Rand: rand.New(rand.NewPCG(seed, 1)), schemas: described.Components.Schemas, known: map[string][]string{
		"project": {"vessels"}, "number": {"1"}, "leg": {"1"}, "Kembrel-Recorder": {leg.Recorder},
		"Idempotency-Key": {uuid.NewString(), "x"}, "at": {"best", "last", "s1"},
		"where": {`hyper.lr > 1e-5`, `best < 1 && state == "running"`}, "names": {"loss.val"},
		"columns": {"hyper.lr,best,last"}, "sort": {"best", "hyper.lr", "started"},
		"text": {"loss.val", "vessels", "vessels/1", "vessels/1@best", "loss.val lower", "running",
			"b3:" + strings.Repeat("0", 64), "harbour"}, "runs": {"1"},
	}}
	type operation struct {
		method, path string
		spec         map[string]any
	}
	var operations []operation
	for path, methods := range described.Paths {
		for method, spec := range methods {
			if id := spec["operationId"]; id != "events" && id != "sign-out" && id != "revoke-token" &&
				id != "delete-run" && id != "set-password" {
				operations = append(operations, operation{strings.ToUpper(method), path, spec})
			}
		}
	}
	slices.SortFunc(operations, func(a, b operation) int { return strings.Compare(a.method+a.path, b.method+b.path) })
	require.Greater(t, len(operations), 60)
	client := &http.Client{Timeout: 30 * time.Second}
	answered := map[int]int{}
	for range 60 {
		for _, op := range operations {
			path, query := op.path, url.Values{}
			headers := map[string]string{}
			parameters, _ := op.spec["parameters"].([]any)
			for _, p := range parameters {
				p := p.(map[string]any)
				name, schema := p["name"].(string), p["schema"].(map[string]any)
				value := o.parameter(name, schema)
				switch p["in"] {
				case "path":
					if value == "" || value == "." || value == ".." {
						value = "x"
					}
					path = strings.Replace(path, "{"+name+"}", url.PathEscape(value), 1)
				case "query":
					if o.IntN(2) == 0 {
						query.Add(name, value)
					}
				case "header":
					if !strings.ContainsAny(value, "\x00\r\n") {
						headers[name] = value
					}
				}
			}
			body := ""
			if content, ok := op.spec["requestBody"].(map[string]any); ok {
				media := content["content"].(map[string]any)
				if json, ok := media["application/json"].(map[string]any); ok {
					body = o.body(json["schema"].(map[string]any))
				} else {
					body = o.text()
				}
			}
			request, err := http.NewRequest(op.method, s.URL+path+"?"+query.Encode(), strings.NewReader(body))
			require.NoError(t, err)
			request.Header.Set("Authorization", "Bearer "+s.Token)
			request.Header.Set("Content-Type", "application/json")
			for name, value := range headers {
				request.Header.Set(name, value)
			}
			response, err := client.Do(request)
			require.NoError(t, err, "%s %s", op.method, request.URL)
			answer, _ := io.ReadAll(io.LimitReader(response.Body, 2000))
			response.Body.Close()
			answered[response.StatusCode]++
			if response.StatusCode >= 500 {
				t.Errorf("%s %s\n%.1500q\n%d %s", op.method, request.URL, body, response.StatusCode, answer)
			}
		}
	}
	t.Log(answered)
	require.Greater(t, answered[200], 500, "many requests were as they should be")
}

func (o *odd) body(schema map[string]any) string {
	if o.IntN(30) == 0 {
		return o.text()
	}
	text, err := json.Marshal(o.value(schema, 0))
	if err != nil {
		return "{"
	}
	return string(text)
}
