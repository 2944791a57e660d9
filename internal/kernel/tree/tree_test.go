package tree_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vinescale/internal/kernel/text"
	"vinescale/internal/kernel/tree"
)

func open(t *testing.T, files map[string]string) *tree.Tree {
	dir := t.TempDir()
	for name, content := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600))
	}
	tr, err := tree.Open(dir)
	require.NoError(t, err)
	t.Cleanup(tr.Close)
	return tr
}

func TestRead_GivesTheWholeFileHoweverLong(t *testing.T) {
	long := strings.Repeat("0123456789abcdef", 3000) // beyond the first buffer
	tr := open(t, map[string]string{"41/stat": "short\n", "long": long, "empty": ""})
	for name, want := range map[string]string{"long": long, "empty": ""} {
		b, err := tr.Read(tr.At(name))
		require.NoError(t, err)
		assert.Equal(t, want, string(b), name)
	}
	b, err := tr.Read(tr.AtPID(41, "stat"))
	require.NoError(t, err)
	assert.Equal(t, "short\n", string(b))

	fd, errno := tr.Open(tr.At("long"), unix.O_RDONLY)
	require.Zero(t, errno)
	defer unix.Close(fd)
	for range 2 { // a file that is kept open is read from its begin each time
		b, err = tr.ReadAgain(fd)
		require.NoError(t, err)
		assert.Equal(t, long, string(b))
	}
}

func TestRead_SaysWhyItCannot(t *testing.T) {
	tr := open(t, map[string]string{"huge": strings.Repeat("x", 4<<20)})
	_, err := tr.Read(tr.At("41", "stat"))
	assert.True(t, tree.Gone(err), "%v", err)
	assert.False(t, tr.Exists(tr.At("41")))
	_, err = tr.Read(tr.At("huge"))
	assert.ErrorIs(t, err, text.ErrGarbage, "no file of the kernel is as long")
	assert.False(t, tree.Gone(err))
	_, err = tree.Open(filepath.Join(t.TempDir(), "none"))
	assert.ErrorContains(t, err, "none")
}

func TestList_VisitsEveryEntryOnce(t *testing.T) {
	files := map[string]string{"dir/below": ""}
	want := []string{"dir/"}
	for _, c := range "abcdefghijklmnopqrstuvwxyz" {
		files["file-"+string(c)] = ""
		want = append(want, "file-"+string(c))
	}
	tr := open(t, files)
	var got []string
	require.NoError(t, tr.List(tr.At("."), make([]byte, 256), func(e tree.Entry) { // several calls of the kernel
		name := string(e.Name)
		if e.IsDir {
			name += "/"
		}
		assert.NotZero(t, e.Inode)
		got = append(got, name)
	}))
	slices.Sort(got)
	assert.Equal(t, want, got)
	assert.True(t, tree.Gone(tr.List(tr.At("none"), make([]byte, 256), func(tree.Entry) {})))
}
