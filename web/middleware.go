package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"path"
	"runtime/debug"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"kembrel/api"
	"kembrel/service/act"
)

const sessionCookie = "kembrel_session"

// policy allows the console's own files and nothing from elsewhere.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; img-src 'self' data: blob:; media-src 'self'; connect-src 'self'; " +
	"manifest-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

// observe logs and measures every request.
func (w *server) observe(c *gin.Context) {
	began := time.Now()
	c.Next()
	took := time.Since(began)
	method, route := c.Request.Method, c.FullPath()
	if route == "" { // labels are of routes that are there: nobody else's words become series
		method, route = "other", "other"
	}
	w.metrics.requests.WithLabelValues(method, route, strconv.Itoa(c.Writer.Status())).Observe(took.Seconds())
	w.options.Log.Debug("request", "method", c.Request.Method, "path", c.Request.URL.Path, "status", c.Writer.Status(),
		"ms", took.Milliseconds())
}

// recover turns a panic into a problem.
func (w *server) recover(c *gin.Context) {
	defer func() {
		if p := recover(); p != nil {
			if p == http.ErrAbortHandler {
				panic(p)
			}
			w.options.Log.Error("panic", "err", fmt.Sprint(p), "path", c.Request.URL.Path, "stack",
				string(debug.Stack()))
			if !c.Writer.Written() {
				writeProblem(c, api.Fail(api.Internal, "the service failed at this; its log says how"))
			}
			c.Abort()
		}
	}()
	c.Next()
}

// requestTime is how long a request may take; streams and large downloads extend it as they go on.
const requestTime = 60 * time.Second

// protect sets the headers that keep a browser safe, and the time a request may take.
func (w *server) protect(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cross-Origin-Resource-Policy", "same-origin")
	if w.options.Secure {
		h.Set("Strict-Transport-Security", "max-age=31536000") // RFC 6797; a year
	}
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
		h.Set(api.LevelHeader, strconv.Itoa(api.Level))
		h.Set(api.VersionHeader, w.options.Version)
		if strings.Contains(c.Request.URL.RawQuery, "%00") || strings.Contains(c.Request.URL.Path, "\x00") {
			writeProblem(c, api.Fail(api.Malformed, "there is a NUL byte in the request's address"))
			c.Abort()
			return
		}
		if level, err := strconv.Atoi(c.GetHeader(api.LevelHeader)); err == nil && level < api.LowestLevel {
			writeProblem(c, api.Fail(api.TooOld,
				"this client speaks level %d of the API, and this service (version %s) takes %d and up: update the client", level, w.options.Version, api.LowestLevel))
			c.Abort()
			return
		}
		if at, err := strconv.ParseInt(c.GetHeader(api.TimeHeader), 10, 64); err == nil && at > 0 && at < 1<<45 {
			c.Request = c.Request.WithContext(act.WithClock(c.Request.Context(), time.UnixMilli(at), time.Now()))
		}
	}
	c.Writer = hinting{c.Writer}
	extendDeadline(c.Writer)
	c.Next()
}

func extendDeadline(w http.ResponseWriter) {
	control := http.NewResponseController(w)
	control.SetReadDeadline(time.Now().Add(requestTime))
	control.SetWriteDeadline(time.Now().Add(requestTime))
}

type callerKey struct{}

// caller is what identify found out: a person, nobody, or why the token or session given is no good.
type caller struct {
	who act.Who
	err error
}

// identify finds out who asks, from a bearer token or a session cookie.
func (w *server) identify(c *gin.Context) {
	var found caller
	from := c.ClientIP()
	ctx := act.As(c.Request.Context(), act.Who{}, from)
	if !strings.HasPrefix(c.Request.URL.Path, "/api/") {
		c.Next()
		return
	}
	if header := c.GetHeader("Authorization"); header != "" {
		token, ok := strings.CutPrefix(header, "Bearer ")
		if !ok {
			found.err = api.Fail(api.SignedOut, "Authorization must read: Bearer and a token")
		} else {
			found.who, found.err = w.service.WhoByToken(act.ForRecorders(ctx), strings.TrimSpace(token), from)
		}
	} else if cookie, err := c.Cookie(sessionCookie); err == nil && cookie != "" {
		if w.foreignOrigin(c.Request) {
			found.err = api.Fail(api.Denied,
				"a session may change things only from the console's own pages (Origin check)")
		} else {
			found.who, found.err = w.service.WhoBySession(ctx, cookie)
		}
	}
	c.Request = c.Request.WithContext(context.WithValue(act.As(ctx, found.who, from), callerKey{}, found))
	c.Next()
}

