package web

import (
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/service/people"
)

// tryCookie binds a sign-in with a provider to the browser that began it.
const tryCookie = "kembrel_sign_in"

// elsewhere serves sign-in with providers: addresses that browsers, and the providers, go to themselves.
func (w *server) elsewhere(engine *gin.Engine) {
	engine.GET("/oidc/:provider", w.beginElsewhere)
	engine.GET("/oidc/:provider/back", w.finishElsewhere)
	engine.POST("/oidc/:provider/logout", w.endedElsewhere)
}

// back is where a provider sends the browser.
func (w *server) back(c *gin.Context) string {
	return w.here(c) + "/oidc/" + c.Param("provider") + "/back"
}

// here is this service, as whoever asks reached it.
func (w *server) here(c *gin.Context) string {
	if w.options.Secure {
		return "https://" + c.Request.Host
	}
	return "http://" + c.Request.Host
}

// ownPage is a page of the console that somebody may be sent to; anything else is its start.
func ownPage(next string) string {
	if !strings.HasPrefix(next, "/") || strings.HasPrefix(next, "//") || strings.ContainsAny(next, "\\\r\n\t") {
		return "/"
	}
	return next
}

func (w *server) trying(state string, age int) *http.Cookie {
	// Lax: it comes along when the provider sends the browser back.
	return &http.Cookie{Name: tryCookie, Value: state, Path: "/oidc/", MaxAge: age, HttpOnly: true,
		SameSite: http.SameSiteLaxMode, Secure: w.options.Secure}
}

func (w *server) beginElsewhere(c *gin.Context) {
	ctx := act.As(c.Request.Context(), act.Who{}, c.ClientIP())
	address, state, err := w.service.BeginElsewhere(ctx, c.Param("provider"), w.back(c), ownPage(c.Query("next")))
	if err != nil {
		w.sayElsewhere(c, err)
		return
	}
	http.SetCookie(c.Writer, w.trying(state, 600))
	c.Redirect(http.StatusFound, address)
}

func (w *server) finishElsewhere(c *gin.Context) {
	ctx := act.As(c.Request.Context(), act.Who{}, c.ClientIP())
	state := c.Query("state")
	http.SetCookie(c.Writer, w.trying("", -1))
	if began, err := c.Cookie(tryCookie); err != nil || began == "" || began != state {
		w.sayElsewhere(c, api.Fail(api.SignedOut,
			"this sign-in was begun in another browser, or long ago; begin it anew"))
		return
	}
	if c.Query("error") != "" {
		w.sayElsewhere(c, api.Fail(api.SignedOut, "the provider refused: %.200s %.400s", c.Query("error"),
			c.Query("error_description")))
		return
	}
	session, next, err := w.service.FinishElsewhere(ctx, c.Param("provider"), w.back(c), c.Query("code"),
		c.Query("iss"), state, c.ClientIP())
	if err != nil {
		w.sayElsewhere(c, err)
		return
	}
	cookie := w.cookie(session, people.SessionHours*3600)
	http.SetCookie(c.Writer, &cookie)
	// Not by a redirect: the browser came from another site, and would not send a strict cookie with the next request.
	c.Header("Cache-Control", "no-store")
	c.Header("Refresh", "0; url="+next)
	c.Data(http.StatusOK, "text/html; charset=utf-8", []byte("<!doctype html><title>Kembrel</title><p>Signed in."))
}

// sayElsewhere shows what went wrong where people sign in.
func (w *server) sayElsewhere(c *gin.Context, err error) {
	p := w.service.Problem(err)
	c.Header("Cache-Control", "no-store")
	http.SetCookie(c.Writer, &http.Cookie{Name: "kembrel_said", Value: url.QueryEscape(p.Detail), Path: "/", MaxAge: 60,
		SameSite: http.SameSiteLaxMode, Secure: w.options.Secure})
	c.Redirect(http.StatusFound, "/sign-in")
}

func (w *server) endedElsewhere(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, 64<<10)
	ctx := act.As(c.Request.Context(), act.Who{}, c.ClientIP())
	if err := w.service.EndedElsewhere(ctx, c.Param("provider"), c.PostForm("logout_token")); err != nil {
		writeProblem(c, w.service.Problem(err))
		return
	}
	c.Header("Cache-Control", "no-store")
	c.Status(http.StatusOK)
}
