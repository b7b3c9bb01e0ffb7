package sheets

import (
	"context"
	"sync"
	"time"

	"kembrel/api"
)

// Limits of the sheets that are being assessed by this replica.
const (
	answerTime = 20 * time.Second // after which a request is answered though its sheet is not assessed yet
	assessTime = 30 * time.Minute // of one sheet, its turn included
	keepTime   = 2 * time.Minute  // for which it is known how one went
	mostUnder  = 64               // waiting for their turn, or at it
)

// under are sheets that are being assessed, by their keys. One goes on when whoever sent it has gone; sent again, it is
// the same. A replica that ends forgets them, and whoever sends them again has them assessed anew.
type under struct {
	mutex sync.Mutex
	jobs  map[string]*assessing
}

// assessing is one of them. What it came to may be read once done is closed.
type assessing struct {
	began time.Time
	done  chan struct{}
	sheet *api.Sheet
	err   error
}

// begin begins to assess a sheet, or finds that it is being assessed.
func (u *under) begin(ctx context.Context, key string,
	do func(context.Context) (*api.Sheet, error)) (*assessing, error) {
	u.mutex.Lock()
	defer u.mutex.Unlock()
	if job := u.jobs[key]; job != nil {
		return job, nil
	}
	if len(u.jobs) >= mostUnder {
		return nil, api.Fail(api.TooMany, "%d prediction sheets are being assessed; send it again in a while",
			mostUnder)
	}
	if u.jobs == nil {
		u.jobs = map[string]*assessing{}
	}
	job := &assessing{began: time.Now(), done: make(chan struct{})}
	u.jobs[key] = job
	go func() {
		limited, cancel := context.WithTimeout(context.WithoutCancel(ctx), assessTime)
		defer cancel()
		job.sheet, job.err = do(limited)
		if limited.Err() != nil {
			job.err = api.Fail(api.TooCostly, "assessing the sheet took longer than %s", assessTime)
		}
		close(job.done)
		wait := keepTime
		if job.err == nil || time.Since(job.began) < answerTime {
			wait = 0 // the database knows it, or whoever sent it was told
		}
		time.AfterFunc(wait, func() {
			u.mutex.Lock()
			defer u.mutex.Unlock()
			delete(u.jobs, key)
		})
	}()
	return job, nil
}
