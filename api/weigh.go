package api

// Weigher estimates, while a body is still arriving, how much memory reading it will take: a small body can make a
// large thing, as three bytes of "{}," make an object. Weights are in bytes, from what Go's maps, strings and lists
// were measured to take; numbers in lists are counted once for the list as it grows and once for what is made of it.
type Weigher interface {
	// Add takes the next piece and returns how much it adds.
	Add(piece []byte) int64
}

// Weights of values.
const (
	weighObject = 320
	weighList   = 48
	weighText   = 48 // beside its bytes
	weighNumber = 24
)

// WeighJSON weighs JSON. It counts by the marks between values alone and does not judge whether they are well placed.
func WeighJSON() Weigher { return &jsonWeigher{} }

type jsonWeigher struct{ inText, escaped bool }

func (j *jsonWeigher) Add(piece []byte) int64 {
	weight := int64(0)
	for _, b := range piece {
		switch {
		case j.escaped:
			j.escaped = false
		case j.inText:
			switch b {
			case '"':
				j.inText = false
			case '\\':
				j.escaped = true
			}
			weight++
		case b == '"':
			j.inText = true
			weight += weighText
		case b == '{':
			weight += weighObject
		case b == '[':
			weight += weighList
		case b == ',' || b == ':':
			weight += weighNumber
		}
	}
	return weight
}

// WeighCBOR weighs CBOR, by the heads of its items.
func WeighCBOR() Weigher { return &cborWeigher{} }

type cborWeigher struct {
	skip   uint64 // bytes of a string still to come
	each   int64  // weight of a byte of it
	major  byte
	wanted int    // bytes of the head still to come
	number uint64 // of the head, as far as it came
	tag    uint64 // of the item that comes
}

func (c *cborWeigher) Add(piece []byte) int64 {
	weight := int64(0)
	for len(piece) > 0 {
		if c.skip > 0 {
			n := min(c.skip, uint64(len(piece)))
			weight += int64(n) * c.each
			c.skip, piece = c.skip-n, piece[n:]
			continue
		}
		b := piece[0]
		piece = piece[1:]
		if c.wanted > 0 {
			c.number = c.number<<8 | uint64(b)
			c.wanted--
		} else {
			c.major, c.number = b>>5, uint64(b&31)
			if more := b & 31; more >= 24 && more <= 27 {
				c.number, c.wanted = 0, 1<<(more-24)
			}
		}
		if c.wanted == 0 {
			weight += c.item()
		}
	}
	return weight
}

// item weighs the item whose head is there.
func (c *cborWeigher) item() int64 {
	tag := c.tag
	c.tag = 0
	switch c.major {
	case 2, 3:
		if c.number == 31 { // of unknown length: its pieces follow, each with a head
			return weighText
		}
		c.skip, c.each = c.number, 1
		if size := elementSize(tag); size > 0 {
			c.each = max(1, weighNumber/int64(size))
		}
		return weighText
	case 4:
		return weighList
	case 5:
		return weighObject
	case 6:
		c.tag = c.number
		return 0
	}
	return weighNumber
}

// elementSize is how many bytes an element of a typed array has, by its tag; 0: it is none.
func elementSize(tag uint64) int {
	if tag < 64 || tag > 87 {
		return 0
	}
	size := 1 << (tag & 3)
	if tag&16 != 0 {
		size *= 2
	}
	return size
}
