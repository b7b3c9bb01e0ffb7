package spool

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sync"
	"time"

	"kembrel/host"
)

// The file of records, version 1: the 8 bytes "kbspool1", then records: 4 bytes little endian length of what follows
// the checksum, 4 bytes CRC-32C of it, 1 byte kind, the program's message id (uvarint, 0: none), the body. A record is
// believed only if its checksum fits; what comes after one that does not was never acknowledged or is damaged, and is
// cut off when the file is opened for writing.
const magic = "kbspool1"

// Kind is what a record's body holds.
type Kind byte

// The kinds of record.
const (
	Readings   Kind = 1  // names and a journal payload
	Hyper      Kind = 2  // JSON: name to value
	Note       Kind = 3  // JSON: api.NewNote
	Checkpoint Kind = 4  // JSON: Manifest
	End        Kind = 5  // JSON: Ending; nothing comes after it
	Said       Kind = 6  // JSON: Ending, of which the program said State and Why
	Program    Kind = 7  // JSON: api.ProgramSays
	Data       Kind = 8  // JSON: api.DataUse
	Sheet      Kind = 9  // JSON: Manifest with Sheet
	File       Kind = 10 // JSON: Manifest with Path
	Items      Kind = 11 // JSON: Manifest with Items
	Training   Kind = 12 // empty: training has begun, and what was handed over of data before it is complete
)

// Batched reports whether records of this kind go to the service in batches, which it counts.
func (k Kind) Batched() bool {
	return k == Readings || k == Hyper || k == Note || k == Program || k == Data
}

// Record is one entry of the spool; Number counts from 1.
type Record struct {
	Number  int64
	Kind    Kind
	Message int64 // the program's id of the message it came with, rising; 0: none
	Body    []byte
}

const maxRecord = 64 << 20

var table = crc32.MakeTable(crc32.Castagnoli)

// ErrDamaged says that a record's checksum does not fit, or the file is none of ours.
var ErrDamaged = errors.New("damaged spool")

func appendRecord(dst []byte, kind Kind, message int64, body []byte) []byte {
	head := binary.AppendUvarint([]byte{byte(kind)}, uint64(message))
	dst = binary.LittleEndian.AppendUint32(dst, uint32(len(head)+len(body)))
	sum := crc32.Update(crc32.Checksum(head, table), table, body)
	dst = binary.LittleEndian.AppendUint32(dst, sum)
	return append(append(dst, head...), body...)
}

// Reader reads records one after another.
type Reader struct {
	from   io.ReaderAt
	at     int64
	number int64
}

// NewReader reads the records of r from the beginning.
func NewReader(r io.ReaderAt) *Reader { return &Reader{from: r} }

// Next returns the next record; io.EOF at a clean end, ErrDamaged where a record is cut short or damaged. It may be
// called again after io.EOF when more has been written. limit is how many bytes of the file may be read, so memory is
// bounded by it.
func (r *Reader) Next(limit int64) (Record, error) {
	if r.at == 0 {
		var head [len(magic)]byte
		if _, err := r.from.ReadAt(head[:], 0); err != nil || string(head[:]) != magic {
			return Record{}, fmt.Errorf("%w: it does not begin with %q", ErrDamaged, magic)
		}
		r.at = int64(len(magic))
	}
	if r.at == limit {
		return Record{}, io.EOF
	}
	var head [8]byte
	if limit-r.at < int64(len(head))+1 {
		return Record{}, fmt.Errorf("%w: record %d is cut short at byte %d", ErrDamaged, r.number+1, r.at)
	}
	if _, err := r.from.ReadAt(head[:], r.at); err != nil {
		return Record{}, fmt.Errorf("read record %d: %w", r.number+1, err)
	}
	size := int64(binary.LittleEndian.Uint32(head[:]))
	if size < 1 || size > maxRecord || size > limit-r.at-8 {
		return Record{}, fmt.Errorf("%w: record %d at byte %d claims %d bytes", ErrDamaged, r.number+1, r.at, size)
	}
	content := make([]byte, size)
	if _, err := r.from.ReadAt(content, r.at+8); err != nil {
		return Record{}, fmt.Errorf("read record %d: %w", r.number+1, err)
	}
	if crc32.Checksum(content, table) != binary.LittleEndian.Uint32(head[4:]) {
		return Record{}, fmt.Errorf("%w: the checksum of record %d at byte %d does not fit",
			ErrDamaged, r.number+1, r.at)
	}
	message, n := binary.Uvarint(content[1:])
	if n <= 0 {
		return Record{}, fmt.Errorf("%w: record %d at byte %d has no message id", ErrDamaged, r.number+1, r.at)
	}
	r.at += 8 + size
	r.number++
	return Record{Number: r.number, Kind: Kind(content[0]), Message: int64(message), Body: content[1+n:]}, nil
}

