package web

import (
	"context"
	"fmt"
	"image"
	_ "image/gif" // so that the sizes of these are known
	_ "image/jpeg"
	_ "image/png"
	"io"
	"net/http"
	"net/url"
	"path"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/core/history"
	"kembrel/service/act"
)

// items sends the items of a snapshot as a table.
func (w *server) items(_ context.Context, who act.Who, in *api.ItemsFileInput) (*huma.StreamResponse, error) {
	return w.table(who, in.Format, func(ctx context.Context, begin func(name string) io.Writer) error {
		return w.service.ItemsTable(ctx, in, begin)
	})
}

// examples sends a prediction sheet as a table.
func (w *server) examples(_ context.Context, who act.Who, in *api.ExamplesFileInput) (*huma.StreamResponse, error) {
	return w.table(who, in.Format, func(ctx context.Context, begin func(name string) io.Writer) error {
		return w.service.ExamplesTable(ctx, in, begin)
	})
}

// table sends a table in a format. What fails under way cuts the answer off, so that it is not taken for whole.
func (w *server) table(who act.Who, format string,
	write func(ctx context.Context, begin func(name string) io.Writer) error) (*huma.StreamResponse, error) {
	done, err := w.export(who.ID)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer done()
		g := humagin.Unwrap(c)
		begun := false
		err := write(g.Request.Context(), func(name string) io.Writer {
			begun = true
			g.Header("Content-Type", history.MediaType(format))
			g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s%s"`, name, history.Extension(format)))
			return pressed{g.Writer}
		})
		switch {
		case err == nil:
		case begun:
			w.options.Log.Warn("an export was cut off", "err", err)
			panic(http.ErrAbortHandler)
		default:
			p := w.service.Problem(err)
			huma.WriteErr(w.huma, c, p.Status, p.Detail, p)
		}
	}}, nil
}

// content is bytes that can be read at any place.
type content interface {
	io.ReadSeeker
	io.ReaderAt
	Size() int64
}

// itemBytes sends the bytes of an item.
func (w *server) itemBytes(ctx context.Context, _ act.Who, in *api.ItemInput) (*huma.StreamResponse, error) {
	r, it, err := w.service.Bytes(ctx, in)
	if err != nil {
		return nil, err
	}
	return media(r, it.Key, it.Digest.String())
}

// exampleMedia sends what an example of a prediction sheet shows of itself.
func (w *server) exampleMedia(ctx context.Context, _ act.Who, in *api.ExampleMediaInput) (*huma.StreamResponse, error) {
	r, name, err := w.service.Media(ctx, in)
	if err != nil {
		return nil, err
	}
	tag := ""
	if in.Sheet > 0 {
		tag = fmt.Sprintf("%d-%d-%s", in.Sheet, in.Row, in.Name)
	}
	return media(r, name, tag)
}

// runFile sends a file that a run wrote.
func (w *server) runFile(ctx context.Context, _ act.Who, in *api.RunFileContentInput) (*huma.StreamResponse, error) {
	r, f, err := w.service.RunFileContent(ctx, in)
	if err != nil {
		return nil, err
	}
	return media(r, f.Path, "")
}

// media sends bytes of strangers. What they are is told by their content, so that a browser shows pictures, plays
// sounds, and runs nothing. tag stands for the bytes where they never change; "" where their address names the latest.
func media(r content, name, tag string) (*huma.StreamResponse, error) {
	head := make([]byte, min(512, r.Size()))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, err
	}
	kind := dataset.MediaOf(head)
	if kind.Kind == "picture" && !drawable(kind.Type, r, r.Size()) {
		kind = dataset.Media{Type: "application/octet-stream"}
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		harmless(g, kind, name)
		if tag != "" {
			g.Header("ETag", `"`+tag+`"`)
			g.Header("Cache-Control", "private, max-age=86400, immutable")
		}
		sendContent(g.Writer, asAsked(g.Request), time.Time{}, r)
	}}, nil
}

// mostPixels is how large a picture is shown: drawn, it takes four bytes a pixel.
const mostPixels = 64 << 20

// drawable reports whether a picture is one, and small enough to be drawn by a browser.
func drawable(kind string, r io.ReaderAt, size int64) bool {
	switch kind {
	case "image/png", "image/jpeg", "image/gif":
		c, _, err := image.DecodeConfig(io.NewSectionReader(r, 0, 1<<20))
		return err == nil && int64(c.Width)*int64(c.Height) <= mostPixels
	}
	return size <= mostPixels/4
}

// harmless says what bytes of strangers are, in a way that a browser runs nothing of them, wherever they are opened.
func harmless(g *gin.Context, m dataset.Media, name string) {
	g.Header("Content-Type", m.Type)
	g.Header("X-Content-Type-Options", "nosniff")
	g.Header("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; sandbox")
	g.Header("Cross-Origin-Resource-Policy", "same-origin")
	g.Header("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(path.Base(name)))
	g.Header("Kembrel-Media", m.Kind)
}

// description sends the description of an edition as a file. Nothing in it runs.
func (w *server) description(ctx context.Context, who act.Who, in *api.DescriptionInput) (*huma.StreamResponse, error) {
	content, name, media, err := w.service.DescriptionFile(ctx, who, in)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s"`, name))
		g.Data(http.StatusOK, media, content)
	}}, nil
}
