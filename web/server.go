package web

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kembrel/api"
	"kembrel/service"
)

// Options are what the HTTP side needs beside the service.
type Options struct {
	Log     *slog.Logger
	Version string
	Console fs.FS     // built console
	Python  fs.FS     // the Python binding, handed out as wheels; nil: it is not
	Go      fs.FS     // the Go binding, handed out as a module; nil: it is not
	GoTime  time.Time // of its last change; zero: it is not known

	Platforms string      // folder of binaries for other platforms, which wheels for them carry
	TLS       *tls.Config // to answer with; nil: in the open, or a proxy does
	// the service is reached by https, so cookies are marked so, and browsers told to stay with it
	Secure  bool
	Proxies []string // addresses or networks of proxies that are believed in whom they ask for (X-Forwarded-For)
}

type server struct {
	service *service.Service
	options Options
	huma    huma.API
	metrics *metrics
	bodies  *shares // weight of bodies
	exports *shares // histories being read

	closing chan struct{} // closed when the service is about to end
}

// Server answers HTTP.
type Server struct {
	*server
	engine *gin.Engine
}

// New binds a service to its routes. A nil service serves to emit the OpenAPI description only.
func New(s *service.Service, o Options) *Server {
	if s == nil {
		s = &service.Service{}
	}
	gin.SetMode(gin.ReleaseMode)
	engine := gin.New()
	engine.RemoteIPHeaders = []string{"X-Forwarded-For"}
	if err := engine.SetTrustedProxies(o.Proxies); err != nil {
		panic(err) // CheckProxies says so before
	}
	engine.HandleMethodNotAllowed = true
	engine.RedirectTrailingSlash = false
	w := &server{service: s, options: o, metrics: newMetrics(s), bodies: newShares(bodiesInAll, bodiesEach),
		exports: newShares(exportsInAll, exportsEach), closing: make(chan struct{})}
	engine.Use(w.observe, w.recover, w.protect, w.identify)
	engine.NoMethod(func(c *gin.Context) {
		writeProblem(c, api.Fail(api.NotAllowed, "%s is not a method of %s", c.Request.Method, c.Request.URL.Path))
	})
	engine.NoRoute(w.consoleOrProblem())
	w.elsewhere(engine)
	if o.Python != nil {
		engine.GET("/python/*file",
			(&wheels{files: o.Python, version: o.Version, folder: o.Platforms, made: map[string]*wheel{}}).serve)
	}
	if o.Go != nil {
		engine.GET("/go/*file", (&goModule{files: o.Go, time: o.GoTime.UTC()}).serve)
	}

	huma.NewError = newError
	huma.NewErrorWithContext = func(_ huma.Context, status int, message string, errs ...error) huma.StatusError {
		return newError(status, message, errs...)
	}
	config := huma.DefaultConfig("Kembrel", o.Version)
	config.Info.Description = "Records training runs: hyperparameters, curves, checkpoints. Problems: docs/problems.md."
	config.DocsPath, config.SchemasPath = "", ""
	config.OpenAPIPath = api.Base + "/openapi"
	config.CreateHooks = nil // no $schema links in answers
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer", Description: "A personal token"},
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie, Description: "A console session"},
	}
	config.Formats = map[string]huma.Format{"application/json": config.Formats["application/json"],
		"json": config.Formats["json"], api.CBOR: api.Format, "cbor": api.Format}
	w.huma = humagin.New(engine, config)
	w.routes()
	w.namesCBOR()
	return &Server{server: w, engine: engine}
}

// CheckProxies says what is wrong with the addresses or networks of proxies.
func CheckProxies(proxies []string) error {
	for _, p := range proxies {
		_, address := netip.ParseAddr(p)
		if _, network := netip.ParsePrefix(p); address != nil && network != nil {
			return fmt.Errorf("trusted-proxy: %q is no address or network; write such as 127.0.0.1 or 10.0.0.0/8, separated by commas", p)
		}
	}
	return nil
}

// OpenAPI is the description of the API, version 3.1, as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.huma.OpenAPI().MarshalJSON() }

// Handler is the HTTP handler.
func (s *Server) Handler() http.Handler { return outer(s.engine) }

// Metrics is the handler of Prometheus metrics.
func (s *Server) Metrics() http.Handler {
	return promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{})
}

// How the service ends: for turnAway it answers new requests with 503, so that a proxy and clients go elsewhere;
// requests under way get finishTime.
const (
	turnAway   = 300 * time.Millisecond
	finishTime = 20 * time.Second
)

// whileOpen answers with 503 once the service is about to end.
func (w *server) whileOpen(inner http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		select {
		case <-w.closing:
			rw.Header().Set("Retry-After", "1")
			rw.Header().Set("Connection", "close")
			sendProblem(rw, api.Fail(api.Unavailable, "the service is being restarted; try again in a moment"))
		default:
			inner.ServeHTTP(rw, r)
		}
	})
}

// Serve answers on address, and with metrics on another ("" for none), until ctx ends; requests under way get some
// seconds to finish, new ones 503. ready is called once the addresses are taken and before the first answer: callers
// wait meanwhile. Its error ends it.
func (s *Server) Serve(ctx context.Context, address, metricsAddress string, ready func(address string) error) error {
	listener, err := listen(ctx, address)
	if err != nil {
		return err
	}
	requests, giveUp := context.WithCancel(context.WithoutCancel(ctx)) // those under way go on when ctx ends
	defer giveUp()
	main := &http.Server{Handler: s.whileOpen(s.Handler()), TLSConfig: s.options.TLS,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    5 * longestHead, // so that what is too long is answered with a problem
		ErrorLog:          slog.NewLogLogger(s.options.Log.Handler(), slog.LevelWarn),
		BaseContext:       func(net.Listener) context.Context { return requests }}
	listeners := map[*http.Server]net.Listener{main: listener}
	if metricsAddress != "" {
		l, err := listen(ctx, metricsAddress)
		if err != nil {
			listener.Close()
			return err
		}
		listeners[&http.Server{Handler: s.Metrics(), ReadHeaderTimeout: 10 * time.Second}] = l
	}
	if err := ready(listener.Addr().String()); err != nil {
		for _, l := range listeners {
			l.Close()
		}
		return err
	}
	failed := make(chan error, len(listeners))
	for server, l := range listeners {
		go func() {
			if server.TLSConfig != nil {
				failed <- server.ServeTLS(l, "", "")
				return
			}
			failed <- server.Serve(worded(server, l))
		}()
	}
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	close(s.closing)
	if err == nil {
		time.Sleep(turnAway)
	}
	stopping, cancel := context.WithTimeout(requests, finishTime)
	defer cancel()
	for server := range listeners {
		if server.Shutdown(stopping) != nil {
			server.Close()
		}
	}
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

func listen(ctx context.Context, address string) (net.Listener, error) {
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", address)
	if err != nil {
		return nil,
			fmt.Errorf("cannot listen on %s (%w); end the program that does, or choose another address with --listen or --metrics", address, err)
	}
	return l, nil
}
