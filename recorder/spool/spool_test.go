package spool

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
)

func made(t *testing.T) *Spool {
	s, err := Make(t.TempDir(), Leg{Project: "vessels", RunKey: uuid.NewString(), LegKey: uuid.NewString(),
		Started: time.Now()})
	require.NoError(t, err)
	return s
}

func all(t *testing.T, s *Spool) []string {
	var out []string
	size, _ := s.Size()
	for r := s.Reader(); ; {
		record, err := r.Next(size)
		if errors.Is(err, io.EOF) {
			return out
		}
		require.NoError(t, err)
		require.EqualValues(t, len(out)+1, record.Number)
		out = append(out, fmt.Sprintf("%d %d %s", record.Kind, record.Message, record.Body))
	}
}

func TestWhatIsKeptIsThereAfterOpeningAgain(t *testing.T) {
	s := made(t)
	var wait sync.WaitGroup
	var want []string
	for i := range 500 {
		wait.Add(1)
		want = append(want, fmt.Sprintf("1 %d body %d", i, i))
		s.Append(Readings, int64(i), fmt.Appendf(nil, "body %d", i), func(err error) {
			if err != nil {
				t.Error(err)
			}
			wait.Done()
		})
	}
	wait.Wait()
	require.Equal(t, want, all(t, s))
	first := s.Recorder
	require.NoError(t, s.Close())
	again, err := Open(s.Folder)
	require.NoError(t, err)
	require.Equal(t, want, all(t, again))
	require.Equal(t, []string{first}, again.Previous)
	require.NotEqual(t, first, again.Recorder)
	require.NoError(t, again.Close()) // dies before the service hears of it
	second := again.Recorder
	again, err = Open(s.Folder)
	require.NoError(t, err)
	require.Equal(t, []string{first, second}, again.Previous)
	require.NoError(t, again.Known())
	third := again.Recorder
	require.NoError(t, again.Close())
	again, err = Open(s.Folder)
	require.NoError(t, err)
	require.Equal(t, []string{third}, again.Previous)
	require.NoError(t, again.AppendNow(End, 0, Ending{State: "finished"}))
	require.Len(t, all(t, again), 501)
	require.NoError(t, again.Remove())
	_, err = os.Stat(s.Folder)
	require.ErrorIs(t, err, os.ErrNotExist)
}

func TestOnlyOneHolds(t *testing.T) {
	s := made(t)
	_, err := Open(s.Folder)
	require.ErrorIs(t, err, ErrHeld)
	list, err := List(filepath.Dir(s.Folder))
	require.NoError(t, err)
	require.True(t, list[0].Held)
	require.NoError(t, s.Close())
	list, err = List(filepath.Dir(s.Folder))
	require.NoError(t, err)
	require.False(t, list[0].Held)
}

// A spool cut anywhere keeps its whole records; one with any bit flipped never yields a wrong record.
func TestTruncatedAndFlipped(t *testing.T) {
	s := made(t)
	for i := range 5 {
		require.NoError(t, s.AppendNow(Note, int64(i), map[string]int{"n": i}))
	}
	require.NoError(t, s.Close())
	path := filepath.Join(s.Folder, "records")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	read := func(content []byte) (records []Record, err error) {
		for r := NewReader(bytes.NewReader(content)); ; {
			record, err := r.Next(int64(len(content)))
			if err != nil {
				return records, err
			}
			records = append(records, record)
		}
	}
	want, err := read(whole)
	require.ErrorIs(t, err, io.EOF)
	require.Len(t, want, 5)
	for n := range whole {
		got, err := read(whole[:n])
		require.Error(t, err)
		require.Equal(t, want[:len(got)], append([]Record{}, got...), "cut after %d bytes", n)
	}
	for bit := range 8 * len(whole) {
		flipped := bytes.Clone(whole)
		flipped[bit/8] ^= 1 << (bit % 8)
		got, err := read(flipped)
		require.ErrorIs(t, err, ErrDamaged, "bit %d", bit)
		require.Equal(t, want[:len(got)], append([]Record{}, got...), "bit %d", bit)
	}

	flipped := bytes.Clone(whole)
	flipped[len(whole)-30] ^= 4
	require.NoError(t, os.WriteFile(path, flipped, 0o600))
	list, err := List(filepath.Dir(s.Folder))
	require.NoError(t, err)
	require.Contains(t, list[0].Damaged, "checksum")
	opened, err := Open(s.Folder)
	require.NoError(t, err)
	defer opened.Close()
	require.Positive(t, opened.Damage)
	cut, err := os.ReadFile(path + ".cut")
	require.NoError(t, err)
	require.EqualValues(t, opened.Damage, len(cut), "what is cut off is set aside")
	require.NoError(t, opened.AppendNow(Note, 9, "more"), "and it can be written on")

	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "records"), []byte("something else"), 0o600))
	require.NoError(t, opened.Close())
	_, err = Open(s.Folder)
	require.ErrorIs(t, err, ErrDamaged)
}

func TestWhetherTheProgramLives(t *testing.T) {
	s := made(t)
	defer s.Close()
	require.False(t, s.ProgramLives(), "none is noted")
	cmd := exec.Command("sleep", "60")
	require.NoError(t, cmd.Start())
	require.NoError(t, s.SetProgram(cmd.Process.Pid))
	require.True(t, s.ProgramLives())
	require.NoError(t, cmd.Process.Kill())
	require.Eventually(t, func() bool { return !s.ProgramLives() }, 5*time.Second, time.Millisecond,
		"not even while it waits to be reaped")
	cmd.Wait()
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "program"), fmt.Appendf(nil, "%d 1\n", os.Getpid()), 0o600))
	require.False(t, s.ProgramLives(), "its id is another's now")
}

