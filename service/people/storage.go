package people

import (
	"context"
	"time"

	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	CountPeople(ctx context.Context) (int64, error)
	FirstAdministrator(ctx context.Context) (store.Person, error)
	GoodCredentials(ctx context.Context, hashes [][]byte) ([][]byte, error)
	ListPeople(ctx context.Context, name string, after int64, limit int) ([]store.ListedPerson, error)
	ListRoles(ctx context.Context, project *int64) ([]store.GivenRole, error)
	ListSessions(ctx context.Context, person int64) ([]store.Session, error)
	ListTeams(ctx context.Context, name string) ([]store.Team, error)
	ListTokens(ctx context.Context, person int64) ([]store.Token, error)
	PersonByName(ctx context.Context, name string) (store.Person, error)
	PersonRoles(ctx context.Context, person int64) ([]store.RoleOn, error)
	ProjectPlace(ctx context.Context, key string) (store.Place, error)
	SessionPerson(ctx context.Context, hash []byte) (store.OpenedBy, error)
	TokenPerson(ctx context.Context, hash []byte) (store.TokenPerson, error)
	TouchSession(ctx context.Context, hash []byte) error
	TouchToken(ctx context.Context, id int64, place string) error
	UseLink(ctx context.Context, hash []byte) (store.OpenedBy, error)
	AddLink(ctx context.Context, hash []byte, person int64, parent *int64) (time.Time, error)
	AddTry(ctx context.Context, state []byte, provider string, t store.SignInTry) error
	HasIdentity(ctx context.Context, provider string, person int64) (bool, error)
	IdentityPerson(ctx context.Context, provider, subject string) (store.Person, error)
	PeopleByEmail(ctx context.Context, email string) ([]store.Person, error)
	SessionElsewhere(ctx context.Context, hash []byte) (store.Elsewhere, error)
	UseTry(ctx context.Context, state []byte, provider string) (store.SignInTry, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx // events
	AddLink(ctx context.Context, hash []byte, person int64, parent *int64) (time.Time, error)
	AddPerson(ctx context.Context, p store.Person, team string) (int64, error)
	AddSession(ctx context.Context, hash []byte, person int64, hours int, parent *int64, place string,
		at store.Elsewhere) error
	AddIdentity(ctx context.Context, provider, subject string, person int64) error
	EndElsewhere(ctx context.Context, at store.Elsewhere) ([]int64, error)
	JoinTeams(ctx context.Context, person int64, named, wanted []string) error
	AddToken(ctx context.Context, t store.NewToken) (store.Token, error)
	ChangePerson(ctx context.Context, in store.PersonEdit) error
	CountAdministrators(ctx context.Context) (int64, error)
	DropRole(ctx context.Context, project, person, team *int64) (bool, error)
	DropTeam(ctx context.Context, name string) (bool, error)
	EndOneSession(ctx context.Context, person, id int64) (bool, error)
	EndSession(ctx context.Context, hash []byte) error
	EndSessions(ctx context.Context, person int64) error
	LockAdministrators(ctx context.Context) error
	RevokeToken(ctx context.Context, person, id int64) (bool, error)
	RevokeTokens(ctx context.Context, person, keep int64) error
	SetPassword(ctx context.Context, person int64, hash string, keep []byte) error
	SetRole(ctx context.Context, project, person, team *int64, role string) error
	SetTeam(ctx context.Context, name string, people []string) (int64, error)
}