// recordFile appends records and makes them durable in groups. Where the disk takes nothing (it is full, read-only,
// beyond a quota) they wait in memory, up to a bound, and are tried again until they are written or the file is closed.
type recordFile struct {
	file    *os.File
	mutex   sync.Mutex
	wake    *sync.Cond
	queue   []byte   // records that are not durable, behind durable
	waiters []waiter // of them, in order
	durable int64    // bytes on disk
	count   int64    // records on disk
	stuck   error    // why the disk took nothing the last time
	all     bool     // readers see what is in memory too: nothing more will come
	closed  bool
	done    chan struct{}
	changed chan struct{}    // has an entry when durable grew
	room    func(none error) // told when the disk takes nothing, and with nil when it takes again
}

type waiter struct {
	size int
	then func(error)
}

// Limits of what waits in memory, of one write, and of one where the disk took nothing the last time; and how long to
// wait between tries.
const (
	memoryLimit = 32 << 20
	writeLimit  = 4 << 20
	probeLimit  = 64 << 10
	firstPause  = 50 * time.Millisecond
	lastPause   = time.Second
)

// ErrNoRoom says that the disk takes nothing and the memory for what waits is full.
var ErrNoRoom = errors.New("the spool's disk takes nothing, and what may wait in memory is full")

// openRecords opens the file for appending, after what is whole in it; damage is how many bytes behind that were cut
// off.
func openRecords(path string) (f *recordFile, damage int64, err error) {
	file, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, 0, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, 0, err
	}
	f = &recordFile{file: file, done: make(chan struct{}), changed: make(chan struct{}, 1), room: func(error) {}}
	f.wake = sync.NewCond(&f.mutex)
	if info.Size() == 0 {
		if _, err := file.WriteAt([]byte(magic), 0); err != nil {
			file.Close()
			return nil, 0, err
		}
		f.durable = int64(len(magic))
	} else {
		r := NewReader(file)
		for err = nil; err == nil; {
			_, err = r.Next(info.Size())
		}
		if !errors.Is(err, io.EOF) && r.at == 0 {
			file.Close()
			return nil, 0, err
		}
		f.durable, f.count = r.at, r.number
		damage = info.Size() - r.at
		if damage > 0 {
			if err := cutOff(file, path+".cut", r.at, damage); err != nil {
				file.Close()
				return nil, 0, err
			}
		}
	}
	if err := file.Sync(); err != nil {
		file.Close()
		return nil, 0, err
	}
	go f.commit()
	return f, damage, nil
}

// cutOff sets aside what is behind the last whole record, as behind a damaged one there may be whole ones. A disk
// without room for that keeps it from being set aside, not the spool from going on: a few bytes there are a write that
// was cut short and never acknowledged.
func cutOff(file *os.File, aside string, at, size int64) error {
	cut, err := os.Create(aside)
	if err == nil {
		_, err = io.Copy(cut, io.NewSectionReader(file, at, size))
		err = errors.Join(err, cut.Sync(), cut.Close())
	}
	if err != nil && (size > writeLimit || !host.NoRoom(err)) {
		return err
	}
	return file.Truncate(at)
}

