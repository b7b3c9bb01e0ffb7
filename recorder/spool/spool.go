package spool

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/printed"
	"kembrel/core/space"
	"kembrel/host"
)

// Leg says what a spool's leg is. It is written once, before the program starts.
type Leg struct {
	Service string                     `json:"service"` // address
	Project string                     `json:"project"`
	RunKey  string                     `json:"run_key"`
	LegKey  string                     `json:"leg_key"`
	Title   string                     `json:"title,omitempty"`
	Hyper   map[string]json.RawMessage `json:"hyper,omitempty"`
	Recipe  api.Recipe                 `json:"recipe"`
	Started time.Time                  `json:"started"`
	Socket  string                     `json:"socket"`
	Stop    *api.StopRule              `json:"stop_rule,omitempty"` // the run's own, to be told to the service
	Number  int                        `json:"number,omitempty"`    // of the run gone on with; 0: a new one
	More    bool                       `json:"more,omitempty"`      // the leg goes on although the run was finished
	Origin  *api.Origin                `json:"origin,omitempty"`    // of a new run
	space.Place
	Resumed *api.Resumed               `json:"resumed,omitempty"` // what the leg goes on from
	Files   []ManifestFile             `json:"files,omitempty"`   // of the parts in the folder resumed
	Asked   map[string]json.RawMessage `json:"asked,omitempty"`   // hyperparameters for the program to take

	Evaluation *Evaluation `json:"evaluation,omitempty"` // nil: it is a leg of a training
}

// Evaluation is what a spool keeps where no training is recorded but the evaluation of a checkpoint.
type Evaluation struct {
	At     string     `json:"at"`               // s1200.leg2
	Epoch  api.Float  `json:"epoch"`            // of the checkpoint
	Data   string     `json:"data,omitempty"`   // hydrophone#3:test, or what the run used data for
	Split  string     `json:"split,omitempty"`  // of it, where that is known
	Verify *api.Float `json:"verify,omitempty"` // largest difference to what was recorded; nil: it is not compared
}

// State is how far a spool has been sent. It is rewritten without fsync: what matters is asked of the service.
type State struct {
	Run    string `json:"run,omitempty"` // address, once known
	Leg    int    `json:"leg,omitempty"`
	Batch  int64  `json:"batch"`
	Upto   int64  `json:"upto"` // records
	Stdout int64  `json:"stdout"`
	Stderr int64  `json:"stderr"`
	Why    string `json:"why,omitempty"` // why the service refused it

	Snapshot []string `json:"snapshot,omitempty"` // keys of the items that the latest snapshot was made of

	Objective api.Objective `json:"objective,omitzero"` // of the run, as last heard
	Rule      *api.StopRule `json:"rule,omitempty"`     // in force, as last heard
}

// Ending is how a leg ended.
type Ending struct {
	State    string    `json:"state"`
	At       time.Time `json:"at"`
	ExitCode *int      `json:"exit_code,omitempty"`
	Signal   string    `json:"signal,omitempty"`
	Why      string    `json:"why,omitempty"`
	Tail     string    `json:"tail,omitempty"`
}

// Spool is an open spool, held by this process alone.
type Spool struct {
	Folder   string
	Leg      Leg
	Recorder string   // this process's id towards the service
	Previous []string // those of the processes which held it before, from the last one that the service has heard of
	Damage   int64    // bytes cut off behind the last whole record when it was opened
	records  *recordFile
	lock     *os.File
}

// ErrHeld says that another recorder holds the spool.
var ErrHeld = errors.New("another recorder holds this spool")

// Make makes the spool of a new leg below root.
func Make(root string, leg Leg) (*Spool, error) {
	folder := filepath.Join(root, leg.LegKey)
	var err error
	for _, sub := range []string{"open", "kept"} {
		err = errors.Join(err, os.MkdirAll(filepath.Join(folder, sub), 0o700))
	}
	if err == nil {
		err = writeJSON(filepath.Join(folder, "leg.json"), leg, true)
	}
	var s *Spool
	if err == nil {
		s, err = Open(folder)
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, fmt.Errorf("make the spool: %w", err)
	}
	return s, nil
}

