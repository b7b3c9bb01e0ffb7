package people

import (
	"context"
	"time"

	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	AddLink(ctx context.Context, hash []byte, person int64, parent *int64) (time.Time, error)
	AddPerson(ctx context.Context, p store.Person) (int64, error)
	AddSession(ctx context.Context, hash []byte, person int64, hours int, parent *int64) error
	CountPeople(ctx context.Context) (int64, error)
	EndSession(ctx context.Context, hash []byte) error
	FirstAdministrator(ctx context.Context) (store.Person, error)
	GoodCredentials(ctx context.Context, hashes [][]byte) ([][]byte, error)
	ListPeople(ctx context.Context, after int64, limit int) ([]store.Person, error)
	ListTokens(ctx context.Context, person int64) ([]store.Token, error)
	PersonByName(ctx context.Context, name string) (store.Person, error)
	SessionPerson(ctx context.Context, hash []byte) (store.OpenedBy, error)
	TokenPerson(ctx context.Context, hash []byte) (store.TokenPerson, error)
	TouchToken(ctx context.Context, id int64) error
	UseLink(ctx context.Context, hash []byte) (store.OpenedBy, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	AddEvent(ctx context.Context, e store.Event) error
	AddPerson(ctx context.Context, p store.Person) (int64, error)
	AddToken(ctx context.Context, person int64, name string, hash []byte, days int, parent *int64) (store.Token, error)
	RevokeToken(ctx context.Context, person int64, id int64) (bool, error)
	RevokeTokens(ctx context.Context, person int64, keep int64) error
	SetPassword(ctx context.Context, person int64, hash string, keep []byte) error
}
