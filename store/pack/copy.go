package pack

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"kembrel/core/chunk"
	"kembrel/store/blob"
)

// Copied says what a blob came to that was copied.
type Copied struct {
	Name    string
	Size    int64
	Digest  chunk.Digest // of the whole blob
	There   bool         // it was there already, with this size, and was not looked at
	Chunks  int          // that were checked
	Damaged []chunk.Digest
	Unknown int64 // bytes at the end in which no chunk was found, as a crash leaves them; copied all the same
}

// Copy copies the first size bytes of a blob, all or none. On the way each chunk in them is checked against its digest,
// and then what has arrived is read again and compared. Where as much is there already it is left as it is, so that
// copying goes on where it was cut off; bytes that may have been written since, as the blob is not final, are compared
// first.
func Copy(ctx context.Context, from, to blob.Store, name string, size int64, final bool) (Copied, error) {
	out := Copied{Name: name, Size: size}
	have, err := to.Size(ctx, name)
	if err == nil && have >= size {
		if out.There = final; !final {
			if out.There, err = equal(ctx, from, to, name, size); err != nil {
				return out, err
			}
		}
		if out.There {
			return out, nil
		}
	}
	if err != nil && !errors.Is(err, blob.ErrNone) {
		return out, err
	}
	source, err := from.Get(ctx, name, 0, size)
	if err != nil {
		return out, err
	}
	defer source.Close()
	sum := chunk.NewHash()
	walked, walk := io.Pipe()
	done := make(chan struct{})
	go func() {
		out.check(bufio.NewReaderSize(walked, 1<<20))
		io.Copy(io.Discard, walked)
		close(done)
	}()
	counted := &counter{}
	err = to.Put(ctx, name, io.TeeReader(source, io.MultiWriter(sum, counted, walk)))
	walk.Close()
	<-done
	if err != nil {
		return out, err
	}
	if counted.n != size {
		return out, fmt.Errorf("blob %s has %d bytes, not %d", name, counted.n, size)
	}
	out.Digest = sum.Digest()
	got, err := Digest(ctx, to, name, size)
	if err == nil && got != out.Digest {
		err = fmt.Errorf("blob %s is other bytes after it was copied", name)
	}
	if err != nil {
		return out, errors.Join(err, to.Delete(ctx, name)) // so that it is copied again
	}
	return out, nil
}

func equal(ctx context.Context, a, b blob.Store, name string, size int64) (bool, error) {
	x, err := Digest(ctx, a, name, size)
	if err != nil {
		return false, err
	}
	y, err := Digest(ctx, b, name, size)
	return x == y, err
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}

// Digest reads the first bytes of a blob and returns their digest.
func Digest(ctx context.Context, s blob.Store, name string, size int64) (d chunk.Digest, err error) {
	r, err := s.Get(ctx, name, 0, size)
	if err != nil {
		return d, err
	}
	defer r.Close()
	sum := chunk.NewHash()
	_, err = io.Copy(sum, r)
	return sum.Digest(), err
}

// check looks at the chunks of a blob.
func (c *Copied) check(r *bufio.Reader) {
	if digits, ok := strings.CutPrefix(c.Name, "chunk/"); ok { // of the earlier form
		d, err := chunk.ParseDigest("b3:" + strings.ReplaceAll(digits, "/", ""))
		data, readErr := io.ReadAll(io.LimitReader(r, chunk.MaxSize+1))
		if err != nil || readErr != nil {
			return
		}
		if c.Chunks++; chunk.Sum(data) != d {
			c.Damaged = append(c.Damaged, d)
		}
		return
	}
	if !strings.HasPrefix(c.Name, Name("")) {
		return
	}
	at := int64(0)
	head, stored := make([]byte, headLen), make([]byte, 0, chunk.MaxSize+1)
	for {
		if _, err := io.ReadFull(r, head); err != nil {
			if err != io.EOF {
				c.Unknown = c.Size - at
			}
			return
		}
		d := chunk.Digest(head[len(magic) : len(magic)+32])
		size, long := binary.BigEndian.Uint32(head[headLen-8:]), binary.BigEndian.Uint32(head[headLen-4:])
		if !bytes.HasPrefix(head, []byte(magic)) || size > chunk.MaxSize || long > chunk.MaxSize+1 {
			c.Unknown = c.Size - at
			return
		}
		stored = stored[:long]
		if _, err := io.ReadFull(r, stored); err != nil {
			c.Unknown = c.Size - at
			return
		}
		at += int64(headLen) + int64(long)
		c.Chunks++
		if data, err := chunk.Decompress(stored, int(size)); err != nil || chunk.Sum(data) != d {
			c.Damaged = append(c.Damaged, d)
		}
	}
}

// finalAge is how old a pack must be for its bytes to be taken as final: far more than it is written for.
const finalAge = 24 * time.Hour

// CopyAll copies all packs of a store, and the chunks of the earlier form. It may be run while the service writes, and
// again: what it copied before is not copied again. Only a run that began after the service ended has all.
func CopyAll(ctx context.Context, from, to blob.Store, began func(blobs int, bytes int64), told func(Copied)) error {
	var list []found
	bytes := int64(0)
	if err := from.List(ctx, "", func(name string, size int64) error {
		if strings.HasPrefix(name, Name("")) || strings.HasPrefix(name, "chunk/") {
			list = append(list, found{name, size})
			bytes += size
		}
		return nil
	}); err != nil {
		return err
	}
	began(len(list), bytes)
	for _, f := range list {
		final := !strings.HasPrefix(f.name, Name("")) || found{strings.TrimPrefix(f.name, Name("")), 0}.isOld(finalAge)
		c, err := Copy(ctx, from, to, f.name, f.size, final)
		if errors.Is(err, blob.ErrNone) {
			continue // it was cleaned away meanwhile
		}
		if err != nil {
			return err
		}
		told(c)
	}
	return nil
}