// Open takes hold of a spool. The error is ErrHeld where another process holds it, and wraps ErrDamaged where it cannot
// be read.
func Open(folder string) (*Spool, error) {
	lock, err := os.OpenFile(filepath.Join(folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open spool: %w", err)
	}
	for try := 0; ; try++ {
		if err = host.TryLock(lock); err == nil || try == 20 {
			break
		}
		time.Sleep(10 * time.Millisecond) // someone may be listing it, or letting go of it
	}
	if err != nil {
		lock.Close()
		return nil, fmt.Errorf("%w: %s", ErrHeld, folder)
	}
	s := &Spool{Folder: folder, lock: lock, Recorder: uuid.NewString()}
	if s.Leg, err = readLeg(folder); err != nil {
		lock.Close()
		return nil, err
	}
	if s.records, s.Damage, err = openRecords(filepath.Join(folder, "records")); err != nil {
		lock.Close()
		return nil, fmt.Errorf("open spool %s: %w", folder, err)
	}
	half, _ := filepath.Glob(filepath.Join(folder, "sent-*"))
	for _, sent := range half {
		os.RemoveAll(sent)
	}
	if previous, err := os.ReadFile(filepath.Join(folder, "recorder")); err == nil {
		s.Previous = strings.Fields(string(previous))
		s.Previous = s.Previous[max(0, len(s.Previous)-maxPrevious):]
	}
	// without room it is noted when the service has heard of it
	if err := s.claim(s.Previous); err != nil && !host.NoRoom(err) {
		s.Close()
		return nil, fmt.Errorf("open spool: %w", err)
	}
	return s, host.SyncFolder(folder)
}

func readLeg(folder string) (Leg, error) {
	var leg Leg
	content, err := os.ReadFile(filepath.Join(folder, "leg.json"))
	if err != nil {
		return leg, fmt.Errorf("open spool: %w", err)
	}
	if err := json.Unmarshal(content, &leg); err != nil || leg.LegKey == "" {
		return leg, fmt.Errorf("%w: %s says no leg", ErrDamaged, filepath.Join(folder, "leg.json"))
	}
	return leg, nil
}

// maxPrevious bounds how many recorders may have died one after another before the service heard of any.
const maxPrevious = 999

// claim notes who holds the spool, behind those who did before.
func (s *Spool) claim(previous []string) error {
	text := strings.Join(append(slices.Clone(previous), s.Recorder), "\n")
	return writeFile(filepath.Join(s.Folder, "recorder"), []byte(text+"\n"), true)
}

// SetProject has the spool's run begin in another project. A run that the service knows stays where it is.
func (s *Spool) SetProject(key string) error {
	if s.Leg.Number != 0 || s.State().Run != "" {
		return fmt.Errorf("its run is %s/%s already", s.Leg.Project, s.State().Run)
	}
	leg := s.Leg
	leg.Project = key
	if err := writeJSON(filepath.Join(s.Folder, "leg.json"), leg, true); err != nil {
		return err
	}
	s.Leg = leg
	return nil
}

// Known notes that the service has heard of this recorder: those before it matter no more.
func (s *Spool) Known() error { return s.claim(nil) }

// SetProgram notes the program's process, so that it can be told whether it lives when its recorder does not.
func (s *Spool) SetProgram(pid int) error {
	return writeFile(filepath.Join(s.Folder, "program"), fmt.Appendf(nil, "%d %s\n", pid, host.Began(pid)), true)
}

// ProgramLives reports whether the program of this spool still runs.
func (s *Spool) ProgramLives() bool {
	content, err := os.ReadFile(filepath.Join(s.Folder, "program"))
	if err != nil {
		return false
	}
	var pid int
	var since string
	fmt.Sscan(string(content), &pid, &since)
	return pid > 0 && since != "" && host.Began(pid) == since
}

// Append keeps a record; then is called when it is durable, or with the error that kept it from being so.
func (s *Spool) Append(kind Kind, message int64, body []byte, then func(error)) {
	s.records.append(kind, message, body, then)
}

// AppendNow keeps a record and returns when it is durable.
func (s *Spool) AppendNow(kind Kind, message int64, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	s.Append(kind, message, body, func(err error) { done <- err })
	return <-done
}

// Touched is when the last record was written.
func (s *Spool) Touched() time.Time {
	if info, err := os.Stat(filepath.Join(s.Folder, "records")); err == nil {
		return info.ModTime()
	}
	return s.Leg.Started
}

// Changed has an entry when records became durable since it was last read.
func (s *Spool) Changed() <-chan struct{} { return s.records.changed }

// OnRoom has do called when the disk takes nothing any more, with why, and with nil when it takes again. What is
// appended meanwhile waits in memory, as much as is bearable.
func (s *Spool) OnRoom(do func(none error)) {
	s.records.mutex.Lock()
	defer s.records.mutex.Unlock()
	s.records.room = do
}

// Stuck is why the disk takes nothing at the moment; nil: it does.
func (s *Spool) Stuck() error {
	s.records.mutex.Lock()
	defer s.records.mutex.Unlock()
	return s.records.stuck
}

// AppendEnd appends the last record. Where the disk does not take it in time, readers see from now on what waits in
// memory, so that it can be sent all the same.
func (s *Spool) AppendEnd(e Ending, patience time.Duration) error {
	body, err := json.Marshal(e)
	if err != nil {
		return err
	}
	done := make(chan error, 1)
	s.Append(End, 0, body, func(err error) { done <- err })
	select {
	case err := <-done:
		return err
	case <-time.After(patience):
		s.records.openAll()
		return s.Stuck()
	}
}

// Size is how many bytes and records may be read.
func (s *Spool) Size() (bytes, records int64) { return s.records.size() }

// Appended is how many bytes readers may read once everything appended so far is counted: what still waits in memory
// to be written too. A Reader reads both.
func (s *Spool) Appended() int64 { return s.records.appended() }

// Reader reads the records from the beginning; limit its Next by Size.
func (s *Spool) Reader() *Reader { return NewReader(s.records) }

// State reads how far it has been sent.
func (s *Spool) State() State { return readState(s.Folder) }

func readState(folder string) (st State) {
	if content, err := os.ReadFile(filepath.Join(folder, "state.json")); err == nil {
		json.Unmarshal(content, &st)
	}
	return st
}

// SetState writes how far it has been sent.
func (s *Spool) SetState(st State) error {
	return writeJSON(filepath.Join(s.Folder, "state.json"), st, false)
}

// Printed is how far the program's output, standard and error, has been read for readings.
type Printed struct {
	At    [2]int64         `json:"at"` // bytes
	Place [2]printed.Place `json:"place"`
}

func (s *Spool) printed() string { return filepath.Join(s.Folder, "printed.json") }

// Printed is what SetPrinted noted last; nothing where it noted nothing.
func (s *Spool) Printed() (p Printed) {
	text, err := os.ReadFile(s.printed())
	if err != nil || json.Unmarshal(text, &p) != nil {
		return Printed{}
	}
	return p
}

// SetPrinted notes how far reading is, without fsync.
func (s *Spool) SetPrinted(p Printed) error { return writeJSON(s.printed(), p, false) }

// ResumedFolder is where the parts are that the leg goes on from.
func (s *Spool) ResumedFolder() string { return filepath.Join(s.Folder, "resumed") }

// Close lets go of the spool.
func (s *Spool) Close() error {
	err := s.records.close()
	return errors.Join(err, s.lock.Close())
}

// Remove deletes the spool. Its leg.json goes first, so that a half deleted one is not taken for a spool.
func (s *Spool) Remove() error {
	if err := os.Remove(filepath.Join(s.Folder, "leg.json")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	from := s.rescued()
	err := os.RemoveAll(s.Folder)
	if from != "" {
		err = errors.Join(err, os.RemoveAll(from))
	}
	return errors.Join(err, s.Close())
}

func writeJSON(path string, v any, durable bool) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return writeFile(path, append(text, '\n'), durable)
}

// writeFile writes beside and renames, so that the file is always whole.
func writeFile(path string, content []byte, durable bool) error {
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err == nil && durable {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}
