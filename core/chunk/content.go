package chunk

import (
	"encoding/binary"
	"errors"
	"io"
)

// Sizes between which content-defined cutting cuts, in bytes: none shorter but the last, none longer than MaxSize, and
// usual ones in between.
const (
	leastCut = 1 << 20
	usualCut = 2 << 20
)

// Where the rolling hash has zeros in all bits of a mask, a piece ends: in 22 bits before the usual size, in 20 behind
// it, so that sizes gather around the usual one (normalised chunking: Xia et al., FastCDC, USENIX ATC 2016). The bits
// are the highest, which 64 bytes have shaped.
const (
	earlyMask = uint64(1<<22-1) << 42
	lateMask  = uint64(1<<20-1) << 44
)

// gear holds a random number for each byte value: the first 8 bytes of the digest of that byte, little endian, so that
// everybody has the same.
var gear = func() (table [256]uint64) {
	for i := range table {
		d := Sum([]byte{byte(i)})
		table[i] = binary.LittleEndian.Uint64(d[:])
	}
	return table
}()

// ContentBounds reads r to its end and returns where to cut it by its content: what is inserted or taken away somewhere
// changes the pieces there and leaves the others as they are, wherever they have moved to. O(bytes).
func ContentBounds(r io.Reader) (bounds []int64, err error) {
	buffer := make([]byte, 1<<20)
	at, size, hash := int64(0), 0, uint64(0) // of the file, of the piece
	for {
		n, err := r.Read(buffer)
		for i := 0; i < n; i++ {
			size++
			if size <= leastCut-64 { // the hash is shaped by 64 bytes
				skip := min(leastCut-64-size, n-1-i)
				size, i = size+skip, i+skip
				continue
			}
			hash = hash<<1 + gear[buffer[i]]
			mask := lateMask
			if size < usualCut {
				mask = earlyMask
			}
			if size >= MaxSize || size >= leastCut && hash&mask == 0 {
				bounds = append(bounds, at+int64(i)+1)
				size, hash = 0, 0
			}
		}
		at += int64(n)
		if errors.Is(err, io.EOF) {
			return bounds, nil
		}
		if err != nil {
			return nil, err
		}
	}
}
