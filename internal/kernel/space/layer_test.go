package space

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
)

func TestOwnFiles_AreWhereAContainersRootComesFrom(t *testing.T) {
	host := text.ParseMounts(
		[]byte(
			"26 1 8:1 / / rw - ext4 /dev/sda1 rw\n27 26 8:2 / /var/lib rw - xfs /dev/sda2 rw\n28 26 8:2 /pool " +
				"/srv/pool rw - xfs /dev/sda2 rw\n29 1 0:33 /@ / rw - btrfs /dev/sda4 rw\n"))
	for name, x := range map[string]struct{ mountinfo, want string }{
		"an overlay's upper directory": {"9 8 0:40 / / rw - overlay overlay " +
			"rw,lowerdir=/l1:/l2,upperdir=/var/lib/coop/must\\054press/diff,workdir=/w\n",
			"/var/lib/coop/must,press/diff"},
		"read only, without any": {"9 8 0:40 / / ro - overlay overlay ro,lowerdir=/l1:/l2\n", ""},
		"named from where it was made": {"9 8 0:40 / / rw - overlay overlay rw,upperdir=diff,workdir=work\n",
			""},
		"a directory of a filesystem": {"9 8 8:2 /coop/root / rw - xfs /dev/sda2 rw\n", "/var/lib/coop/root"},
		"seen by the nearest mount":   {"9 8 8:2 /pool/root / rw - xfs /dev/sda2 rw\n", "/srv/pool/root"},
		"the last mount covers": {"9 8 8:1 / / rw - ext4 /dev/sda1 rw\n10 9 8:2 /coop/root / rw - xfs " +
			"/dev/sda2 rw\n", "/var/lib/coop/root"},
		"one that the host sees too":          {"9 8 8:2 /pool / rw - xfs /dev/sda2 rw\n", "/srv/pool"},
		"a subvolume that is the host's root": {"9 8 0:33 /@ / rw - btrfs /dev/sda4 rw\n", ""},
		"served by another machine":           {"9 8 8:2 /coop/root / rw - nfs4 books:/coop rw\n", ""},
		"the host's own root":                 {"9 8 8:1 / / rw - ext4 /dev/sda1 rw\n", ""},
		"one mounted nowhere else":            {"9 8 8:7 /coop/root / rw - xfs /dev/sdb rw\n", ""},
	} {
		assert.Equal(t, x.want, OwnFiles([]byte(x.mountinfo), host), name)
	}
}

func TestWalk_CountsEachFileOnceAndGoesNowhereElse(t *testing.T) {
	dir := t.TempDir()
	outside := t.TempDir()
	put := func(name string, size int) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, make([]byte, size), 0o600))
	}
	put("etc/press.conf", 10)
	put("var/log/must", 100_000)
	require.NoError(t, os.Link(filepath.Join(dir, "var/log/must"), filepath.Join(dir, "again")))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "much"), make([]byte, 1<<20), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "elsewhere")))
	want := int64(0) // of what is there, asked for one by one
	for _, name := range []string{"", "etc", "etc/press.conf", "var", "var/log", "var/log/must", "elsewhere"} {
		var st unix.Stat_t
		require.NoError(t, unix.Lstat(filepath.Join(dir, name), &st))
		want += st.Blocks * 512
	}
	w := OpenWalk(dir)
	steps := 1
	for _, done := w.Step(2); !done; _, done = w.Step(2) {
		steps++
	}
	require.NoError(t, w.Err)
	assert.Equal(t, []int64{7, want}, []int64{w.Files, w.Bytes})
	assert.Greater(t, steps, 3, "a little at a time")

	w = OpenWalk(filepath.Join(dir, "elsewhere"))
	_, done := w.Step(2)
	assert.True(t, done)
	assert.Error(t, w.Err, "a link is no layer")
}

func TestWalk_GoesSoDeepAndNoDeeper(t *testing.T) {
	dir := t.TempDir()
	deep := dir
	for range 199 {
		deep = filepath.Join(deep, "d")
	}
	require.NoError(t, os.MkdirAll(deep, 0o755))
	walk := func() *Walk {
		w := OpenWalk(dir)
		left, done := w.Step(3)
		assert.Equal(t, []any{0, false}, []any{left, done}, "as many steps as it is allowed")
		left, done = w.Step(100_000)
		assert.True(t, done)
		assert.Positive(t, left)
		return w
	}
	w := walk()
	require.NoError(t, w.Err)
	assert.Equal(t, int64(200), w.Files)
	require.NoError(t, os.Mkdir(filepath.Join(deep, "d"), 0o755))
	w = walk()
	assert.ErrorIs(t, w.Err, errTooBig)
	assert.Empty(t, w.stack, "what was open is closed")
	(*Walk)(nil).Close()
	left, done := (&Walk{}).Step(5)
	assert.Equal(t, []any{5, true}, []any{left, done})
}

// FuzzOwnFiles: whatever a mount table says, what is walked has a whole path.
func FuzzOwnFiles(f *testing.F) {
	f.Add([]byte("900 800 0:99 / / rw - overlay overlay rw,lowerdir=/a,upperdir=/b/c\\054d,workdir=/w\n" +
		"901 900 8:1 /x / rw - ext4 /dev/sda1 rw\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, m := range text.ParseMounts(b) {
			if dir := OwnFiles(b, []text.Mount{m}); dir != "" && dir[0] != '/' {
				t.Fatal(dir)
			}
		}
	})
}
