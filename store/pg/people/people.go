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

// AddPerson adds a person and returns the id.
func (q Queries) AddPerson(ctx context.Context, p store.Person) (int64, error) {
	return db.Value[int64](ctx, q, "person_add", db.A{"name": p.Name, "password": p.Password, "administrator": p.Administrator})
}

// PersonByName finds a person whatever the case of the letters.
func (q Queries) PersonByName(ctx context.Context, name string) (store.Person, error) {
	return db.One[store.Person](ctx, q, "person_by_name", db.A{"name": name})
}

// FirstAdministrator is the one made at the first start.
func (q Queries) FirstAdministrator(ctx context.Context) (store.Person, error) {
	return db.One[store.Person](ctx, q, "person_first_administrator", db.A{})
}

// ListPeople lists people by id.
func (q Queries) ListPeople(ctx context.Context, after int64, limit int) ([]store.Person, error) {
	return db.List[store.Person](ctx, q, "person_list", db.A{"after": after, "limit": limit})
}

// SetPassword keeps a new hash and ends all sessions but the one named.
func (q Queries) SetPassword(ctx context.Context, person int64, hash string, keep []byte) error {
	if _, err := q.Exec(ctx, "person_set_password", db.A{"id": person, "password": hash}); err != nil {
		return err
	}
	_, err := q.Exec(ctx, "session_end_all", db.A{"person": person, "keep": keep})
	return err
}

// AddSession keeps a session for some hours; parent is the token that it ends with, or nil.
func (q Queries) AddSession(ctx context.Context, hash []byte, person int64, hours int, parent *int64) error {
	_, err := q.Exec(ctx, "session_add", db.A{"hash": hash, "person": person, "hours": hours, "parent": parent})
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
func (q Queries) AddToken(ctx context.Context, person int64, name string, hash []byte, days int, parent *int64) (store.Token, error) {
	return db.One[store.Token](ctx, q, "token_add", db.A{"person": person, "name": name, "hash": hash, "days": days, "parent": parent})
}

// TokenPerson finds a token by the hash of its secret.
func (q Queries) TokenPerson(ctx context.Context, hash []byte) (store.TokenPerson, error) {
	return db.One[store.TokenPerson](ctx, q, "token_person", db.A{"hash": hash})
}

// TouchToken notes that a token was used.
func (q Queries) TouchToken(ctx context.Context, id int64) error {
	_, err := q.Exec(ctx, "token_touch", db.A{"id": id})
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
