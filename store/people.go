package store

import (
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

// OpenedBy is a person with the token that their session or link comes from.
type OpenedBy struct {
	Person
	Parent *int64
}
