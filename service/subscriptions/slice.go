package subscriptions

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// Storage is what this slice needs of the store.
type Storage interface {
	ClearDeliveries(ctx context.Context) error
	Delivery(ctx context.Context, subscription, event int64) (store.DeliveryOf, error)
	DueDeliveries(ctx context.Context, subscription int64, now time.Time, limit int) ([]store.DeliveryOf, error)
	Event(ctx context.Context, id int64) (store.Told, error)
	EventsAfter(ctx context.Context, mark string) ([]store.Told, error)
	HeldSubscription(ctx context.Context, id int64, holder string) (store.Subscription, error)
	HoldSubscriptions(ctx context.Context, holder string, long time.Duration) ([]int64, error)
	ListDeliveries(ctx context.Context, subscription int64, state string, below int64,
		limit int) ([]store.DeliveryOf, error)
	ListSubscriptions(ctx context.Context, project, name string) ([]store.Subscription, error)
	PersonByName(ctx context.Context, name string) (store.Person, error)
	PersonRoles(ctx context.Context, person int64) ([]store.RoleOn, error)
	ReleaseSubscriptions(ctx context.Context, holder string) error
	ReporterOn(ctx context.Context, subscription, event int64) (store.Reporter, error)
	WaitingSubjects(ctx context.Context, subscription int64) ([]string, error)
	SubscriptionKeys(ctx context.Context, id int64) (store.SubscriptionKeys, error)
	InTx(ctx context.Context, do func(q Tx) error) error
}

// Tx is what it needs of a transaction.
type Tx interface {
	act.Tx
	AddSubscription(ctx context.Context, s store.Subscription, keys store.SubscriptionKeys, person int64) (int64, error)
	ChangeSubscription(ctx context.Context, id int64, c store.SubscriptionChange) error
	CountSubscriptions(ctx context.Context, project string) (int64, error)
	DropSubscription(ctx context.Context, id int64) error
	FailsOf(ctx context.Context, id int64, holder string, fails int) (bool, error)
	NewSecret(ctx context.Context, id int64, secret []byte) error
	PauseSubscription(ctx context.Context, id int64, paused bool, why string) error
	PutDeliveries(ctx context.Context, subscription int64, all []store.Delivery) error
	SendAgain(ctx context.Context, subscription, event int64) (int64, error)
	TellUpTo(ctx context.Context, id int64, holder, mark string, fails int) (bool, error)
}

// Projects finds a project, and runs of it.
type Projects interface {
	Project(ctx context.Context, key string) (store.Project, error)
	ListRuns(ctx context.Context, who act.Who, in *api.RunsInput) (*api.Page[api.Run], error)
}

// Options are what the slice needs to know beside its stores.
type Options struct {
	Public  string         // how receivers reach the service; "": where it listens
	Allowed []netip.Prefix // networks of the inside that may be told
	Clock   func() time.Time
}

// Subscriptions tells others.
type Subscriptions struct {
	*act.Act
	db       Storage
	projects Projects
	options  Options
	send     *sender
	public   atomic.Pointer[string] // how receivers reach the service; nil: it is not known yet
	known    chan struct{}          // closed once it is
	told     sync.Once
	wake     chan struct{}
}

// New makes the slice.
func New(a *act.Act, db Storage, p Projects, o Options) *Subscriptions {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	s := &Subscriptions{Act: a, db: db, projects: p, options: o, send: newSender(o.Allowed, nil),
		known: make(chan struct{}), wake: make(chan struct{}, 1)}
	if o.Public != "" {
		s.ListensAt(o.Public)
	}
	return s
}

// ListensAt says where the service listens: receivers are told that where nothing else was said. Nothing is told before
// it is known.
func (s *Subscriptions) ListensAt(address string) {
	s.told.Do(func() {
		address = strings.TrimSuffix(address, "/")
		s.public.Store(&address)
		close(s.known)
	})
}