// append queues a record; then is called, from another goroutine, when it is durable or could not be made so.
func (f *recordFile) append(kind Kind, message int64, body []byte, then func(error)) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.stuck != nil && len(f.queue)+len(body) > memoryLimit && kind != End {
		go then(fmt.Errorf("%w (%w)", ErrNoRoom, f.stuck))
		return
	}
	before := len(f.queue)
	f.queue = appendRecord(f.queue, kind, message, body)
	f.waiters = append(f.waiters, waiter{len(f.queue) - before, then})
	f.wake.Signal()
}

// next is what to write now; nothing where the file is closed and all is written. The mutex is held.
func (f *recordFile) next() (data []byte, waiters []waiter) {
	limit, size, n := writeLimit, 0, 0
	if f.stuck != nil {
		limit = probeLimit
	}
	for n < len(f.waiters) && (n == 0 || size+f.waiters[n].size <= limit) {
		size += f.waiters[n].size
		n++
	}
	return f.queue[:size:size], f.waiters[:n:n]
}

// commit writes what is queued, with one write and one fsync for many records, again and again.
func (f *recordFile) commit() {
	defer close(f.done)
	pause := firstPause
	for {
		f.mutex.Lock()
		for len(f.waiters) == 0 && !f.closed {
			f.wake.Wait()
		}
		data, waiters := f.next()
		at, closed := f.durable, f.closed
		f.mutex.Unlock()
		if len(waiters) == 0 {
			return
		}
		_, err := f.file.WriteAt(data, at)
		if err == nil {
			err = f.file.Sync()
		}
		if err != nil {
			f.file.Truncate(at) // leave no half record behind
		}
		f.mutex.Lock()
		before := f.stuck
		f.stuck = err
		if err == nil || closed {
			f.written(len(data), len(waiters), err)
		}
		f.mutex.Unlock()
		if (before == nil) != (err == nil) {
			f.room(err)
		}
		if err != nil && !closed {
			time.Sleep(pause)
			pause = min(2*pause, lastPause)
			continue
		}
		pause = firstPause
		for _, w := range waiters {
			w.then(err)
		}
		if err == nil {
			f.tell()
		}
	}
}

// written takes what was written, or given up, from the queue. The mutex is held.
func (f *recordFile) written(size, records int, err error) {
	if err == nil {
		f.durable += int64(size)
		f.count += int64(records)
	}
	if size == len(f.queue) && cap(f.queue) <= writeLimit {
		f.queue, f.waiters = f.queue[:0], f.waiters[records:]
		return
	}
	f.queue, f.waiters = append([]byte(nil), f.queue[size:]...), append([]waiter(nil), f.waiters[records:]...)
}

func (f *recordFile) tell() {
	select {
	case f.changed <- struct{}{}:
	default:
	}
}

// size is how many bytes and records may be read.
func (f *recordFile) size() (bytes, records int64) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.all {
		return f.durable + int64(len(f.queue)), f.count + int64(len(f.waiters))
	}
	return f.durable, f.count
}

// appended is how long the file is with what waits in memory.
func (f *recordFile) appended() int64 {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.durable + int64(len(f.queue))
}

// ReadAt reads what is durable and what waits in memory.
func (f *recordFile) ReadAt(p []byte, at int64) (n int, err error) {
	f.mutex.Lock()
	durable := f.durable
	memory := io.NewSectionReader(bytes.NewReader(f.queue), 0, int64(len(f.queue)))
	if at+int64(len(p)) > durable {
		defer f.mutex.Unlock() // the queue's bytes may be used again when they are durable
		if at < durable {
			if n, err = f.file.ReadAt(p[:durable-at], at); err != nil {
				return n, err
			}
		}
		more, err := memory.ReadAt(p[n:], at+int64(n)-durable)
		return n + more, err
	}
	f.mutex.Unlock()
	return f.file.ReadAt(p, at)
}

// openAll lets readers see what waits in memory too. Nothing may be appended any more: what a reader has seen must not
// be numbered again.
func (f *recordFile) openAll() {
	f.mutex.Lock()
	f.all = true
	f.mutex.Unlock()
	f.tell()
}

func (f *recordFile) close() error {
	f.mutex.Lock()
	f.closed = true
	f.wake.Signal()
	f.mutex.Unlock()
	<-f.done
	return f.file.Close()
}
