package weights

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/blob"
	"kembrel/store/pg/db"
)

// Each file of weights is looked into once, after its commit, by a job of its own. Whatever is wrong with it is its own
// problem, shown at its checkpoint: it holds up no other.

// Limits of a look into a file.
const (
	inspectTime  = 10 * time.Minute // a file that takes longer is given up
	inspectTries = 4                // where its chunks are away, within about five minutes
	inspectAgain = time.Hour        // until a file whose chunks stayed away is tried again
	Queue        = "weights"
)

// described is a tensor with its statistics, as it is kept.
type described struct {
	tensor.Info
	tensor.Statistics
}

type inspectArgs struct {
	Digest     string `json:"digest" river:"unique"` // of the file, hexadecimal
	Run        int64  `json:"run"`
	Checkpoint int64  `json:"checkpoint"`
	Path       string `json:"path"`
	Person     int64  `json:"person,omitempty"` // who saved it; 0: not known
}

func (inspectArgs) Kind() string { return "inspect-weights" }

// underWay are the states of a job that is not over.
var underWay = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning,
	rivertype.JobStateRetryable, rivertype.JobStateScheduled}

// InsertOpts has each file looked into by one job at a time.
func (inspectArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: Queue, MaxAttempts: inspectTries,
		UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: underWay}}
}

// Inspect is the worker that looks into files of weights.
type Inspect struct {
	river.WorkerDefaults[inspectArgs]
	service *Weights

	mutex sync.Mutex
	busy  map[int64]bool // people of whom a file is being looked into, here
}

// Workers is how many files are looked into at a time by a replica, each of another person; turnPause is how long a
// file waits whose person has one already.
const (
	Workers   = 2
	turnPause = time.Second
)

// begin takes a person's turn; false: they have it already.
func (w *Inspect) begin(person int64) bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if person != 0 && w.busy[person] {
		return false
	}
	if w.busy == nil {
		w.busy = map[int64]bool{}
	}
	w.busy[person] = true
	return true
}

func (w *Inspect) end(person int64) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	delete(w.busy, person)
}

// Timeout is longer than a look takes, which ends itself in time to say why.
func (w *Inspect) Timeout(*river.Job[inspectArgs]) time.Duration { return inspectTime + time.Minute }

// Work looks into a file.
func (w *Inspect) Work(ctx context.Context, job *river.Job[inspectArgs]) error {
	digest, err := hex.DecodeString(job.Args.Digest)
	if err != nil {
		return river.JobCancel(err)
	}
	if !w.begin(job.Args.Person) {
		return river.JobSnooze(turnPause) // others come first: one person's files take one worker
	}
	defer w.end(job.Args.Person)
	p := store.PendingFile{Digest: digest, Run: job.Args.Run, Checkpoint: job.Args.Checkpoint, Path: job.Args.Path}
	found, err := w.service.inspectFile(ctx, p)
	if ctx.Err() != nil {
		return ctx.Err() // the service ends: the job is taken up again
	}
	var problem *api.Problem
	away := errors.Is(err, blob.ErrAway) || db.Away(err) || errors.As(err, &problem) && problem.Kind() == api.ChunkGone
	switch {
	case err == nil:
	case away && job.Attempt < job.MaxAttempts:
		return err
	default:
		found = store.TensorFile{Digest: digest, Tensors: json.RawMessage("[]"), Problem: act.Clean(err.Error())}
		if away {
			again := time.Now().Add(inspectAgain)
			found.Again = &again
		}
	}
	if err := w.service.db.SetTensors(ctx, found); err != nil {
		if db.Away(err) {
			return err
		}
		found = store.TensorFile{Digest: digest, Tensors: json.RawMessage("[]"),
			Problem: act.Clean(fmt.Sprintf("what was found of it cannot be kept: %v", err))}
		if err := w.service.db.SetTensors(ctx, found); err != nil {
			return err
		}
	}
	w.service.Live.Touch("s", p.Run)
	return nil
}

// InspectLater has the files of weights of a checkpoint looked into, in the transaction that commits it.
func (s *Weights) InspectLater(ctx context.Context, q store.InTx, run, id int64, files []store.File) error {
	jobs := s.jobs.Load()
	if jobs == nil || q.Tx() == nil {
		return nil // the lookout finds them
	}
	var pending []store.PendingFile
	for _, f := range files {
		if f.Part == checkpoint.Weights && checkpoint.HoldsTensors(f.Path) {
			pending = append(pending, store.PendingFile{Digest: f.Digest, Run: run, Checkpoint: id, Path: f.Path})
		}
	}
	if len(pending) == 0 {
		return nil
	}
	who, _ := act.Asks(ctx)
	_, err := jobs.InsertManyTx(ctx, q.Tx(), inspections(pending, who.ID))
	return err
}

