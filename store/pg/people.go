package pg

import (
	"context"
	"time"
)

// Person is someone who may sign in. Password is an argon2id hash in PHC form, or nil.
type Person struct {
	ID            int64
	Name          string
	Password      *string
	Administrator bool
}

// Token is a personal token; its secret is not kept.
type Token struct {
	ID      int64
	Name    string
	Created time.Time
	Expires time.Time
	Revoked *time.Time
	Used    *time.Time
	Parent  *int64 // the token that it was made with
}

// TokenPerson is a token's state with the person it stands for.
type TokenPerson struct {
	Token                   int64
	Expired, Revoked, Stale bool
	Person
}

// CountPeople counts the people.
func (q Queries) CountPeople(ctx context.Context) (int64, error) {
	return value[int64](ctx, q, "person_count", A{})
}

// AddPerson adds a person and returns the id.
func (q Queries) AddPerson(ctx context.Context, p Person) (int64, error) {
	return value[int64](ctx, q, "person_add", A{"name": p.Name, "password": p.Password, "administrator": p.Administrator})
}

// PersonByName finds a person whatever the case of the letters.
func (q Queries) PersonByName(ctx context.Context, name string) (Person, error) {
	return one[Person](ctx, q, "person_by_name", A{"name": name})
}

// FirstAdministrator is the one made at the first start.
func (q Queries) FirstAdministrator(ctx context.Context) (Person, error) {
	return one[Person](ctx, q, "person_first_administrator", A{})
}

// ListPeople lists people by id.
func (q Queries) ListPeople(ctx context.Context, after int64, limit int) ([]Person, error) {
	return list[Person](ctx, q, "person_list", A{"after": after, "limit": limit})
}

// SetPassword keeps a new hash and ends all sessions but the one named.
func (q Queries) SetPassword(ctx context.Context, person int64, hash string, keep []byte) error {
	if _, err := q.exec(ctx, "person_set_password", A{"id": person, "password": hash}); err != nil {
		return err
	}
	_, err := q.exec(ctx, "session_end_all", A{"person": person, "keep": keep})
	return err
}

// AddSession keeps a session for some hours; parent is the token that it ends with, or nil.
func (q Queries) AddSession(ctx context.Context, hash []byte, person int64, hours int, parent *int64) error {
	_, err := q.exec(ctx, "session_add", A{"hash": hash, "person": person, "hours": hours, "parent": parent})
	return err
}

// OpenedBy is a person with the token that their session or link comes from.
type OpenedBy struct {
	Person
	Parent *int64
}

// SessionPerson is who a session stands for.
func (q Queries) SessionPerson(ctx context.Context, hash []byte) (OpenedBy, error) {
	return one[OpenedBy](ctx, q, "session_person", A{"hash": hash})
}

// EndSession ends a session.
func (q Queries) EndSession(ctx context.Context, hash []byte) error {
	_, err := q.exec(ctx, "session_end", A{"hash": hash})
	return err
}

// AddLink keeps a one-time sign-in link for a quarter of an hour.
func (q Queries) AddLink(ctx context.Context, hash []byte, person int64, parent *int64) (time.Time, error) {
	return value[time.Time](ctx, q, "link_add", A{"hash": hash, "person": person, "parent": parent})
}

// UseLink uses a link up.
func (q Queries) UseLink(ctx context.Context, hash []byte) (OpenedBy, error) {
	return one[OpenedBy](ctx, q, "link_use", A{"hash": hash})
}

// AddToken keeps a token for some days.
func (q Queries) AddToken(ctx context.Context, person int64, name string, hash []byte, days int, parent *int64) (Token, error) {
	return one[Token](ctx, q, "token_add", A{"person": person, "name": name, "hash": hash, "days": days, "parent": parent})
}

// TokenPerson finds a token by the hash of its secret.
func (q Queries) TokenPerson(ctx context.Context, hash []byte) (TokenPerson, error) {
	return one[TokenPerson](ctx, q, "token_person", A{"hash": hash})
}

// TouchToken notes that a token was used.
func (q Queries) TouchToken(ctx context.Context, id int64) error {
	_, err := q.exec(ctx, "token_touch", A{"id": id})
	return err
}

// ListTokens lists a person's tokens.
func (q Queries) ListTokens(ctx context.Context, person int64) ([]Token, error) {
	return list[Token](ctx, q, "token_list", A{"person": person})
}

// RevokeToken ends a token and what was made with it; false where the person has no such token.
func (q Queries) RevokeToken(ctx context.Context, person, id int64) (bool, error) {
	n, err := value[int64](ctx, q, "token_revoke", A{"ids": []int64{id}, "person": person})
	return n > 0, err
}

// RevokeTokens ends all of a person's tokens but one, what it was made with, and what was made with it; 0: all.
func (q Queries) RevokeTokens(ctx context.Context, person, keep int64) error {
	ids, err := values[int64](ctx, q, "tokens_but", A{"person": person, "keep": keep})
	if err != nil {
		return err
	}
	_, err = value[int64](ctx, q, "token_revoke", A{"ids": ids, "person": person})
	return err
}

// GoodCredentials are those of some hashes that belong to tokens and sessions which are good.
func (q Queries) GoodCredentials(ctx context.Context, hashes [][]byte) ([][]byte, error) {
	return values[[]byte](ctx, q, "credentials_good", A{"hashes": hashes})
}

// ClearExpired deletes sessions and links whose time is over.
func (q Queries) ClearExpired(ctx context.Context) error {
	_, err := q.exec(ctx, "clear_expired", A{})
	return err
}
