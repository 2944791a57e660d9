package account

import "slices"

// buckets gathers values and then hands them out by workload, in linear time: workload ids are small and dense, so
// counting them is a quarter of the cost of sorting. Its memory is kept from one use to the next.
type buckets[T any] struct {
	values, grouped []T
	ends            []int32 // by WorkloadID: where its values end in grouped
}

func (b *buckets[T]) reset() { b.values = b.values[:0] }

func (b *buckets[T]) add(v T) { b.values = append(b.values, v) }

// group orders the values by workload, for ids below n.
func (b *buckets[T]) group(n int, workload func(*T) WorkloadID) {
	b.ends = slices.Grow(b.ends[:0], n+1)[:n+1]
	clear(b.ends)
	for i := range b.values {
		b.ends[workload(&b.values[i])+1]++ // one further on, so that adding up gives where each begins
	}
	for w := range n {
		b.ends[w+1] += b.ends[w]
	}
	b.grouped = slices.Grow(b.grouped[:0], len(b.values))[:len(b.values)]
	for i := range b.values {
		w := workload(&b.values[i])
		b.grouped[b.ends[w]] = b.values[i]
		b.ends[w]++ // begins become ends
	}
}

// of returns a workload's values.
func (b *buckets[T]) of(w int) []T {
	begin := int32(0)
	if w > 0 {
		begin = b.ends[w-1]
	}
	return b.grouped[begin:b.ends[w]]
}
