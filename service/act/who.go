package act

import (
	"context"

	"kembrel/api"
	"kembrel/store"
)

// Who is the person, or machine, behind a request; the zero value is nobody.
type Who struct {
	ID            int64
	Name          string
	Administrator bool
	HasPassword   bool
	Machine       bool
	Session       []byte // hash of the session, where one was used
	Credential    []byte // hash of the token or session
	Token         int64  // the token used, or that the session comes from; 0: none
	Scope         store.Scope
	Report        *Report             // a receiver of events reports back; nil: it is none
	roles         map[string]api.Role // on projects, by key; "": on the service
}

// With is who with the roles that were given to them.
func (w Who) With(given []store.RoleOn) Who {
	w.roles = make(map[string]api.Role, len(given))
	for _, g := range given {
		w.roles[g.Project] = api.RoleName(g.Role).Of()
	}
	return w
}

// Narrowed reports whether the token used may less than its person.
func (w Who) Narrowed() bool {
	return w.Scope.Role != nil || w.Scope.Project != nil || len(w.Scope.Networks) > 0
}

// most is a role as far as the token lets it be one.
func (w Who) most(r api.Role) api.Role {
	if w.Scope.Role == nil {
		return r
	}
	return max(min(r, api.RoleName(*w.Scope.Role).Of()), api.SignedIn)
}

// On is what somebody is on a project. Below Reader they do not see it.
func (w Who) On(project string, open bool) api.Role {
	switch {
	case w.ID == 0:
		return api.Anyone
	case w.Scope.Project != nil && *w.Scope.Project != project:
		return api.SignedIn
	case w.Administrator:
		return w.most(api.Administrator)
	}
	r := max(api.SignedIn, w.roles[project])
	if open {
		r = max(r, api.Reader, w.roles[""])
	}
	return w.most(r)
}

// Seen are the projects that somebody sees.
func (w Who) Seen() store.Seen {
	out := store.Seen{All: w.Administrator, Open: w.ID != 0, Keys: []string{}}
	for project, role := range w.roles {
		if project != "" && role >= api.Reader {
			out.Keys = append(out.Keys, project)
		}
	}
	if w.Scope.Project != nil {
		out.Only = *w.Scope.Project
	}
	return out
}

// OnService is what somebody is on the service.
func (w Who) OnService() api.Role {
	switch {
	case w.ID == 0:
		return api.Anyone
	case w.Scope.Project != nil:
		return api.SignedIn
	case w.Administrator:
		return w.most(api.Administrator)
	}
	return w.most(max(api.SignedIn, w.roles[""]))
}

// Anywhere is the most that somebody is on any project.
func (w Who) Anywhere() api.Role {
	if w.ID == 0 {
		return api.Anyone
	}
	if w.Administrator {
		return w.most(api.Administrator)
	}
	r := api.Reader
	for project, role := range w.roles {
		if w.Scope.Project == nil || project == "" || project == *w.Scope.Project {
			r = max(r, role)
		}
	}
	return w.most(r)
}

type whoKey struct{}

type placeKey struct{}

// As makes what is done under ctx be done by somebody, from an address: they find only what they may see, and events
// name both.
func As(ctx context.Context, who Who, place string) context.Context {
	return context.WithValue(context.WithValue(ctx, whoKey{}, who), placeKey{}, place)
}

type serviceKey struct{}

// ByItself marks ctx as that of the service's own work, such as its background jobs, which may do everything. Set it
// where such work begins, never in what serves a request: without it, and without a caller, nothing is allowed.
func ByItself(ctx context.Context) context.Context {
	return context.WithValue(context.WithValue(ctx, serviceKey{}, true), whoKey{}, nil)
}

// itself reports whether the service does something by itself. A caller set after ByItself counts instead.
func itself(ctx context.Context) bool {
	_, asks := Asks(ctx)
	by, _ := ctx.Value(serviceKey{}).(bool)
	return by && !asks
}

// Asks is on whose behalf something is done; false: nobody is named in ctx.
func Asks(ctx context.Context) (Who, bool) {
	who, ok := ctx.Value(whoKey{}).(Who)
	return who, ok
}

// Place is the address from which something is done; "": by the service itself.
func Place(ctx context.Context) string {
	place, _ := ctx.Value(placeKey{}).(string)
	return place
}
