package spool

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sync"
)

// The file of records, version 1: the 8 bytes "kbspool1", then records: 4 bytes little endian length of what follows the
// checksum, 4 bytes CRC-32C of it, 1 byte kind, the program's message id (uvarint, 0: none), the body. A record is believed only if its checksum fits; what comes
// after one that does not was never acknowledged or is damaged, and is cut off when the file is opened for writing.
const magic = "kbspool1"

// Kind is what a record's body holds.
type Kind byte

// The kinds of record.
const (
	Readings   Kind = 1 // names and a journal payload
	Hyper      Kind = 2 // JSON: name to value
	Note       Kind = 3 // JSON: api.NewNote
	Checkpoint Kind = 4 // JSON: Manifest
	End        Kind = 5 // JSON: Ending; nothing comes after it
	Said       Kind = 6 // JSON: Ending, of which the program said State and Why
	Program    Kind = 7 // JSON: api.ProgramSays
)

// Batched reports whether records of this kind go to the service in batches, which it counts.
func (k Kind) Batched() bool { return k == Readings || k == Hyper || k == Note || k == Program }

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

// Next returns the next record; io.EOF at a clean end, ErrDamaged where a record is cut short or damaged. It may be called
// again after io.EOF when more has been written. limit is how many bytes of the file may be read, so memory is bounded by it.
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
		return Record{}, fmt.Errorf("%w: the checksum of record %d at byte %d does not fit", ErrDamaged, r.number+1, r.at)
	}
	message, n := binary.Uvarint(content[1:])
	if n <= 0 {
		return Record{}, fmt.Errorf("%w: record %d at byte %d has no message id", ErrDamaged, r.number+1, r.at)
	}
	r.at += 8 + size
	r.number++
	return Record{Number: r.number, Kind: Kind(content[0]), Message: int64(message), Body: content[1+n:]}, nil
}

// recordFile appends records and makes them durable in groups.
type recordFile struct {
	file    *os.File
	mutex   sync.Mutex
	wake    *sync.Cond
	queue   []byte
	queued  int64 // records appended or queued
	waiters []waiter
	durable int64 // bytes on disk
	count   int64 // records on disk
	closed  bool
	done    chan struct{}
	changed chan struct{} // has an entry when durable grew
}

type waiter func(error)

// openRecords opens the file for appending, after what is whole in it; damage is how many bytes behind that were cut off.
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
	f = &recordFile{file: file, done: make(chan struct{}), changed: make(chan struct{}, 1)}
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
		f.durable, f.count, f.queued = r.at, r.number, r.number
		damage = info.Size() - r.at
		if damage > 0 {
			// What is cut off is set aside: behind a damaged record there may be whole ones.
			cut, err := os.Create(path + ".cut")
			if err == nil {
				_, err = io.Copy(cut, io.NewSectionReader(file, r.at, damage))
				err = errors.Join(err, cut.Sync(), cut.Close())
			}
			if err == nil {
				err = file.Truncate(r.at)
			}
			if err != nil {
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

// append queues a record; then is called, from another goroutine, when it is durable or could not be made so.
func (f *recordFile) append(kind Kind, message int64, body []byte, then func(error)) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.queue = appendRecord(f.queue, kind, message, body)
	f.queued++
	f.waiters = append(f.waiters, then)
	f.wake.Signal()
}

// commit writes what is queued, all of it with one write and one fsync, again and again.
func (f *recordFile) commit() {
	defer close(f.done)
	var spare []byte
	for {
		f.mutex.Lock()
		for len(f.waiters) == 0 && !f.closed {
			f.wake.Wait()
		}
		if len(f.waiters) == 0 {
			f.mutex.Unlock()
			return
		}
		data, waiters := f.queue, f.waiters
		f.queue, f.waiters = spare[:0], nil
		at := f.durable
		f.mutex.Unlock()

		_, err := f.file.WriteAt(data, at)
		if err == nil {
			err = f.file.Sync()
		}
		f.mutex.Lock()
		if err == nil {
			f.durable += int64(len(data))
			f.count += int64(len(waiters))
		} else {
			f.queued -= int64(len(waiters))
			f.file.Truncate(at) // leave no half record behind
		}
		f.mutex.Unlock()
		for _, then := range waiters {
			then(err)
		}
		if err == nil {
			select {
			case f.changed <- struct{}{}:
			default:
			}
		}
		if spare = data; cap(spare) > 4<<20 {
			spare = nil
		}
	}
}

func (f *recordFile) size() (bytes, records int64) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.durable, f.count
}

func (f *recordFile) close() error {
	f.mutex.Lock()
	f.closed = true
	f.wake.Signal()
	f.mutex.Unlock()
	<-f.done
	return f.file.Close()
}
