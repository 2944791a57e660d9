package cpuset

import (
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"
)

// MaxCPU is the highest CPU number a set can hold; the kernel's own ceiling (NR_CPUS) is 8,192 on large builds.
const MaxCPU = 8191

// Set is a set of logical CPU numbers. The zero value is the empty set.
type Set struct {
	words []uint64 // Invariant: no trailing zero word
}

// Of makes a set of the given CPUs. Numbers outside 0..MaxCPU are left out.
func Of(cpus ...int) Set {
	var s Set
	for _, c := range cpus {
		s = s.With(c)
	}
	return s
}

// With is the set and one more CPU.
func (s Set) With(cpu int) Set {
	if cpu < 0 || cpu > MaxCPU {
		return s
	}
	n := max(len(s.words), cpu/64+1)
	words := make([]uint64, n)
	copy(words, s.words)
	words[cpu/64] |= 1 << (cpu % 64)
	return Set{words}
}

// Has tells whether a CPU is in the set.
func (s Set) Has(cpu int) bool {
	return cpu >= 0 && cpu/64 < len(s.words) && s.words[cpu/64]&(1<<(cpu%64)) != 0
}

// Union is every CPU in either set.
func (s Set) Union(t Set) Set {
	if len(s.words) < len(t.words) {
		s, t = t, s
	}
	if len(t.words) == 0 {
		return s
	}
	words := make([]uint64, len(s.words))
	copy(words, s.words)
	for i, w := range t.words {
		words[i] |= w
	}
	return Set{words}
}

// Overlaps tells whether any CPU is in both sets.
func (s Set) Overlaps(t Set) bool {
	for i := range min(len(s.words), len(t.words)) {
		if s.words[i]&t.words[i] != 0 {
			return true
		}
	}
	return false
}

// Len is how many CPUs are in the set.
func (s Set) Len() int {
	n := 0
	for _, w := range s.words {
		n += bits.OnesCount64(w)
	}
	return n
}

// CPUs lists the set in ascending order.
func (s Set) CPUs() []int {
	cpus := make([]int, 0, s.Len())
	for i, w := range s.words {
		for ; w != 0; w &= w - 1 {
			cpus = append(cpus, i*64+bits.TrailingZeros64(w))
		}
	}
	return cpus
}

// String is the kernel's list format, the shortest form: "0-3,8".
func (s Set) String() string {
	var b strings.Builder
	cpus := s.CPUs()
	for i := 0; i < len(cpus); {
		j := i
		for j+1 < len(cpus) && cpus[j+1] == cpus[j]+1 {
			j++
		}
		if b.Len() > 0 {
			b.WriteByte(',')
		}
		b.WriteString(strconv.Itoa(cpus[i]))
		if j > i {
			b.WriteByte('-')
			b.WriteString(strconv.Itoa(cpus[j]))
		}
		i = j + 1
	}
	return b.String()
}

// Parse reads the kernel's list format ("0-3,8,10-11"; the kernel's admin guide, "CPU lists in command-line
// parameters"). An empty list is the empty set. The error names the part that is wrong.
func Parse(list string) (Set, error) {
	var s Set
	list = strings.TrimSpace(list)
	if list == "" {
		return s, nil
	}
	for part := range strings.SplitSeq(list, ",") {
		first, last, isRange := strings.Cut(strings.TrimSpace(part), "-")
		from, err := parseCPU(first)
		if err != nil {
			return Set{}, fmt.Errorf("CPU list %q: %w", list, err)
		}
		to := from
		if isRange {
			if to, err = parseCPU(last); err != nil {
				return Set{}, fmt.Errorf("CPU list %q: %w", list, err)
			}
		}
		if to < from {
			return Set{}, fmt.Errorf("CPU list %q: the range %q runs backwards", list, part)
		}
		if need := to/64 + 1; need > len(s.words) {
			s.words = append(s.words, make([]uint64, need-len(s.words))...)
		}
		for c := from; c <= to; c++ {
			s.words[c/64] |= 1 << (c % 64)
		}
	}
	return s, nil
}

func parseCPU(s string) (int, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is not a CPU number: write numbers and ranges such as 0-3,8", s)
	}
	if n > MaxCPU {
		return 0, fmt.Errorf("CPU %d is above the highest possible number %d", n, MaxCPU)
	}
	return int(n), nil
}

// Intersect is every CPU in both sets.
func (s Set) Intersect(t Set) Set { return s.combine(t, func(a, b uint64) uint64 { return a & b }) }

// Minus is every CPU of the set that is not in the other.
func (s Set) Minus(t Set) Set { return s.combine(t, func(a, b uint64) uint64 { return a &^ b }) }

// combine joins the words of a set with those of another, which has zeros where it is shorter.
func (s Set) combine(t Set, join func(a, b uint64) uint64) Set {
	words := make([]uint64, len(s.words))
	last := 0
	for i, w := range s.words {
		other := uint64(0)
		if i < len(t.words) {
			other = t.words[i]
		}
		if words[i] = join(w, other); words[i] != 0 {
			last = i + 1
		}
	}
	return Set{words[:last]}
}

// IsEmpty tells whether no CPU is in the set.
func (s Set) IsEmpty() bool { return len(s.words) == 0 }

// Equal tells whether two sets hold the same CPUs.
func (s Set) Equal(t Set) bool { return slices.Equal(s.words, t.words) }

// Within tells whether every CPU of the set is in the other.
func (s Set) Within(t Set) bool { return s.Minus(t).IsEmpty() }
