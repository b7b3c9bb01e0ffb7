package web

import (
	"context"
	"net/http"
	"strings"

	"github.com/klauspost/compress/gzhttp"

	"kembrel/api"
)

// compressed are the media types that are sent smaller where the client takes that; what is not among them (files of
// checkpoints, Parquet, pictures, fonts) is small already, or is read in parts.
var compressed = []string{"application/json", "application/problem+json", "application/jsonl", "text/html", "text/css",
	"text/javascript", "text/csv", "text/markdown", "text/plain", "text/provenance-notation", "image/svg+xml"}

// outer is what HTTP has beside the operations: answers are compressed (zstd or gzip), and HEAD is GET without the
// content. The stream of events has neither.
func outer(inner http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(1024), gzhttp.CompressionLevel(2), gzhttp.ContentTypes(compressed))
	if err != nil {
		panic(err) // of options that are wrong, which a test would find
	}
	smaller := wrap(inner)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := tooLong(r)
		if e := r.Header.Get("Expect"); e != "" && !strings.EqualFold(e, "100-continue") {
			p = unexpected() // over HTTP/2; before, it does not come so far
		}
		if p != nil {
			sendProblem(w, p)
			return
		}
		events := strings.HasPrefix(r.URL.Path, api.Base+"/events")
		if r.Method == http.MethodHead && strings.HasPrefix(r.URL.Path, "/api/") && !events {
			r = r.Clone(context.WithValue(r.Context(), headKey{}, true))
			r.Method = http.MethodGet // the server sends no content all the same
		}
		if events {
			inner.ServeHTTP(w, r)
			return
		}
		smaller(w, r)
	})
}

// What an address and the header fields of a request may take; the server itself stops reading at a multiple of it.
const (
	longestAddress = 16 << 10
	longestHead    = 64 << 10
)

func tooLong(r *http.Request) *api.Problem {
	if len(r.RequestURI) > longestAddress {
		return api.Fail(api.TooLong, "the address has %d bytes, and at most %d are read: ask for less in it",
			len(r.RequestURI), longestAddress)
	}
	size := 0
	for name, values := range r.Header {
		for _, v := range values {
			size += len(name) + len(v) + 4
		}
	}
	if size > longestHead {
		return api.Fail(api.HeadTooLong, "the header fields have %d bytes, and at most %d are read", size, longestHead)
	}
	return nil
}

type headKey struct{}

// isHead reports whether what is asked for is the head of an answer alone.
func isHead(ctx context.Context) bool { return ctx.Value(headKey{}) != nil }

// asAsked is a request with the method that it came with.
func asAsked(r *http.Request) *http.Request {
	if !isHead(r.Context()) {
		return r
	}
	r = r.Clone(r.Context())
	r.Method = http.MethodHead
	return r
}