// inspections are the jobs for files, one for each content.
func inspections(files []store.PendingFile, person int64) (out []river.InsertManyParams) {
	seen := map[string]bool{}
	for _, f := range files {
		if digest := hex.EncodeToString(f.Digest); !seen[digest] {
			seen[digest] = true
			out = append(out, river.InsertManyParams{Args: inspectArgs{digest, f.Run, f.Checkpoint, f.Path, person}})
		}
	}
	return out
}

// InspectPending has files looked into that nobody has looked into, as those of an earlier version, and those whose
// time has come again.
func (s *Weights) InspectPending(ctx context.Context) error {
	pending, err := s.db.PendingTensors(ctx)
	if err != nil || len(pending) == 0 {
		return err
	}
	jobs := s.jobs.Load()
	if jobs == nil {
		return nil
	}
	_, err = jobs.InsertMany(ctx, inspections(pending, 0))
	return err
}

// inspectFile computes what is kept of a file. A fault of ours at what is in it is an error like any other.
func (s *Weights) inspectFile(ctx context.Context, p store.PendingFile) (out store.TensorFile, err error) {
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("looking into weights", "file", p.Path, "run", p.Run, "fault", r)
			err = fmt.Errorf("it cannot be looked into: %v", r)
		}
	}()
	limited, cancel := context.WithTimeout(ctx, inspectTime)
	defer cancel()
	out = store.TensorFile{Digest: p.Digest, Tensors: json.RawMessage("[]")}
	files, err := s.db.ListFiles(limited, p.Run, p.Checkpoint)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(files, func(f store.File) bool { return f.Path == p.Path })
	if i < 0 {
		return out, nil
	}
	list, print, err := s.describe(limited, files[i])
	if errors.Is(limited.Err(), context.DeadlineExceeded) && ctx.Err() == nil {
		return out, fmt.Errorf("looking into it took longer than %s", inspectTime)
	}
	if err != nil {
		return out, err
	}
	out.Weights, out.Parameters = print[:], new(int64)
	for i := range list {
		*out.Parameters += list[i].Info.Count()
		list[i].Name = act.Clean(list[i].Name)
	}
	out.Tensors, err = json.Marshal(list)
	return out, err
}

// describe reads the tensors of a file.
func (s *Weights) describe(ctx context.Context, file store.File) (list []described, print chunk.Digest, err error) {
	f, err := s.openTensors(ctx, file)
	if err != nil {
		return nil, print, err
	}
	list = make([]described, len(f.Tensors))
	for k, t := range f.Tensors {
		list[k].Info = t
		if list[k].Statistics, err = f.Statistics(k); err != nil {
			return nil, print, err
		}
	}
	print, err = tensor.Fingerprint(f)
	return list, print, err
}

// openTensors opens a file of tensors in the blob store.
func (s *Weights) openTensors(ctx context.Context, f store.File) (*tensor.File, error) {
	content, err := s.checkpoints.Content(ctx, f)
	if err != nil {
		return nil, err
	}
	return tensor.Open(&readerAt{ctx: ctx, from: content}, f.Size)
}

// readerAt reads a file at any place. Many small tensors lie side by side, so what follows a small piece is read with
// it.
type readerAt struct {
	mutex  sync.Mutex
	ctx    context.Context
	from   io.ReadSeeker
	window []byte // what was read last, ahead
	at     int64  // where it begins
}

// readAhead is how much is read for a small piece, in bytes.
const readAhead = 1 << 20

func (r *readerAt) ReadAt(p []byte, at int64) (int, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if err := r.ctx.Err(); err != nil { // what is read again and again in memory must end too
		return 0, err
	}
	if len(p) >= readAhead {
		return r.read(p, at)
	}
	if skip := at - r.at; skip < 0 || skip+int64(len(p)) > int64(len(r.window)) {
		if r.window == nil {
			r.window = make([]byte, 0, readAhead)
		}
		n, err := r.read(r.window[:readAhead], at)
		r.window, r.at = r.window[:n], at
		if err != nil && !errors.Is(err, io.EOF) {
			r.window = r.window[:0]
			return 0, err
		}
	}
	n := copy(p, r.window[at-r.at:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (r *readerAt) read(p []byte, at int64) (int, error) {
	if _, err := r.from.Seek(at, io.SeekStart); err != nil {
		return 0, err
	}
	n, err := io.ReadFull(r.from, p)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = io.EOF
	}
	return n, err
}

// sayProblem is a file's problem as the end of a sentence.
func sayProblem(problem string) string { return strings.TrimSuffix(problem, ".") }
