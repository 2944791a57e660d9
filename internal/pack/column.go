package pack

import (
	"encoding/binary"
	"errors"
	"math/bits"
	"slices"
)

// errCut says that bytes end too early, or hold what no encoder writes.
var errCut = errors.New("the bytes are cut short or damaged")

// How a column is stored.
const (
	isSame   = 1 << iota // it equals an earlier column of the table, whose name is all that is stored
	isZipped             // its bytes are compressed by zstd
	isPart               // its values are differences to what they are parts of (leaf.AsParts)
	isWhole              // they are differences to what each of them is (leaf.AsWhole)
)

// appendColumn appends a column in blocks of so many values.
func appendColumn(to []byte, values []int64, block int) []byte {
	least, most := slices.Min(values), slices.Max(values)
	divisor := uint64(0)
	for _, v := range values {
		divisor = gcd(divisor, uint64(v)-uint64(least))
		if divisor == 1 {
			break
		}
	}
	to = binary.AppendVarint(to, least)
	if least == most {
		return binary.AppendUvarint(to, 0)
	}
	to = binary.AppendUvarint(to, divisor)
	small := make([]uint64, min(block, len(values)))
	for len(values) > 0 {
		n := min(block, len(values))
		for i, v := range values[:n] {
			small[i] = (uint64(v) - uint64(least)) / divisor
		}
		to = appendBlock(to, small[:n])
		values = values[n:]
	}
	return to
}

func gcd(a, b uint64) uint64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

// asDifferences marks a block of differences, in the byte that tells how many bits a number has.
const asDifferences = 0x80

// appendBlock appends numbers, or their differences, whichever are shorter.
func appendBlock(to []byte, v []uint64) []byte {
	base, width := spread(v)
	if len(v) > 2 {
		steps := make([]uint64, len(v)-1)
		for i := range steps {
			steps[i] = zigzag(int64(v[i+1] - v[i]))
		}
		if b, w := spread(steps); len(steps)*w+16 < len(v)*width {
			to = append(to, byte(w)|asDifferences)
			to = binary.AppendUvarint(to, v[0])
			to = binary.AppendUvarint(to, b)
			return appendBits(to, steps, b, w)
		}
	}
	to = append(to, byte(width))
	to = binary.AppendUvarint(to, base)
	return appendBits(to, v, base, width)
}

func zigzag(n int64) uint64   { return uint64(n<<1) ^ uint64(n>>63) }
func unzigzag(n uint64) int64 { return int64(n>>1) ^ -int64(n&1) }

// spread is the least of some numbers, and how many bits the largest difference to it needs.
func spread(v []uint64) (least uint64, width int) {
	least, most := slices.Min(v), slices.Max(v)
	return least, bits.Len64(most - least)
}

// appendBits appends numbers less a base in so many bits each, the lowest first.
func appendBits(to []byte, v []uint64, base uint64, width int) []byte {
	if width == 0 {
		return to
	}
	held, free := uint64(0), 64
	for _, x := range v {
		x -= base
		held |= x << (64 - free)
		if width < free {
			free -= width
			continue
		}
		to = binary.LittleEndian.AppendUint64(to, held)
		held = 0
		if over := width - free; over > 0 {
			held = x >> free
		}
		free = 64 - (width - free)
	}
	for n := (64 - free + 7) / 8; n > 0; n-- {
		to = append(to, byte(held))
		held >>= 8
	}
	return to
}

// reader takes numbers off bytes. After the first mistake all are 0, and ok is false.
type reader struct {
	b   []byte
	bad bool
}

func (r *reader) uvarint() uint64 {
	n, size := binary.Uvarint(r.b)
	if size <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[size:]
	return n
}

func (r *reader) varint() int64 {
	n, size := binary.Varint(r.b)
	if size <= 0 {
		r.bad = true
		return 0
	}
	r.b = r.b[size:]
	return n
}

// count reads a number of things that take at least one byte in so many, so that damaged bytes cannot ask for memory.
func (r *reader) count(most int) int {
	n := r.uvarint()
	if n > uint64(most) {
		r.bad = true
		return 0
	}
	return int(n)
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.b) {
		r.bad = true
		return nil
	}
	part := r.b[:n]
	r.b = r.b[n:]
	return part
}

func (r *reader) bytes() []byte { return r.take(r.count(len(r.b))) }

func (r *reader) text() string { return string(r.bytes()) }

// column reads what appendColumn wrote, into zeros.
func (r *reader) column(values []int64, block int) {
	least, divisor := r.varint(), r.uvarint()
	if divisor == 0 {
		if least != 0 {
			for i := range values {
				values[i] = least
			}
		}
		return
	}
	for i := 0; i < len(values) && !r.bad; i += block {
		r.block(values[i:min(i+block, len(values))], uint64(least), divisor)
	}
}

func (r *reader) block(into []int64, least, divisor uint64) {
	head := r.take(1)
	if r.bad {
		return
	}
	width, first := int(head[0]&^asDifferences), uint64(0)
	differs := head[0]&asDifferences != 0
	if differs {
		first = r.uvarint()
	}
	base := r.uvarint()
	n := len(into)
	if differs {
		n--
	}
	packed := r.take((n*width + 7) / 8)
	if r.bad || width > 64 {
		r.bad = true
		return
	}
	if !differs {
		eachNumber(packed, n, width, func(i int, number uint64) { into[i] = int64(least + (number+base)*divisor) })
		return
	}
	into[0] = int64(least + first*divisor)
	eachNumber(packed, n, width, func(i int, number uint64) {
		first += uint64(unzigzag(number + base))
		into[i+1] = int64(least + first*divisor)
	})
}

// eachNumber visits numbers of so many bits each.
func eachNumber(b []byte, n, width int, visit func(i int, number uint64)) {
	i := 0
	if width == 0 { // all are the same, as keys are in the intervals of one row
		for ; i < n; i++ {
			visit(i, 0)
		}
		return
	}
	if width <= 56 { // and so lie within the eight bytes from where they begin
		mask := uint64(1)<<width - 1
		for at := 0; i < n && at>>3+8 <= len(b); i, at = i+1, at+width {
			visit(i, binary.LittleEndian.Uint64(b[at>>3:])>>(at&7)&mask)
		}
	}
	for ; i < n; i++ {
		visit(i, bitsAt(b, i*width, width))
	}
}

// bitsAt is the number of so many bits that begins at a bit.
func bitsAt(b []byte, at, width int) uint64 {
	if width == 0 {
		return 0
	}
	i, shift := at/8, at%8
	if i+9 <= len(b) {
		n := binary.LittleEndian.Uint64(b[i:]) >> shift
		if shift+width > 64 {
			n |= uint64(b[i+8]) << (64 - shift)
		}
		return n & (^uint64(0) >> (64 - width))
	}
	n := uint64(0)
	for k := range (shift + width + 7) / 8 {
		part := uint64(b[i+k])
		if k == 0 {
			n = part >> shift
		} else {
			n |= part << (8*k - shift)
		}
	}
	return n & (^uint64(0) >> (64 - width))
}
