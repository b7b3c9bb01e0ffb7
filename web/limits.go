package web

import (
	"context"
	"io"
	"mime"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"kembrel/api"
)

// What the service takes in at once, whoever sends it. A body is weighed while it arrives (api.Weigher), so that
// neither one large body nor many of them take more memory than this; a little waiting smooths what comes in bursts.
const (
	bodiesInAll = 192 << 20 // weight of all bodies that are being read or worked on
	bodiesEach  = 128 << 20 // of one person's
	bodyMost    = 96 << 20  // of one body
	bodyLeast   = 16 << 20  // what every operation may weigh, however small its bodies are
	bodyWait    = 5 * time.Second
	// histories that are being read at once; each may go on for as long as its reader keeps to the least rate
	exportsInAll  = 12
	exportsEach   = 2
	exportLeast   = 16 << 10 // bytes a second that a reader of one takes, beyond what lies in the socket
	exportPause   = 10 * time.Second
	weightsAPiece = 64 << 10 // weight is taken in pieces
)

// shares divides an amount among callers: so much for all, so much for each.
type shares struct {
	all     *semaphore.Weighted
	most    int64
	mutex   sync.Mutex
	persons map[int64]*semaphore.Weighted // as many as there are people
}

func newShares(all, each int64) *shares {
	return &shares{all: semaphore.NewWeighted(all), most: each, persons: map[int64]*semaphore.Weighted{}}
}

func (s *shares) of(person int64) *semaphore.Weighted {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	p := s.persons[person]
	if p == nil {
		p = semaphore.NewWeighted(s.most)
		s.persons[person] = p
	}
	return p
}

// take waits until n of the person's share are free, at most until ctx ends.
func (s *shares) take(ctx context.Context, person, n int64) error {
	if err := s.of(person).Acquire(ctx, n); err != nil {
		return err
	}
	if err := s.all.Acquire(ctx, n); err != nil {
		s.of(person).Release(n)
		return err
	}
	return nil
}

func (s *shares) give(person, n int64) {
	s.all.Release(n)
	s.of(person).Release(n)
}

// tryTake is take without waiting.
func (s *shares) tryTake(person, n int64) bool {
	if !s.of(person).TryAcquire(n) {
		return false
	}
	if !s.all.TryAcquire(n) {
		s.of(person).Release(n)
		return false
	}
	return true
}

// body weighs what is read of a request and refuses it where that becomes too much.
type body struct {
	io.ReadCloser
	ctx     context.Context
	bodies  *shares
	person  int64
	weigher api.Weigher // nil: the whole is taken at once
	whole   int64
	weight  int64 // so far
	taken   int64
	most    int64
	limit   int64 // bytes that the operation takes
	bytes   int64 // so far
	failed  error
}

// weighBody has the request's body weighed; done gives back what it took.
func (w *server) weighBody(r *http.Request, person int64, s api.Spec) (done func()) {
	if r.Body == nil || r.Body == http.NoBody {
		return func() {}
	}
	limit := s.MaxBody
	if limit == 0 {
		limit = 1 << 20
	}
	b := &body{ReadCloser: r.Body, ctx: r.Context(), bodies: w.bodies, person: person, limit: limit,
		most: max(bodyLeast, min(8*limit, bodyMost))}
	switch kind, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); {
	case s.ID == api.PutChunk.ID, s.ID == api.PutBlock.ID:
		b.whole = limit
	case kind == api.CBOR:
		b.weigher = api.WeighCBOR()
	default:
		b.weigher = api.WeighJSON()
	}
	r.Body = b
	return func() { b.bodies.give(b.person, b.taken) }
}

func (b *body) Read(p []byte) (int, error) {
	if b.failed != nil {
		return 0, b.failed
	}
	n, err := b.ReadCloser.Read(p)
	b.bytes += int64(n)
	added := b.whole
	b.whole = 0
	if b.weigher != nil {
		added = b.weigher.Add(p[:n]) + int64(n)
	}
	if b.weight += added; b.weight > b.most && b.weigher != nil {
		b.failed = api.Fail(api.TooLarge,
			"the body holds more values than are read at once: as objects, texts and numbers in memory it would take over %s; send it in parts", api.Bytes(b.most))
		// who sends all before reading an answer is to get this one
		io.Copy(io.Discard, io.LimitReader(b.ReadCloser, b.limit-b.bytes))
		return 0, b.failed
	}
	if more := b.weight - b.taken; more > 0 {
		more = max(more, weightsAPiece)
		ctx, cancel := context.WithTimeout(b.ctx, bodyWait)
		defer cancel()
		if b.bodies.take(ctx, b.person, more) != nil {
			b.failed = api.Fail(api.TooMany,
				"more is being sent to the service at once than it takes (%s in all, %s of one person); try again in a moment",
				api.Bytes(bodiesInAll), api.Bytes(bodiesEach))
			return 0, b.failed
		}
		b.taken += more
	}
	return n, err
}

// retryAfter is what a refusal that passes says of when to come again, in seconds.
const retryAfter = "2"

// hinting says with every refusal that passes when to come again.
type hinting struct{ gin.ResponseWriter }

func (h hinting) Unwrap() http.ResponseWriter { return h.ResponseWriter }

func (h hinting) WriteHeader(status int) {
	switch status {
	case http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusInsufficientStorage:
		if h.Header().Get("Retry-After") == "" {
			h.Header().Set("Retry-After", retryAfter)
		}
	}
	h.ResponseWriter.WriteHeader(status)
}

// export takes one of the places for reading histories.
// pressed is a writer for who holds one of few places: each piece has to be taken at the least rate, or the answer is
// cut off.
type pressed struct{ http.ResponseWriter }

func (p pressed) Write(data []byte) (int, error) {
	control := http.NewResponseController(p.ResponseWriter)
	control.SetReadDeadline(time.Now().Add(requestTime))
	control.SetWriteDeadline(time.Now().Add(exportPause + time.Duration(len(data))*time.Second/exportLeast))
	return p.ResponseWriter.Write(data)
}

func (w *server) export(person int64) (done func(), err error) {
	if !w.exports.tryTake(person, 1) {
		return nil, api.Fail(api.TooMany,
			"%d histories are being read at once, or %d of yours, which is as many as there may be; try again when one has ended", exportsInAll, exportsEach)
	}
	return sync.OnceFunc(func() { w.exports.give(person, 1) }), nil
}
