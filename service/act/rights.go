package act

import (
	"context"
	"errors"
	"strconv"
	"time"

	"kembrel/api"
	"kembrel/store"
)

// placeMemory is how long a project is taken to be open or closed as it was. The replica at which that changes knows at
// once.
const placeMemory = 2 * time.Second

type knownPlace struct {
	store.Place
	at time.Time
}

// place finds a project as rights see it; ErrNone where there is none.
func (s *Act) place(ctx context.Context, project string) (store.Place, error) {
	if known, ok := s.places.Get(project); ok && time.Since(known.at) < placeMemory {
		return known.Place, nil
	}
	p, err := s.db.ProjectPlace(ctx, project)
	if err == nil {
		s.places.Put(project, knownPlace{p, time.Now()})
	}
	return p, err
}

// ForgetPlaces has projects looked up anew: one was opened, closed or made.
func (s *Act) ForgetPlaces() { s.places.Forget() }

// NoProject says that there is no such project; it is also said of one that is not to be seen.
func NoProject(key string) error {
	return api.Fail(api.NotFound, "there is no project %q; kembrel projects lists them", key)
}

// RoleOn is the role of the caller on a project. The service's own work (ByItself) may do everything; a context that
// names nobody may do nothing.
func (s *Act) RoleOn(ctx context.Context, project string) (api.Role, error) {
	if itself(ctx) {
		return api.Administrator, nil
	}
	who, _ := Asks(ctx) // nobody where none is named
	p, err := s.place(ctx, project)
	if errors.Is(err, store.ErrNone) {
		return api.SignedIn, NoProject(project)
	}
	return who.On(project, p.Open), err
}

// Sees reports whether whoever asks may see a project.
func (s *Act) Sees(ctx context.Context, project string) (bool, error) {
	role, err := s.RoleOn(ctx, project)
	if api.Is(err, api.NotFound) {
		return false, nil
	}
	return role >= api.Reader, err
}

// Hidden stands for the address of what whoever asks may not see.
const Hidden = "a run that you do not see"

// Shown is an address, or Hidden.
func (s *Act) Shown(ctx context.Context, address string) string {
	a, err := api.ParseAddress(address)
	if err != nil {
		return address // it names no project
	}
	if sees, err := s.Sees(ctx, a.Project); err != nil || !sees {
		return Hidden
	}
	return address
}

// Need refuses whoever asks and is less than a role on a project.
func (s *Act) Need(ctx context.Context, role api.Role, project string) error {
	has, err := s.RoleOn(ctx, project)
	if err != nil || has >= role {
		return err
	}
	return denied(ctx, role, has, "project "+project)
}

func denied(ctx context.Context, need, has api.Role, where string) error {
	who, _ := Asks(ctx)
	by, what := "its owners give", has.String()
	switch {
	case where == "the service" || need == api.Administrator:
		by = "an administrator gives"
		if need == api.Administrator {
			return api.Fail(api.Denied, "only an administrator may do this; %s is none", who.Name)
		}
	}
	if what == "signed-in" {
		what = "none"
	}
	if who.Narrowed() {
		return api.Fail(api.Denied, "this needs the role %s on %s, and the token used is narrowed: it is %s there",
			need, where, what)
	}
	return api.Fail(api.Denied, "this needs the role %s on %s, and %s is %s; %s roles", need, where, who.Name, what, by)
}

// Allow decides whether the person in ctx may call an operation: the one place that does. Project and number are those
// of its path, or "".
func (s *Act) Allow(ctx context.Context, op api.Spec, project, number string) error {
	if op.Access == api.Anyone {
		return nil
	}
	who, _ := Asks(ctx)
	if who.ID == 0 {
		return api.Fail(api.SignedOut, "sign in, or send a token: Authorization: Bearer ...")
	}
	if who.Report != nil && !op.Reports {
		return api.Fail(api.Denied, "this token is to report back on %s, and for nothing else", who.Report.On)
	}
	if op.Whole && who.Machine {
		return api.Fail(api.Denied, "%s is a machine: an administrator looks after its tokens", who.Name)
	}
	if op.Whole && who.Narrowed() {
		return api.Fail(api.Denied, "a narrowed token may not do this; sign in, or use a token that is not narrowed")
	}
	if project == "" || project == api.Everywhere && op.Everywhere {
		has := who.OnService()
		if op.Anywhere {
			has = who.Anywhere()
		}
		if has < op.Access {
			return denied(ctx, op.Access, has, "the service")
		}
		return nil
	}
	if err := api.CheckProjectKey(project); err != nil {
		return api.Fail(api.Invalid, "%v", err)
	}
	has, err := s.RoleOn(ctx, project)
	switch {
	case err != nil:
		return err
	case has < api.Reader:
		return NoProject(project)
	case has >= op.Access:
		return nil
	case op.Own != 0 && has >= op.Own:
		if mine, err := s.madeBy(ctx, who, project, number); err != nil || mine {
			return err
		}
		return api.Fail(api.Denied,
			"this needs the role %s on project %s, or to have made the run; %s is %s, and another made it", op.Access,
			project, who.Name, has)
	}
	return denied(ctx, op.Access, has, "project "+project)
}

// madeBy reports whether somebody made a run. A run that is not there is nobody's, and nobody is kept from being told
// so.
func (s *Act) madeBy(ctx context.Context, who Who, project, number string) (bool, error) {
	n, err := strconv.Atoi(number)
	if err != nil {
		return true, nil
	}
	key := project + "/" + number
	maker, known := s.makers.Get(key)
	if !known {
		if maker, err = s.db.RunMaker(ctx, project, n); errors.Is(err, store.ErrNone) {
			return true, nil
		} else if err != nil {
			return false, err
		}
		s.makers.Put(key, maker)
	}
	return maker == who.ID, nil
}

// ForgetRuns drops what is remembered of runs: some were deleted.
func (s *Act) ForgetRuns() { s.makers.Forget() }
