package pack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/maphash"
	"slices"
	"sync"

	"github.com/klauspost/compress/zstd"

	"vinescale/core/leaf"
)

const version = 1

// zipAtLeast is from how many bytes on compressing is tried: what zstd adds takes a dozen.
const zipAtLeast = 48

var (
	zipper   = must(zstd.NewWriter(nil, zstd.WithEncoderConcurrency(2), zstd.WithLowerEncoderMem(true)))
	unzipper = must(zstd.NewReader(nil, zstd.WithDecoderConcurrency(2), zstd.WithDecoderMaxMemory(256<<20)))
)

func must[T any](v T, err error) T {
	if err != nil {
		panic(err) // the options are sound
	}
	return v
}

// zip compresses bytes where that makes them shorter.
func zip(b []byte) (packed []byte, zipped bool) {
	if len(b) < zipAtLeast {
		return b, false
	}
	if z := zipper.EncodeAll(b, nil); len(z) < len(b) {
		return z, true
	}
	return b, false
}

// Encode packs the tables of one section. The leaf is not changed.
func Encode(l *leaf.Leaf, section string) []byte {
	var head, data []byte
	words := newWords()
	tables := 0
	var list []byte
	for _, name := range leaf.Tables() {
		t := l.Tables[name]
		if t.Rows() == 0 || t.Schema.Section != section {
			continue
		}
		tables++
		list = appendText(list, name)
		list = binary.AppendUvarint(list, uint64(t.Rows()))
		list, data = appendTable(list, data, l, t, words)
	}
	head = binary.AppendUvarint(head, uint64(max(l.Intervals(), 1)))
	head = binary.AppendUvarint(head, uint64(len(words.list)))
	for _, w := range words.list {
		head = appendText(head, w)
	}
	head = binary.AppendUvarint(head, uint64(tables))
	head = append(head, list...)
	zipped := false
	if !isSingle(l) {
		head, zipped = zip(head)
	}
	flags := uint64(0)
	if l.Summed {
		flags |= 1
	}
	if zipped {
		flags |= 2
	}
	out := binary.AppendUvarint([]byte{version}, flags)
	out = binary.AppendUvarint(out, uint64(len(head)))
	return append(append(out, head...), data...)
}

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// words are those of a section, in the order in which they come up.
type words struct {
	list []string
	at   map[int64]int64 // by their numbers in the leaf
}

func newWords() *words { return &words{at: map[int64]int64{}} }

func (w *words) number(l *leaf.Leaf, word int64) int64 {
	n, there := w.at[word]
	if !there {
		n = int64(len(w.list))
		w.at[word] = n
		w.list = append(w.list, l.Words[word])
	}
	return n
}

var seed = maphash.MakeSeed()

// appendTable appends the columns of a table to the index and their bytes to the data.
func appendTable(list, data []byte, l *leaf.Leaf, t *leaf.Table, words *words) ([]byte, []byte) {
	seen := map[uint64]int{} // places of columns, by their content
	count := 0
	var columns []byte
	for i, c := range t.Schema.Columns {
		if !l.Summed && c.Fill != leaf.Stored || len(t.Low[i]) != t.Rows() {
			continue
		}
		values := t.Low[i]
		if c.Word {
			values = slices.Clone(values)
			for row, v := range values {
				values[row] = words.number(l, v)
			}
		}
		packed, kind := []byte(nil), uint64(0)
		mark := markOf(values)
		plain := t.High[i] == nil && !c.Word
		if k, there := seen[mark]; there && plain && slices.Equal(values, t.Low[k]) {
			packed, kind = appendText(nil, t.Schema.Columns[k].Name), isSame
		} else {
			packed, kind = packColumn(values, l)
			packed, kind = shortest(l, t, i, packed, kind)
			if plain && kind&(isPart|isWhole) == 0 {
				seen[mark] = i
			}
		}
		count++
		columns = appendText(columns, c.Name)
		columns = binary.AppendUvarint(columns, kind)
		columns = binary.AppendUvarint(columns, uint64(len(packed)))
		data = append(data, packed...)
		var high []byte
		highKind := uint64(0)
		if t.High[i] != nil {
			high, highKind = packColumn(t.High[i], l)
		}
		columns = binary.AppendUvarint(columns, highKind)
		columns = binary.AppendUvarint(columns, uint64(len(high)))
		data = append(data, high...)
	}
	list = binary.AppendUvarint(list, uint64(count))
	return append(list, columns...), data
}

func markOf(values []int64) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	var b [8]byte
	for _, v := range values {
		binary.LittleEndian.PutUint64(b[:], uint64(v))
		h.Write(b[:])
	}
	return h.Sum64()
}

// isSingle tells that a leaf is one interval: nothing repeats in it, and it is packed again with others soon.
func isSingle(l *leaf.Leaf) bool { return l.Intervals() == 1 && !l.Summed }

// packColumn packs the values of a column in blocks of the leaf's intervals.
func packColumn(values []int64, l *leaf.Leaf) (packed []byte, kind uint64) {
	packed = appendColumn(nil, values, blockOf(l.Intervals()))
	if isSingle(l) {
		return packed, 0
	}
	packed, zipped := zip(packed)
	if zipped {
		kind = isZipped
	}
	return packed, kind
}

