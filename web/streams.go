package web

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"path"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"kembrel/api"
	"kembrel/core/history"
	"kembrel/service/act"
	"kembrel/service/comparing/document"
)

// history sends the history of runs. What fails under way cuts the answer off, so that it is not taken for whole.
func (w *server) history(ctx context.Context, who act.Who, in *api.HistoryInput) (*huma.StreamResponse, error) {
	done, err := w.export(who.ID)
	if err != nil {
		return nil, err
	}
	h, err := w.service.OpenHistory(ctx, in)
	if err != nil {
		done()
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer done()
		g := humagin.Unwrap(c)
		g.Header("Content-Type", history.MediaType(in.Format))
		g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s"`, h.FileName()))
		if isHead(g.Request.Context()) { // readings are not read for that
			return
		}
		if err := h.Write(g.Request.Context(), pressed{g.Writer}); err != nil {
			w.options.Log.Warn("a history was cut off", "err", err)
			panic(http.ErrAbortHandler)
		}
	}}, nil
}

// comparison sends a comparison as a document. It is written whole before it is sent, so that what fails is a problem.
func (w *server) comparison(ctx context.Context, who act.Who, in *api.DocumentInput) (*huma.StreamResponse, error) {
	c, err := w.service.ComparisonDocument(ctx, who, in)
	if err != nil {
		return nil, err
	}
	var content bytes.Buffer
	if err := c.Write(&content, in.Format); err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		name, media := document.FileName(in.Project, in.Format)
		g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s"`, name))
		g.Data(http.StatusOK, media, content.Bytes())
	}}, nil
}

// provenance sends lineage as W3C PROV, its things named as this service's.
func (w *server) provenance(ctx context.Context, who act.Who, in *api.ProvenanceInput) (*huma.StreamResponse, error) {
	l, err := w.service.GetLineage(ctx, who, &in.LineageInput)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		var content bytes.Buffer
		write, name, media := l.WriteJSON, "lineage.json", "application/json"
		if in.Format == "n" {
			write, name, media = l.WriteN, "lineage.provn", "text/provenance-notation"
		}
		if err := write(&content, w.here(g)); err != nil { // of what cannot be written as JSON: there is none
			panic(err)
		}
		g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s"`, name))
		g.Data(http.StatusOK, media, content.Bytes())
	}}, nil
}

// file sends a file of a checkpoint.
func (w *server) file(ctx context.Context, _ act.Who, in *api.FileInput) (*huma.StreamResponse, error) {
	reader, file, saved, err := w.service.OpenFile(ctx, in)
	return sendFile(reader, file, saved), err
}

// editionFile sends a file of an edition.
func (w *server) editionFile(ctx context.Context, who act.Who, in *api.EditionFileInput) (*huma.StreamResponse, error) {
	reader, file, saved, err := w.service.OpenEditionFile(ctx, who, in)
	return sendFile(reader, file, saved), err
}

// sendFile sends a file; Range and If-Range work as its ETag is the digest.
func sendFile(reader io.ReadSeeker, file api.File, saved time.Time) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		h := g.Writer.Header()
		h.Set("Content-Type", "application/octet-stream")
		h.Set("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(path.Base(file.Path)))
		h.Set("ETag", `"`+file.Digest+`"`)
		sendContent(g.Writer, asAsked(g.Request), saved, reader)
	}}
}

// sendContent sends content, or the range of it that is asked for, under the conditions of the request.
func sendContent(w http.ResponseWriter, r *http.Request, at time.Time, content io.ReadSeeker) {
	http.ServeContent(&refusing{steady: steady{w}}, r, "", at, content)
}

// refusing makes problems of what http.ServeContent refuses.
type refusing struct {
	steady
	refused bool
}

func (w *refusing) WriteHeader(status int) {
	var p *api.Problem
	switch status {
	case http.StatusPreconditionFailed:
		p = api.Fail(api.Precondition, "the content is not, or no longer, what the request's conditions say")
	case http.StatusRequestedRangeNotSatisfiable:
		p = api.Fail(api.NoRange, "none of the ranges asked for is in the content: %s",
			w.Header().Get("Content-Range"))
	default:
		w.steady.WriteHeader(status)
		return
	}
	w.refused = true
	w.Header().Del("Content-Disposition")
	sendProblem(w.steady, p)
}

func (w *refusing) Write(p []byte) (int, error) {
	if w.refused {
		return len(p), nil // what was to be said in plain text
	}
	return w.steady.Write(p)
}

// steady moves the deadline on with every piece that goes out.
type steady struct{ http.ResponseWriter }

// ReadFrom moves large pieces, as files are large.
func (s steady) ReadFrom(r io.Reader) (total int64, err error) {
	room := chunkRooms.Get().(*[]byte)
	defer chunkRooms.Put(room)
	for {
		n, err := r.Read((*room)[:1<<20])
		if n > 0 {
			if _, err := s.Write((*room)[:n]); err != nil {
				return total, err
			}
			total += int64(n)
		}
		if errors.Is(err, io.EOF) {
			return total, nil
		}
		if err != nil {
			return total, err
		}
	}
}

func (s steady) Write(p []byte) (int, error) {
	extendDeadline(s.ResponseWriter)
	return s.ResponseWriter.Write(p)
}

// events sends the live stream: server-sent events named by kind, with an id where the stream can be taken up again. A
// "hello" comes first; comments keep the connection alive.
func (w *server) events(_ context.Context, _ act.Who, in *api.EventsInput) (*huma.StreamResponse, error) {
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		control := http.NewResponseController(g.Writer)
		control.SetReadDeadline(time.Time{})
		ctx, cancel := context.WithCancel(g.Request.Context())
		defer cancel()
		w.metrics.streams.Inc()
		defer w.metrics.streams.Dec()
		out := make(chan string)
		write := func(text string) error {
			select {
			case out <- text:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		failed := make(chan error, 1)
		var telling sync.WaitGroup
		defer func() { cancel(); telling.Wait() }()
		telling.Go(func() {
			failed <- w.service.Subscribe(ctx, in,
				func(mark string) error { return write(fmt.Sprintf("event: hello\nid: %s\ndata: {}\n\n", mark)) },
				func(t act.Told) error {
					data, err := json.Marshal(t.Event)
					if err != nil {
						return err
					}
					text := fmt.Sprintf("event: %s\ndata: %s\n\n", t.Event.Kind, data)
					if t.Mark != "" {
						text = "id: " + t.Mark + "\n" + text
					}
					return write(text)
				})
		})
		calm := time.NewTicker(15 * time.Second)
		defer calm.Stop()
		began := false
		for {
			text := ": still here\n\n"
			select {
			case <-ctx.Done():
				return
			case err := <-failed:
				if !began {
					writeProblem(g, w.service.Problem(err))
				}
				return
			case text = <-out:
			case <-calm.C:
			case <-w.closing: // the client comes back by itself, here or at another replica
				if began {
					control.SetWriteDeadline(time.Now().Add(time.Second))
					g.Writer.WriteString("event: closing\nretry: 1000\ndata: {}\n\n")
					control.Flush()
				}
				return
			}
			if !began {
				began = true
				g.Writer.Header().Set("Content-Type", "text/event-stream")
				g.Writer.Header().Set("X-Accel-Buffering", "no")
				g.Writer.WriteHeader(http.StatusOK)
			}
			control.SetWriteDeadline(time.Now().Add(20 * time.Second))
			if _, err := g.Writer.WriteString(text); err != nil || control.Flush() != nil {
				return
			}
		}
	}}, nil
}
