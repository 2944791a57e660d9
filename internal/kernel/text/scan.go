package text

import "errors"

// Small scanners over file contents. None allocates, none panics on any input; each is fuzzed.

// Line cuts the first line off b.
func Line(b []byte) (first, rest []byte) {
	for i, c := range b {
		if c == '\n' {
			return b[:i], b[i+1:]
		}
	}
	return b, nil
}

// Field cuts the first blank-separated field off b; nil when there is none.
func Field(b []byte) (first, rest []byte) {
	i := 0
	for i < len(b) && (b[i] == ' ' || b[i] == '\t') {
		i++
	}
	j := i
	for j < len(b) && b[j] != ' ' && b[j] != '\t' {
		j++
	}
	return b[i:j], b[j:]
}

// Number reads a decimal number that fits 63 bits.
func Number(b []byte) (int64, bool) {
	if len(b) == 0 || len(b) > 19 {
		return 0, false
	}
	var n int64
	for _, c := range b {
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int64(c-'0')
		if n < 0 {
			return 0, false
		}
	}
	return n, true
}

// NextNumber cuts a number off b.
func NextNumber(b []byte) (n int64, rest []byte, ok bool) {
	f, rest := Field(b)
	n, ok = Number(f)
	return n, rest, ok
}

// Keyed finds "key value" or "key: value" at the start of a line and returns the value's first number.
func Keyed(b []byte, key string) (int64, bool) {
	for len(b) > 0 {
		var l []byte
		l, b = Line(b)
		if len(l) > len(key) && string(l[:len(key)]) == key && (l[len(key)] == ' ' || l[len(key)] == ':') {
			n, _, ok := NextNumber(l[len(key)+1:])
			return n, ok
		}
	}
	return 0, false
}

// TrimNewline cuts newlines and blanks off the end.
func TrimNewline(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == ' ') {
		b = b[:len(b)-1]
	}
	return b
}

// EachKeyed visits the lines "key value" of a file, such as cpu.stat. False for a value that is no number.
func EachKeyed(b []byte, visit func(key []byte, value int64)) bool {
	ok := true
	for len(b) > 0 {
		var l, key []byte
		l, b = Line(b)
		key, l = Field(l)
		if len(key) == 0 {
			continue
		}
		n, _, good := NextNumber(l)
		if !good {
			ok = false
			continue
		}
		visit(key, n)
	}
	return ok
}

// ErrGarbage says that a kernel file did not hold what its documentation promises.
var ErrGarbage = errors.New("not in the documented form")