// shortest is a column as it is, or as differences to what it follows from, whichever is the shortest.
func shortest(l *leaf.Leaf, t *leaf.Table, column int, packed []byte, kind uint64) ([]byte, uint64) {
	if l.Intervals() == 1 && !l.Summed {
		return packed, kind
	}
	for way, mark := range map[leaf.Way]uint64{leaf.AsParts: isPart, leaf.AsWhole: isWhole} {
		values := l.Relate(t.Schema.Name, column, way)
		if values == nil {
			continue
		}
		if p, k := packColumn(values, l); len(p) < len(packed) {
			packed, kind = p, k|mark
		}
	}
	return packed, kind
}

// blockOf is how many values a block has: a series of the leaf's intervals, or of a leaf of few, of many rows.
func blockOf(intervals int) int {
	if intervals < 16 {
		return 64
	}
	return intervals
}

// Decode unpacks what Encode made into a leaf. Want tells which columns are wanted of a table beside its keys; nil
// wants all. The error says that the bytes are damaged, or of a newer version.
func Decode(b []byte, into *leaf.Leaf, want leaf.Want) error {
	if len(b) == 0 || b[0] != version {
		return fmt.Errorf("a section of a version that this program does not know: use a newer one")
	}
	w := workrooms.Get().(*workroom)
	defer workrooms.Put(w)
	r := &reader{b: b[1:]}
	flags := r.uvarint()
	head := r.take(r.count(len(r.b)))
	if flags&2 != 0 && !r.bad {
		var err error
		if head, err = unzipper.DecodeAll(head, w.head[:0]); err != nil {
			return fmt.Errorf("unpack the index: %w", err)
		}
		w.head = head
	}
	into.Summed = flags&1 != 0
	into.Wants(want)
	x := &reader{b: head, bad: r.bad}
	d := decoding{into: into, data: r.b, want: want, workroom: w}
	d.intervals = x.count(1 << 24)
	d.words = make([]int64, x.count(len(x.b)))
	for i := range d.words {
		d.words[i] = into.WordOf(x.bytes())
	}
	for range x.count(len(x.b)) {
		if err := d.table(x); err != nil {
			return err
		}
	}
	if x.bad || d.bad {
		return errCut
	}
	return nil
}

type decoding struct {
	into      *leaf.Leaf
	data      []byte
	want      leaf.Want
	intervals int
	words     []int64
	bad       bool
	*workroom
}

// workroom is what decoding needs for a while, and the next decoding again.
type workroom struct {
	head, unzipped []byte  // of one column
	same           []named // columns of one table, which others may equal
}

var workrooms = sync.Pool{New: func() any { return &workroom{} }}

// table reads a table's part of the index and the columns that are wanted.
func (d *decoding) table(x *reader) error {
	name, rows := x.text(), x.count(1<<28)
	schema := leaf.SchemaOf(name)
	if d.want != nil && d.want[name] == nil {
		schema = nil
	}
	var t *leaf.Table
	if schema != nil {
		t = d.into.Table(name)
	}
	d.same = d.same[:0]
	for range x.count(len(x.b)) {
		key := x.bytes()
		kind, size := x.uvarint(), x.count(len(d.data))
		highKind, highSize := x.uvarint(), x.count(len(d.data))
		data := &reader{b: d.data, bad: x.bad}
		low, high := data.take(size), data.take(highSize)
		d.data = data.b
		if data.bad {
			return errCut
		}
		this := stored{low, kind}
		if kind&isSame != 0 {
			to := &reader{b: low}
			other := to.bytes()
			i := slices.IndexFunc(d.same, func(n named) bool { return bytes.Equal(n.name, other) })
			if to.bad || i < 0 {
				return errCut
			}
			this = d.same[i].stored
		}
		d.same = append(d.same, named{key, this})
		place := -1
		if schema != nil {
			place = schema.Place(key)
		}
		if place < 0 || !d.want.Has(name, place) {
			continue
		}
		column := schema.Columns[place].Name
		values, err := d.column(this, rows)
		if err != nil {
			return fmt.Errorf("%s, column %s: %w", name, column, err)
		}
		if schema.Columns[place].Word {
			for i, v := range values {
				if v < 0 || v >= int64(len(d.words)) {
					return fmt.Errorf("%s, column %s: %w", name, column, errCut)
				}
				values[i] = d.words[v]
			}
		}
		t.Low[place] = values
		switch {
		case this.kind&isPart != 0:
			d.into.MarkRelated(name, column, leaf.AsParts)
		case this.kind&isWhole != 0:
			d.into.MarkRelated(name, column, leaf.AsWhole)
		}
		if highSize > 0 {
			if t.High[place], err = d.column(stored{high, highKind}, rows); err != nil {
				return fmt.Errorf("%s, column %s: %w", name, column, err)
			}
		}
	}
	return nil
}

// stored is a column's bytes and how they are to be read.
type stored struct {
	packed []byte
	kind   uint64
}

// named is a column with its name.
type named struct {
	name []byte
	stored
}

func (d *decoding) column(c stored, rows int) ([]int64, error) {
	r := &reader{b: c.packed}
	if c.kind&isZipped != 0 {
		raw, err := unzipper.DecodeAll(c.packed, d.unzipped[:0])
		if err != nil {
			return nil, err
		}
		r.b, d.unzipped = raw, raw
	}
	// Every block of so many rows takes two bytes and more, but for a column of one value.
	if block := blockOf(d.intervals); rows/block > len(r.b) && rows > 1<<20 {
		return nil, errCut
	}
	values := d.into.Numbers(rows)
	r.column(values, blockOf(d.intervals))
	if r.bad {
		return nil, errCut
	}
	return values, nil
}
