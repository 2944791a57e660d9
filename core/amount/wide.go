package amount

import (
	"math/big"
	"math/bits"
)

// Wide is an exact sum of many amounts. Byte-milliseconds of a big host over a day are more than 63 bits hold, and sums
// of floating-point numbers depend on their order. The zero value is 0.
type Wide struct{ high, low uint64 }

// Add adds units, which must not be negative.
func (w *Wide) Add(units int64) {
	var carry uint64
	w.low, carry = bits.Add64(w.low, uint64(units), 0)
	w.high += carry
}

// Plus adds another sum.
func (w *Wide) Plus(v Wide) {
	var carry uint64
	w.low, carry = bits.Add64(w.low, v.low, 0)
	w.high, _ = bits.Add64(w.high, v.high, carry)
}

// Raise makes the sum units where it is less.
func (w *Wide) Raise(v Wide) {
	if v.high > w.high || v.high == w.high && v.low > w.low {
		*w = v
	}
}

// Float is the nearest floating-point number.
func (w Wide) Float() float64 {
	if w.high == 0 && w.low < 1<<53 {
		return float64(w.low)
	}
	n := new(big.Int).SetUint64(w.high)
	n.Lsh(n, 64).Or(n, new(big.Int).SetUint64(w.low))
	f, _ := new(big.Float).SetInt(n).Float64()
	return f
}
