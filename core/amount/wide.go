package amount

import (
	"cmp"
	"math/big"
	"math/bits"
)

// Wide is an exact sum of many amounts, in 128 bits. Byte-milliseconds of a big host over a day are more than 63 bits
// hold, and sums of floating-point numbers depend on their order. The zero value is 0.
type Wide struct{ high, low uint64 } // two's complement

// WideOf is the sum with these halves, as Halves gives them.
func WideOf(high, low int64) Wide { return Wide{uint64(high), uint64(low)} }

// Halves are the upper and the lower 64 bits. Of an amount that 64 bits hold, the lower half is the amount, and the
// upper is its sign: 0 or -1.
func (w Wide) Halves() (high, low int64) { return int64(w.high), int64(w.low) }

// Add adds units.
func (w *Wide) Add(units int64) {
	w.Plus(Wide{uint64(units >> 63), uint64(units)})
}

// Plus adds another sum.
func (w *Wide) Plus(v Wide) {
	var carry uint64
	w.low, carry = bits.Add64(w.low, v.low, 0)
	w.high, _ = bits.Add64(w.high, v.high, carry)
}

// Compare tells which of two sums is larger: negative where v is.
func (w Wide) Compare(v Wide) int {
	return cmp.Or(cmp.Compare(int64(w.high), int64(v.high)), cmp.Compare(w.low, v.low))
}

// Raise makes the sum v where it is less.
func (w *Wide) Raise(v Wide) {
	if w.Compare(v) < 0 {
		*w = v
	}
}

// Float is the nearest floating-point number.
func (w Wide) Float() float64 {
	if low := int64(w.low); w.high == uint64(low>>63) && -1<<53 < low && low < 1<<53 {
		return float64(low)
	}
	f, _ := new(big.Float).SetInt(w.Big()).Float64()
	return f
}

// Big is the number for arithmetic without bounds.
func (w Wide) Big() *big.Int {
	n := new(big.Int).Lsh(big.NewInt(int64(w.high)), 64)
	return n.Add(n, new(big.Int).SetUint64(w.low))
}

// String is the number in decimal digits.
func (w Wide) String() string { return w.Big().String() }