// foreignOrigin reports whether a request that changes things comes from another site's page, or does not say from
// where.
func (w *server) foreignOrigin(r *http.Request) bool {
	if r.Method == http.MethodGet || r.Method == http.MethodHead {
		return false
	}
	origin, err := url.Parse(r.Header.Get("Origin"))
	if err != nil || origin.Host == "" || origin.Host != r.Host {
		return true
	}
	// The scheme is part of an origin. A proxy may end TLS before a plain service, and says that it was there.
	proxied := len(w.options.Proxies) > 0
	for _, by := range []string{"Forwarded", "X-Forwarded-For", "X-Forwarded-Proto", "Via"} {
		proxied = proxied || r.Header.Get(by) != ""
	}
	return origin.Scheme == "https" && !w.options.Secure && r.TLS == nil && !proxied
}

// allowed says why the caller may not use an operation, or nil.
func (w *server) allowed(c *gin.Context, op api.Spec) error {
	ctx := c.Request.Context()
	found, _ := ctx.Value(callerKey{}).(caller)
	if op.Access != api.Anyone && found.err != nil {
		return found.err
	}
	if model := c.Param("model"); model != "" {
		return w.service.AllowModel(ctx, op, model)
	}
	return w.service.Allow(ctx, op, c.Param("project"), c.Param("number"))
}

// whoAsks is the caller of an operation that the guard has let pass.
func whoAsks(ctx context.Context) act.Who {
	who, _ := act.Asks(ctx)
	return who
}

func writeProblem(c *gin.Context, p *api.Problem) {
	c.Writer.Header().Set("Content-Type", p.ContentType(""))
	c.AbortWithStatusJSON(p.Status, p)
}

// sendProblem answers with a problem outside of gin.
func sendProblem(w http.ResponseWriter, p *api.Problem) {
	w.Header().Set("Content-Type", p.ContentType(""))
	w.WriteHeader(p.Status)
	json.NewEncoder(w).Encode(p)
}

// newError makes Huma's own errors problems of ours, without echoing values.
func newError(status int, message string, errs ...error) huma.StatusError {
	p := api.Fail(api.KindOfStatus(status), "%s", message)
	for _, err := range errs {
		var known *api.Problem
		if errors.As(err, &known) {
			return known
		}
		var detail *huma.ErrorDetail
		if errors.As(err, &detail) {
			p.Errors = append(p.Errors, api.Detail{Location: detail.Location, Message: detail.Message})
		} else if err != nil {
			p.Errors = append(p.Errors, api.Detail{Message: err.Error()})
		}
	}
	return p
}

// consoleOrProblem serves the console: its files, and its page for every other path outside /api.
func (w *server) consoleOrProblem() gin.HandlerFunc {
	var page []byte
	if w.options.Console != nil {
		page, _ = fs.ReadFile(w.options.Console, "index.html")
	}
	files := http.FileServerFS(w.options.Console)
	return func(c *gin.Context) {
		p := path.Clean(c.Request.URL.Path)
		switch {
		case strings.HasPrefix(p, "/api/") || p == "/api" || page == nil:
			what := "no operation of the API"
			if page == nil && !strings.HasPrefix(p, "/api") {
				what = "not here: this binary was built without the console (make build)"
			}
			writeProblem(c, api.Fail(api.NotFound, "%s is %s", c.Request.URL.Path, what))
		case c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead:
			writeProblem(c, api.Fail(api.NotAllowed, "%s is not a method of %s", c.Request.Method, c.Request.URL.Path))
		case strings.HasPrefix(p, "/assets/"):
			if _, err := fs.Stat(w.options.Console, p[1:]); err != nil {
				writeProblem(c, api.Fail(api.NotFound, "%s is no file of the console", c.Request.URL.Path))
				return
			}
			c.Header("Cache-Control", "public, max-age=31536000, immutable") // names carry their content's hash
			files.ServeHTTP(c.Writer, c.Request)
		case p == "/favicon.svg":
			files.ServeHTTP(c.Writer, c.Request)
		default:
			c.Header("Cache-Control", "no-cache")
			c.Data(http.StatusOK, "text/html; charset=utf-8", page)
		}
	}
}
