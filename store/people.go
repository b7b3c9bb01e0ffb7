package store

import (
	"time"
)

// Person is someone who may sign in, or a machine, which has tokens only. Password is an argon2id hash in PHC form, or
// nil.
type Person struct {
	ID            int64
	Name          string
	Password      *string
	Administrator bool
	Kind          string // person or machine
	Email         string
	Closed        *time.Time
}

// ListedPerson is a person with what they are.
type ListedPerson struct {
	Person
	Team  string   // of a machine
	Role  *string  // on the service
	Teams []string // that they are in
}

// PersonEdit changes a person; nil: as it was.
type PersonEdit struct {
	ID            int64
	Administrator *bool
	Closed        *bool
	Email         *string
}

// RoleOn is a role on a project, by its key; "": on the service.
type RoleOn struct {
	Project, Role string
}

// Place is a project as rights see it.
type Place struct {
	ID   int64
	Open bool
}

// GivenRole is a role that was given to a person or a team.
type GivenRole struct {
	Person, Team string // one of them
	Role         string
	Given        time.Time
}

// Team is a team with its people.
type Team struct {
	ID     int64
	Name   string
	People []string
}

// Scope is what narrows a token; the zero value does not.
type Scope struct {
	Role     *string
	Project  *string // key
	Networks []string
}

// Token is a personal token; its secret is not kept.
type Token struct {
	ID       int64
	Name     string
	Created  time.Time
	Expires  time.Time
	Revoked  *time.Time
	Used     *time.Time
	UsedFrom string
	Parent   *int64 // the token that it was made with
	Scope
}

// NewToken is what a token is made of.
type NewToken struct {
	Person   int64
	Name     string
	Hash     []byte
	Days     int
	Parent   *int64
	Role     *string
	Project  *int64
	Networks []string
}

// TokenPerson is a token's state with the person it stands for.
type TokenPerson struct {
	Token                   int64
	Expired, Revoked, Stale bool
	Scope
	Person
}

// Session is a console session without its secret.
type Session struct {
	ID                     int64
	Created, Used, Expires time.Time
	Place                  string
	Hash                   []byte
}

// OpenedBy is a person with the token that their session or link comes from, and what that is narrowed to.
type OpenedBy struct {
	Person
	Parent *int64
	Stale  bool
	Scope
}

// Elsewhere is a sign-in at a provider: who somebody is there, their session there, and the token that says so.
type Elsewhere struct {
	Provider, Subject, SID, IDToken string
}

// SignInTry is a sign-in that is under way at a provider.
type SignInTry struct {
	Verifier, Nonce, Next string
}
