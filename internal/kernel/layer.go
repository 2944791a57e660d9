package kernel

import (
	"path"
	"strings"
)

// ownFiles finds where the files of a process's own root begin, on the host: the upper directory of its overlay (the
// kernel's "Overlay Filesystem"), or a directory that is its root. "" where it has the host's root, the whole of a
// filesystem, or one that another machine serves: whoever asks for its files may wait for that forever.
func ownFiles(mountinfo []byte, host []mount) string {
	root := mount{}
	for _, m := range parseMounts(mountinfo) {
		if m.at == "/" {
			root = m // the last one covers those before it
		}
	}
	if root.kind == "overlay" {
		for option := range strings.SplitSeq(root.options, ",") {
			if upper, ok := strings.CutPrefix(option, "upperdir="); ok && path.IsAbs(upper) {
				return path.Clean(unescapeOctal(upper))
			}
		}
		return ""
	}
	if root.root == "" || root.root == "/" || served(root.kind) {
		return ""
	}
	best := mount{}
	for _, m := range host {
		if m.device == root.device && within(root.root, m.root) && len(m.root) >= len(best.root) {
			best = m
		}
	}
	if !path.IsAbs(best.at) { // none, or garbage
		return ""
	}
	// the host's root may be a part of a filesystem too
	if dir := path.Join(best.at, strings.TrimPrefix(root.root, best.root)); dir != "/" {
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
