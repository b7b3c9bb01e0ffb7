package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/crypto/argon2"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"kembrel/api"
)

// argon2id with the memory and time that OWASP's password storage guide names as the least: 19 MiB, 2 passes, 1 lane.
const (
	argonMemory = 19 * 1024
	argonTime   = 2
	argonHead   = "$argon2id$v=19$m=19456,t=2,p=1$"
)

// unusableHash is well-formed and belongs to no password.
var unusableHash = argonHead + "AAAAAAAAAAAAAAAAAAAAAA$AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA"

func matches(hash, password string) bool {
	salt64, key64, ok := strings.Cut(strings.TrimPrefix(hash, argonHead), "$")
	salt, err1 := base64.RawStdEncoding.DecodeString(salt64)
	key, err2 := base64.RawStdEncoding.DecodeString(key64)
	if !ok || err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1,
		uint32(len(key))), key) == 1
}

// tries limits attempts to sign in: per address, per name, and how many passwords are hashed and wait to be.
type tries struct {
	buckets *lru.Cache[string, *rate.Limiter] // the one longest not used goes first
	mutex   sync.Mutex
	hashing *semaphore.Weighted
	waiting atomic.Int32
}

// An address may try ten times, then once in six seconds. A name may be tried three times as often, so that one address
// alone does not keep its person out.
const (
	mostBuckets = 20_000
	tryEvery    = 6 * time.Second
	tryBurst    = 10
	nameShare   = 3
	beginShare  = 12
	mostHashes  = 64 // that wait: about two seconds
)

func newTries() *tries {
	buckets, err := lru.New[string, *rate.Limiter](mostBuckets)
	if err != nil {
		panic(err) // the size is constant
	}
	return &tries{buckets: buckets, hashing: semaphore.NewWeighted(1)}
}

// allow takes a try of an address, and, only if that had one left, of a name ("": of none). Nobody who is over their
// own limit uses up another's.
func (t *tries) allow(from, name string) error {
	if !t.bucket("from "+network(from), 1).Allow() || name != "" &&
		!t.bucket("name "+strings.ToLower(name), nameShare).Allow() {
		return tooManyTries()
	}
	return nil
}

// allowOwn takes a try of a person to say what their password is.
func (t *tries) allowOwn(name string) error {
	if !t.bucket("own "+strings.ToLower(name), 1).Allow() {
		return tooManyTries()
	}
	return nil
}

// allowBegin takes a sign-in that an address begins elsewhere. Many people may have one address, and what is limited is
// only what is kept of those who do not come back.
func (t *tries) allowBegin(from string) error {
	if !t.bucket("begin "+network(from), beginShare).Allow() {
		return tooManyTries()
	}
	return nil
}

func tooManyTries() error { return api.Fail(api.TooMany, "too many tries to sign in; wait a minute") }

func (t *tries) bucket(key string, share int) *rate.Limiter {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	b, known := t.buckets.Get(key)
	if !known {
		b = rate.NewLimiter(rate.Every(tryEvery/time.Duration(share)), tryBurst*share)
		t.buckets.Add(key, b)
	}
	return b
}

// network is what counts as one address: with IPv6 all that one household or firm is given.
func network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil || ip.Unmap().Is4() {
		return address
	}
	prefix, err := ip.Prefix(64)
	if err != nil {
		return address
	}
	return prefix.String()
}

// inTurn runs work on a password when its turn comes, unless the caller goes away before or too many wait.
func (t *tries) inTurn(ctx context.Context, do func()) error {
	if t.waiting.Add(1) > mostHashes {
		t.waiting.Add(-1)
		return api.Fail(api.TooMany, "many people are signing in just now; try again in a moment")
	}
	err := t.hashing.Acquire(ctx, 1)
	t.waiting.Add(-1)
	if err != nil {
		return err
	}
	defer t.hashing.Release(1)
	do()
	return nil
}

func (t *tries) check(ctx context.Context, hash, password string) (right bool, err error) {
	err = t.inTurn(ctx, func() { right = matches(hash, password) })
	return right, err
}

// hash makes an argon2id hash in PHC form.
func (t *tries) hash(ctx context.Context, password string) (hash string, err error) {
	err = t.inTurn(ctx, func() {
		salt := make([]byte, 16)
		rand.Read(salt)
		key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, 32)
		hash = argonHead + base64.RawStdEncoding.EncodeToString(salt) + "$" + base64.RawStdEncoding.EncodeToString(key)
	})
	return hash, err
}
