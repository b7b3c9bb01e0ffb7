package people

import (
	"context"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/service/act"
)

// credentialPace is how often the tokens and sessions behind open streams are looked at.
const credentialPace = 5 * time.Second

// credentials ends what goes on for long, such as a live stream, when the token or session that it was asked with ends.
type credentials struct {
	mutex sync.Mutex
	open  map[string]map[*stream]bool // by the hash of the credential
}

type stream struct{ end context.CancelCauseFunc }

// errEnded is the cause of a context whose credential has ended.
var errEnded = api.Fail(api.SignedOut, "the token or session that this was asked with has ended; sign in again")

// WhileGood is a context that ends with the caller's token or session; release it when what it is for is over.
func (s *People) WhileGood(ctx context.Context, who act.Who) (good context.Context, release func()) {
	good, end := context.WithCancelCause(ctx)
	if who.Credential == nil {
		return good, func() { end(nil) }
	}
	key, one := string(who.Credential), &stream{end}
	c := &s.credentials
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.open == nil {
		c.open = map[string]map[*stream]bool{}
	}
	if c.open[key] == nil {
		c.open[key] = map[*stream]bool{}
	}
	c.open[key][one] = true
	return good, func() {
		end(nil)
		c.mutex.Lock()
		defer c.mutex.Unlock()
		if delete(c.open[key], one); len(c.open[key]) == 0 {
			delete(c.open, key)
		}
	}
}

// endStreams ends the streams whose credentials are good no more.
func (s *People) endStreams(ctx context.Context) error {
	c := &s.credentials
	c.mutex.Lock()
	hashes := make([][]byte, 0, len(c.open))
	for key := range c.open {
		hashes = append(hashes, []byte(key))
	}
	c.mutex.Unlock()
	if len(hashes) == 0 {
		return nil
	}
	good, err := s.db.GoodCredentials(ctx, hashes)
	if err != nil {
		return err // nobody is put out because the database is away
	}
	still := make(map[string]bool, len(good))
	for _, g := range good {
		still[string(g)] = true
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for _, h := range hashes {
		if !still[string(h)] {
			for one := range c.open[string(h)] {
				one.end(errEnded)
			}
		}
	}
	return nil
}

// credentialsEnded makes that felt at once, here; other replicas notice within their pace.
func (s *People) credentialsEnded(ctx context.Context) {
	s.tokens.Forget()
	if err := s.endStreams(context.WithoutCancel(ctx)); err != nil {
		s.Log.Warn("streams of ended credentials go on for a moment", "err", err)
	}
}

// WatchCredentials does it until ctx ends.
func (s *People) WatchCredentials(ctx context.Context) {
	tick := time.NewTicker(credentialPace)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := s.endStreams(ctx); err != nil && ctx.Err() == nil {
				s.Log.Warn("credentials of streams wait to be looked at", "err", err)
			}
		}
	}
}
