package space

import (
	"path"
	"strings"

	"vinescale/internal/kernel/text"
)

// OwnFiles finds where the files of a process's own root begin, on the host: the upper directory of its overlay (the
// kernel's "Overlay Filesystem"), or a directory that is its root. "" where it has the host's root, the whole of a
// filesystem, or one that another machine serves: whoever asks for its files may wait for that forever.
func OwnFiles(mountinfo []byte, host []text.Mount) string {
	root := text.Mount{}
	for _, m := range text.ParseMounts(mountinfo) {
		if m.At == "/" {
			root = m // the last one covers those before it
		}
	}
	if root.Kind == "overlay" {
		for option := range strings.SplitSeq(root.Options, ",") {
			if upper, ok := strings.CutPrefix(option, "upperdir="); ok && path.IsAbs(upper) {
				return path.Clean(text.UnescapeOctal(upper))
			}
		}
		return ""
	}
	if root.Root == "" || root.Root == "/" || served(root.Kind) {
		return ""
	}
	best := text.Mount{}
	for _, m := range host {
		if m.Device == root.Device && within(root.Root, m.Root) && len(m.Root) >= len(best.Root) {
			best = m
		}
	}
	if !path.IsAbs(best.At) { // none, or garbage
		return ""
	}
	// the host's root may be a part of a filesystem too
	if dir := path.Join(best.At, strings.TrimPrefix(root.Root, best.Root)); dir != "/" {
		return dir
	}
	return ""
}

// served tells kinds of filesystems whose files come from a server, or from a program.
func served(kind string) bool {
	for _, s := range []string{"nfs", "cifs", "smb", "ceph", "fuse", "9p", "afs", "gluster", "virtiofs"} {
		if strings.HasPrefix(kind, s) {
			return true
		}
	}
	return false
}

// within tells whether a path is a directory or below it.
func within(p, dir string) bool {
	return dir == "/" || p == dir || strings.HasPrefix(p, strings.TrimSuffix(dir, "/")+"/")
}
