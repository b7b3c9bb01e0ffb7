package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"kembrel/api"
	"kembrel/service/people"
)

type signedIn struct {
	Cookie http.Cookie `header:"Set-Cookie"`
	Body   *api.Me
}

func (w *server) cookie(session string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: session, Path: "/", MaxAge: age, HttpOnly: true,
		SameSite: http.SameSiteStrictMode, Secure: w.options.Secure}
}

// remote gives a handler the address of the caller.
type remote struct{ from string }

func (r *remote) Resolve(ctx huma.Context) []error {
	r.from = humagin.Unwrap(ctx).ClientIP()
	return nil
}

func (w *server) bindSessions() {
	open := func(session string, me *api.Me, err error) (*signedIn, error) {
		if err != nil {
			return nil, w.service.Problem(err)
		}
		return &signedIn{Cookie: w.cookie(session, people.SessionHours*3600), Body: me}, nil
	}
	type passwordIn struct {
		api.SignInInput
		remote
	}
	type linkIn struct {
		api.LinkInput
		remote
	}
	huma.Register(w.huma, w.describe(api.SignInWithPassword.Spec, asAnswer),
		func(ctx context.Context, in *passwordIn) (*signedIn, error) {
			return open(w.service.SignIn(ctx, in.Body, in.from))
		})
	huma.Register(w.huma, w.describe(api.SignInWithLink.Spec, asAnswer),
		func(ctx context.Context, in *linkIn) (*signedIn, error) {
			return open(w.service.SignInByLink(ctx, in.Body.Code, in.from))
		})
	type signedOut struct {
		Cookie http.Cookie `header:"Set-Cookie"`
		Body   *api.Ended
	}
	huma.Register(w.huma, w.describe(api.SignOut.Spec, asAnswer),
		func(ctx context.Context, _ *struct{}) (*signedOut, error) {
			elsewhere, err := w.service.SignOut(ctx, whoAsks(ctx))
			if err != nil {
				return nil, w.service.Problem(err)
			}
			return &signedOut{Cookie: w.cookie("", -1), Body: &api.Ended{Elsewhere: elsewhere}}, nil
		})
}