func TestKeepTakesPlainFilesOnly(t *testing.T) {
	s := made(t)
	defer s.Close()
	outside := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(outside, []byte("x"), 0o600))
	folder := s.OpenFolder("k")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "sub"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "sub", "w.bin"), []byte("weights"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(folder, "link")))
	require.NoError(t, os.Symlink(filepath.Dir(outside), filepath.Join(folder, "dir")))
	for path, want := range map[string]string{"missing.bin": "missing", "link": "not a plain file",
		"dir/secret": "missing", "sub": "not a plain file", "../../leg.json": "missing"} {
		_, err := s.Keep("k", []string{"sub/w.bin", path})
		require.ErrorContains(t, err, want, path)
	}
	sizes, err := s.Keep("k", []string{"sub/w.bin"})
	require.NoError(t, err)
	require.Equal(t, []int64{7}, sizes)
	content, err := os.ReadFile(filepath.Join(s.KeptFolder("k"), "sub", "w.bin"))
	require.NoError(t, err)
	require.Equal(t, "weights", string(content))
	_, err = s.Keep("k", []string{"sub/w.bin"})
	require.ErrorContains(t, err, "not open")
}

// A recorder that dies while it forgets a checkpoint leaves it kept whole or not at all, and the next one clears what
// is left.
func TestForgetLeavesNoHalf(t *testing.T) {
	s := made(t)
	require.NoError(t, os.MkdirAll(s.OpenFolder("k"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.OpenFolder("k"), "w.bin"), []byte("weights"), 0o600))
	_, err := s.Keep("k", []string{"w.bin"})
	require.NoError(t, err)
	watch := make(chan bool)
	go func() { // there is never a moment at which the folder is there and its file is not
		for {
			_, file := os.Stat(filepath.Join(s.KeptFolder("k"), "w.bin"))
			_, folder := os.Stat(s.KeptFolder("k"))
			if folder != nil {
				watch <- true
				return
			}
			if file != nil {
				watch <- false
				return
			}
		}
	}()
	require.NoError(t, s.Forget("k"))
	require.True(t, <-watch)
	require.NoError(t, s.Close())
	require.NoError(t, os.MkdirAll(filepath.Join(s.Folder, "sent-old", "part"), 0o700))
	s, err = Open(s.Folder)
	require.NoError(t, err)
	defer s.Close()
	left, _ := filepath.Glob(filepath.Join(s.Folder, "sent-*"))
	require.Empty(t, left)
}

func FuzzReader(f *testing.F) {
	f.Add(appendRecord([]byte(magic), Note, 3, []byte("hello")))
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, content []byte) {
		r := NewReader(bytes.NewReader(content))
		total := 0
		for {
			record, err := r.Next(int64(len(content)))
			if err != nil {
				return
			}
			if total += len(record.Body); total > len(content) {
				t.Fatal("more came out than is in it")
			}
		}
	})
}

// A disk that takes nothing keeps records waiting in memory, and is tried until it takes again: nothing is lost or
// doubled, and what does not fit in memory is refused at once. At the end readers see what still waits.
func TestWaitsForRoom(t *testing.T) {
	s := made(t)
	var told []error
	var mutex sync.Mutex
	s.OnRoom(func(none error) { mutex.Lock(); told = append(told, none); mutex.Unlock() })
	require.NoError(t, s.AppendNow(Note, 1, "before"))
	closed, err := os.Open(filepath.Join(s.Folder, "records")) // it cannot be written into
	require.NoError(t, err)
	swap := func(to *os.File) (from *os.File) {
		s.records.mutex.Lock()
		defer s.records.mutex.Unlock()
		from, s.records.file = s.records.file, to
		return from
	}
	good := swap(closed)
	kept := make(chan int, 100)
	for i := range 50 {
		s.Append(Note, int64(2+i), fmt.Appendf(nil, "%d", i), func(err error) {
			require.NoError(t, err)
			kept <- i
		})
	}
	require.Eventually(t, func() bool { return s.Stuck() != nil }, 5*time.Second, time.Millisecond)
	require.Len(t, all(t, s), 1, "readers see what is durable")
	refused := make(chan error, 1)
	s.Append(Note, 99, make([]byte, memoryLimit), func(err error) { refused <- err })
	require.ErrorIs(t, <-refused, ErrNoRoom)
	swap(good)
	for i := range 50 {
		require.Equal(t, i, <-kept, "in order")
	}
	require.Len(t, all(t, s), 51)
	require.Eventually(t, func() bool {
		mutex.Lock()
		defer mutex.Unlock()
		return len(told) == 2 && told[0] != nil && told[1] == nil
	}, 5*time.Second, time.Millisecond)

	good = swap(closed)
	s.Append(Note, 100, []byte("late"), func(error) {})
	require.Error(t, s.AppendEnd(Ending{State: "finished"}, 100*time.Millisecond))
	records := all(t, s)
	require.Len(t, records, 53, "what waits in memory is read too")
	require.Contains(t, records[52], "finished")
	other := t.TempDir()
	folder, err := s.Rescue([]string{filepath.Dir(s.Folder), other})
	require.NoError(t, err)
	require.Equal(t, other, filepath.Dir(folder))
	swap(good)
	require.NoError(t, s.Close())
	again, err := Open(folder)
	require.NoError(t, err)
	require.Equal(t, records, all(t, again))
	require.NoError(t, again.Remove())
	_, err = os.Stat(s.Folder)
	require.ErrorIs(t, err, os.ErrNotExist, "the one it was goes with it")
}
