package people

import (
	"context"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// CountPeople counts the people.
func (q Queries) CountPeople(ctx context.Context) (int64, error) {
	return db.Value[int64](ctx, q, "person_count", db.A{})
}

// AddPerson adds a person and returns the id; team is that of a machine, or "".
func (q Queries) AddPerson(ctx context.Context, p store.Person, team string) (int64, error) {
	if p.Kind == "" {
		p.Kind = "person"
	}
	return db.Value[int64](ctx, q, "person_add", db.A{"name": p.Name, "password": p.Password,
		"administrator": p.Administrator, "kind": p.Kind,
		"email": p.Email, "team": team})
}

// PersonByName finds a person whatever the case of the letters.
func (q Queries) PersonByName(ctx context.Context, name string) (store.Person, error) {
	return db.One[store.Person](ctx, q, "person_by_name", db.A{"name": name})
}

// PersonByID finds a person.
func (q Queries) PersonByID(ctx context.Context, id int64) (store.Person, error) {
	return db.One[store.Person](ctx, q, "person_by_id", db.A{"id": id})
}

// FirstAdministrator is the one made at the first start.
func (q Queries) FirstAdministrator(ctx context.Context) (store.Person, error) {
	return db.One[store.Person](ctx, q, "person_first_administrator", db.A{})
}

// ListPeople lists people by id; with a name, only that one.
func (q Queries) ListPeople(ctx context.Context, name string, after int64, limit int) ([]store.ListedPerson, error) {
	return db.List[store.ListedPerson](ctx, q, "person_list", db.A{"name": name, "after": after, "limit": limit})
}

// ChangePerson changes a person. Of those who are closed all sessions and links end; their tokens are good no more.
func (q Queries) ChangePerson(ctx context.Context, in store.PersonEdit) error {
	if _, err := q.Exec(ctx, "person_change", db.A{"id": in.ID, "administrator": in.Administrator, "closed": in.Closed,
		"email": in.Email}); err != nil {
		return err
	}
	if in.Closed == nil || !*in.Closed {
		return nil
	}
	return q.EndSessions(ctx, in.ID)
}

// EndSessions ends all sessions and links of a person.
func (q Queries) EndSessions(ctx context.Context, person int64) error {
	if _, err := q.Exec(ctx, "session_end_all", db.A{"person": person, "keep": nil}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "link_end_all", db.A{"person": person})
	return err
}

// LockAdministrators is held, until the transaction ends, by whoever takes an administrator away.
func (q Queries) LockAdministrators(ctx context.Context) error {
	_, err := q.Exec(ctx, "administrators_lock", nil)
	return err
}

// CountAdministrators counts those who can sign in.
func (q Queries) CountAdministrators(ctx context.Context) (int64, error) {
	return db.Value[int64](ctx, q, "administrators_left", nil)
}

// PersonRoles are a person's roles, the highest of each place.
func (q Queries) PersonRoles(ctx context.Context, person int64) ([]store.RoleOn, error) {
	return db.List[store.RoleOn](ctx, q, "person_roles", db.A{"person": person})
}

// ListTeams lists teams by name; with a name, only that one.
func (q Queries) ListTeams(ctx context.Context, name string) ([]store.Team, error) {
	return db.List[store.Team](ctx, q, "team_list", db.A{"name": name})
}

// SetTeam makes a team, or changes who is in it, and returns how many people of those named there are.
func (q Queries) SetTeam(ctx context.Context, name string, people []string) (int64, error) {
	out, err := db.One[struct{ ID, Count int64 }](ctx, q, "team_set", db.A{"name": name, "people": people})
	return out.Count, err
}

// DropTeam deletes a team with the roles given to it; false where there is none.
func (q Queries) DropTeam(ctx context.Context, name string) (bool, error) {
	n, err := q.Exec(ctx, "team_drop", db.A{"name": name})
	return n > 0, err
}

// ListRoles lists the roles given on a project, or on the service (nil).
func (q Queries) ListRoles(ctx context.Context, project *int64) ([]store.GivenRole, error) {
	return db.List[store.GivenRole](ctx, q, "role_list", db.A{"project": project})
}

// SetRole gives a role to a person or a team (the other is nil) on a project, or on the service (nil).
func (q Queries) SetRole(ctx context.Context, project, person, team *int64, role string) error {
	_, err := q.Exec(ctx, "role_set", db.A{"project": project, "person": person, "team": team, "role": role})
	return err
}

// DropRole takes a role away; false where none was given.
func (q Queries) DropRole(ctx context.Context, project, person, team *int64) (bool, error) {
	n, err := q.Exec(ctx, "role_drop", db.A{"project": project, "person": person, "team": team})
	return n > 0, err
}

// ListSessions lists a person's open sessions.
func (q Queries) ListSessions(ctx context.Context, person int64) ([]store.Session, error) {
	return db.List[store.Session](ctx, q, "session_list", db.A{"person": person})
}

// EndOneSession ends a session of a person; false where there is none.
func (q Queries) EndOneSession(ctx context.Context, person, id int64) (bool, error) {
	n, err := q.Exec(ctx, "session_end_one", db.A{"person": person, "id": id})
	return n > 0, err
}

// TouchSession notes that a session was used.
func (q Queries) TouchSession(ctx context.Context, hash []byte) error {
	_, err := q.Exec(ctx, "session_touch", db.A{"hash": hash})
	return err
}

// SetPassword keeps a new hash and ends all sessions but the one named.
func (q Queries) SetPassword(ctx context.Context, person int64, hash string, keep []byte) error {
	if _, err := q.Exec(ctx, "person_set_password", db.A{"id": person, "password": hash}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "session_end_all", db.A{"person": person, "keep": keep})
	return err
}

// AddSession keeps a session for some hours, opened from an address; parent is the token that it ends with, or nil.
func (q Queries) AddSession(ctx context.Context, hash []byte, person int64, hours int, parent *int64, place string,
	at store.Elsewhere) error {
	_, err := q.Exec(ctx, "session_add", db.A{"hash": hash, "person": person, "hours": hours,
		"parent": parent, "place": place,
		"provider": at.Provider, "subject": at.Subject, "sid": at.SID, "id_token": at.IDToken})
	return err
}

// SessionPerson is who a session stands for.
func (q Queries) SessionPerson(ctx context.Context, hash []byte) (store.OpenedBy, error) {
	return db.One[store.OpenedBy](ctx, q, "session_person", db.A{"hash": hash})
}

// EndSession ends a session.
func (q Queries) EndSession(ctx context.Context, hash []byte) error {
	_, err := q.Exec(ctx, "session_end", db.A{"hash": hash})
	return err
}

// AddLink keeps a one-time sign-in link for a quarter of an hour.
func (q Queries) AddLink(ctx context.Context, hash []byte, person int64, parent *int64) (time.Time, error) {
	return db.Value[time.Time](ctx, q, "link_add", db.A{"hash": hash, "person": person, "parent": parent})
}

// UseLink uses a link up.
func (q Queries) UseLink(ctx context.Context, hash []byte) (store.OpenedBy, error) {
	return db.One[store.OpenedBy](ctx, q, "link_use", db.A{"hash": hash})
}

// AddToken keeps a token for some days.
func (q Queries) AddToken(ctx context.Context, t store.NewToken) (store.Token, error) {
	if t.Networks == nil {
		t.Networks = []string{}
	}
	return db.One[store.Token](ctx, q, "token_add", db.A{"person": t.Person, "name": t.Name, "hash": t.Hash,
		"days": t.Days, "parent": t.Parent,
		"role": t.Role, "project": t.Project, "networks": t.Networks})
}

// TokenPerson finds a token by the hash of its secret.
func (q Queries) TokenPerson(ctx context.Context, hash []byte) (store.TokenPerson, error) {
	return db.One[store.TokenPerson](ctx, q, "token_person", db.A{"hash": hash})
}

// TouchToken notes that a token was used, and from where.
func (q Queries) TouchToken(ctx context.Context, id int64, place string) error {
	_, err := q.Exec(ctx, "token_touch", db.A{"id": id, "place": place})
	return err
}

// ListTokens lists a person's tokens.
func (q Queries) ListTokens(ctx context.Context, person int64) ([]store.Token, error) {
	return db.List[store.Token](ctx, q, "token_list", db.A{"person": person})
}

// RevokeToken ends a token and what was made with it; false where the person has no such token.
func (q Queries) RevokeToken(ctx context.Context, person, id int64) (bool, error) {
	n, err := db.Value[int64](ctx, q, "token_revoke", db.A{"ids": []int64{id}, "person": person})
	return n > 0, err
}

// RevokeTokens ends all of a person's tokens but one, what it was made with, and what was made with it; 0: all.
func (q Queries) RevokeTokens(ctx context.Context, person, keep int64) error {
	ids, err := db.Values[int64](ctx, q, "tokens_but", db.A{"person": person, "keep": keep})
	if err != nil {
		return err
	}
	_, err = db.Value[int64](ctx, q, "token_revoke", db.A{"ids": ids, "person": person})
	return err
}

// GoodCredentials are those of some hashes that belong to tokens and sessions which are good.
func (q Queries) GoodCredentials(ctx context.Context, hashes [][]byte) ([][]byte, error) {
	return db.Values[[]byte](ctx, q, "credentials_good", db.A{"hashes": hashes})
}

// ClearExpired deletes sessions and links whose time is over.
func (q Queries) ClearExpired(ctx context.Context) error {
	_, err := q.Exec(ctx, "clear_expired", db.A{})
	return err
}

// AddTry keeps a sign-in that begins at a provider, for ten minutes.
func (q Queries) AddTry(ctx context.Context, state []byte, provider string, t store.SignInTry) error {
	_, err := q.Exec(ctx, "try_add", db.A{"state": state, "provider": provider, "verifier": t.Verifier,
		"nonce": t.Nonce, "next": t.Next})
	return err
}

// UseTry uses one up.
func (q Queries) UseTry(ctx context.Context, state []byte, provider string) (store.SignInTry, error) {
	return db.One[store.SignInTry](ctx, q, "try_use", db.A{"state": state, "provider": provider})
}

// IdentityPerson is who somebody at a provider is here.
func (q Queries) IdentityPerson(ctx context.Context, provider, subject string) (store.Person, error) {
	return db.One[store.Person](ctx, q, "identity_person", db.A{"provider": provider, "subject": subject})
}

// HasIdentity reports whether a person is joined to somebody at a provider.
func (q Queries) HasIdentity(ctx context.Context, provider string, person int64) (bool, error) {
	return db.Value[bool](ctx, q, "identity_has", db.A{"provider": provider, "person": person})
}

// AddIdentity says that somebody at a provider is a person here.
func (q Queries) AddIdentity(ctx context.Context, provider, subject string, person int64) error {
	_, err := q.Exec(ctx, "identity_add", db.A{"provider": provider, "subject": subject, "person": person})
	return err
}

// PeopleByEmail finds people by their address: two at most, as more than one is nobody.
func (q Queries) PeopleByEmail(ctx context.Context, email string) ([]store.Person, error) {
	return db.List[store.Person](ctx, q, "people_by_email", db.A{"email": email})
}

// JoinTeams puts a person into those of the teams named that are wanted, and out of the others of them.
func (q Queries) JoinTeams(ctx context.Context, person int64, named, wanted []string) error {
	_, err := q.Exec(ctx, "teams_join", db.A{"person": person, "named": named, "wanted": wanted})
	return err
}

// SessionElsewhere is where a session was signed in.
func (q Queries) SessionElsewhere(ctx context.Context, hash []byte) (store.Elsewhere, error) {
	row, err := db.One[struct{ Provider, IDToken string }](ctx, q, "session_elsewhere", db.A{"hash": hash})
	return store.Elsewhere{Provider: row.Provider, IDToken: row.IDToken}, err
}

// EndElsewhere ends the sessions that came of a session at a provider, or where that is not named, of somebody there.
func (q Queries) EndElsewhere(ctx context.Context, at store.Elsewhere) ([]int64, error) {
	return db.Values[int64](ctx, q, "sessions_end_elsewhere",
		db.A{"provider": at.Provider, "subject": at.Subject, "sid": at.SID})
}
