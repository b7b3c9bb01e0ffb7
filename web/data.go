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

// items sends the items of a snapshot as a table. What fails under way cuts the answer off, so that it is not taken for
// whole.
func (w *server) items(_ context.Context, who act.Who, in *api.ItemsFileInput) (*huma.StreamResponse, error) {
	done, err := w.export(who.ID)
	if err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(c huma.Context) {
		defer done()
		g := humagin.Unwrap(c)
		begun := false
		err := w.service.ItemsTable(g.Request.Context(), in, func(name string) io.Writer {
			begun = true
			g.Header("Content-Type", history.MediaType(in.Format))
			g.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s%s"`, name, history.Extension(in.Format)))
			return steady{g.Writer}
		})
		switch {
		case err == nil:
		case begun:
			w.options.Log.Warn("an export of items was cut off", "err", err)
			panic(http.ErrAbortHandler)
		default:
			p := w.service.Problem(err)
			huma.WriteErr(w.huma, c, p.Status, p.Detail, p)
		}
	}}, nil
}

// itemBytes sends the bytes of an item. What they are is told by their content, so that a browser shows pictures, plays
// sounds, and runs nothing.
func (w *server) itemBytes(ctx context.Context, _ act.Who, in *api.ItemInput) (*huma.StreamResponse, error) {
	r, it, err := w.service.Bytes(ctx, in)
	if err != nil {
		return nil, err
	}
	head := make([]byte, min(512, it.Size))
	if _, err := r.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, err
	}
	media := dataset.MediaOf(head)
	if media.Kind == "picture" && !drawable(media.Type, r, it.Size) {
		media = dataset.Media{Type: "application/octet-stream"}
	}
	name, digest := it.Key, it.Digest.String()
	return &huma.StreamResponse{Body: func(c huma.Context) {
		g := humagin.Unwrap(c)
		harmless(g, media, name)
		g.Header("ETag", `"`+digest+`"`)
		g.Header("Cache-Control", "private, max-age=86400, immutable")
		http.ServeContent(steady{g.Writer}, g.Request, "", time.Time{}, r)
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
