package bpf

import (
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
	"golang.org/x/sys/unix"
)

func TestCallName_IsTheKernelsOrTheNumber(t *testing.T) {
	for number, want := range map[int]string{unix.SYS_READ: "read", unix.SYS_OPENAT: "openat",
		unix.SYS_PIDFD_SEND_SIGNAL: "pidfd_send_signal", unix.SYS_OPENAT2: "openat2", -1: "call -1",
		400: "call 400", 100_000: "call 100000"} {
		assert.Equal(t, want, CallName(number))
	}
}

func TestToldAddress_IsWhatTheProgramGave(t *testing.T) {
	family := func(n uint16, rest ...byte) []byte { return append(binary.NativeEndian.AppendUint16(nil, n), rest...) }
	v6 := append(family(unix.AF_INET6, 0x1f, 0x90, 0, 0, 0, 0), make([]byte, 20)...)
	v6[23] = 1
	for want, b := range map[string][]byte{
		"192.0.2.7:8080":     family(unix.AF_INET, 0x1f, 0x90, 192, 0, 2, 7, 0, 0, 0, 0, 0, 0, 0, 0),
		"[::1]:8080":         v6,
		"/run/cellar.socket": family(unix.AF_UNIX, []byte("/run/cellar.socket\x00rest")...),
		"@press@1":           family(unix.AF_UNIX, []byte("\x00press\x001\x00\x00")...),
		"@cellar":            family(unix.AF_UNIX, []byte("\x00cellar\x00\x00")...),
	} {
		assert.Equal(t, want, toldAddress(b))
	}
	for _, b := range [][]byte{nil, family(unix.AF_INET), family(unix.AF_INET, 1, 2, 3), family(unix.AF_INET6, 1, 2, 3),
		family(unix.AF_NETLINK, 0, 0, 0, 0, 0, 0), family(unix.AF_UNSPEC, 0)} {
		assert.Empty(t, toldAddress(b), "%v", b)
	}
}

func TestDecodeNote_AnAttemptSaysWhyItFailed(t *testing.T) {
	note := func(result int64, what uint32, text string) []byte {
		b := binary.NativeEndian.AppendUint64(nil, uint64(result))
		b = binary.NativeEndian.AppendUint32(b, what)
		b = binary.NativeEndian.AppendUint32(b, uint32(len(text)))
		b = append(b, make([]byte, 8)...)
		return append(b, append([]byte(text), make([]byte, 256-len(text))...)...)
	}
	r, ok := decodeNote(note(-int64(unix.EACCES), aPath, "/cellar\xff"))
	assert.Equal(t, []any{Reach{File: "/cellar\uFFFD", Failed: unix.EACCES}, true}, []any{r, ok})
	r, _ = decodeNote(note(-int64(unix.EINPROGRESS), anAddress, "\x02\x00\x00\x50\xc0\x00\x02\x07"))
	assert.Equal(t, Reach{To: "192.0.2.7:80"}, r, "it is on its way")
	_, ok = decodeNote(note(3, aPath, ""))
	assert.False(t, ok, "a path that could not be read")
	_, ok = decodeNote(note(3, aPath, "x")[:30])
	assert.False(t, ok)
	long := note(3, aPath, "x")
	binary.NativeEndian.PutUint32(long[12:], 1<<30)
	_, ok = decodeNote(long)
	assert.True(t, ok, "no longer than it is")
}
