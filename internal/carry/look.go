package carry

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"vinescale/core/act"
	"vinescale/internal/kernel/bpf"
	"vinescale/internal/kernel/text"
)

// mostFound bounds what a closer look tells.
const mostFound = 1000

// planLook plans to look closer at a process: at its threads and where they wait, its files and its connections, and
// the names of what is in its environment, never the values.
func (h *Host) planLook(p *plan, r *act.Request) error {
	p.Undo = ""
	if r.Settings["seconds"] != "" && h.Counts {
		p.Warnings = append(p.Warnings, "while it is watched, every system call on this host takes up to a tenth of a "+
			"microsecond longer: the kernel looks whose it is")
	}
	p.more = func(ctx context.Context, out *act.Outcome) error {
		x := &p.aim.hit[0]
		add := func(of, what, text string) {
			if len(out.Found) < mostFound {
				out.Found = append(out.Found, act.Glimpse{Of: of, What: plain(what), Text: plain(text)})
			}
		}
		h.lookAtThreads(x, add)
		err := h.lookAtFiles(x, add)
		h.lookAtEnvironment(x, add)
		if !h.isThere(x.ref()) {
			return errGone
		}
		if seconds, _ := strconv.Atoi(r.Settings["seconds"]); seconds > 0 { // it was checked
			h.watch(ctx, x, time.Duration(seconds)*time.Second, add)
		}
		out.State, out.Detail = act.Done, fmt.Sprintf("%d findings; nothing was changed", len(out.Found))
		if err != nil {
			out.Left = append(out.Left, act.Refusal{What: "its files", Why: err.Error()})
		}
		if len(out.Found) == mostFound {
			out.Detail = fmt.Sprintf("the first %d findings; nothing was changed", mostFound)
		}
		return nil
	}
	return nil
}

type finder func(of, what, text string)

// inCall says in which system call a thread is, by its file in /proc (proc_pid_syscall(5)); "" where it is in none.
func inCall(file string) string {
	number, _, is := strings.Cut(strings.TrimSpace(file), " ")
	n, err := strconv.Atoi(number)
	if !is || err != nil || n < 0 {
		return ""
	}
	return " (system call " + bpf.CallName(n) + ")"
}

func (h *Host) lookAtThreads(x *process, add finder) {
	dir := filepath.Join(h.Proc, strconv.Itoa(int(x.pid)))
	if b, err := os.ReadFile(filepath.Join(dir, "cmdline")); err == nil {
		add(
			"process",
			"command line",
			strings.Join(strings.Split(strings.TrimRight(string(b), "\x00"), "\x00"), " "),
		)
	}
	if link, err := os.Readlink(filepath.Join(dir, "exe")); err == nil {
		add("process", "program", link)
	}
	if link, err := os.Readlink(filepath.Join(dir, "cwd")); err == nil {
		add("process", "works in", link)
	}
	for _, tid := range h.threads(x.pid) {
		task := filepath.Join(dir, "task", strconv.Itoa(int(tid)))
		b, err := os.ReadFile(filepath.Join(task, "stat"))
		if err != nil {
			continue
		}
		s := string(b)
		open, end := strings.IndexByte(s, '('), strings.LastIndexByte(s, ')')
		fields := strings.Fields(s[end+1:])
		if open < 0 || len(fields) < 37 {
			continue
		}
		said := fmt.Sprintf("%s, %s, on CPU %s", s[open+1:end], text.StateWords[fields[0][0]], fields[36])
		if b, err := os.ReadFile(filepath.Join(task, "wchan")); err == nil && len(b) > 1 {
			said += ", waits in " + string(b)
		}
		if b, err := os.ReadFile(filepath.Join(task, "syscall")); err == nil {
			said += inCall(string(b))
		}
		add("thread", strconv.Itoa(int(tid)), said)
	}
}

func (h *Host) lookAtFiles(x *process, add finder) error {
	dir := filepath.Join(h.Proc, strconv.Itoa(int(x.pid)))
	entries, err := os.ReadDir(filepath.Join(dir, "fd"))
	if err != nil {
		return err
	}
	sockets := h.sockets(dir)
	for _, e := range entries {
		link, err := os.Readlink(filepath.Join(dir, "fd", e.Name()))
		if err != nil {
			continue
		}
		if number, is := strings.CutPrefix(link, "socket:["); is {
			text := sockets[strings.TrimSuffix(number, "]")]
			if text == "" {
				text = "a socket of another kind"
			}
			add("connection", e.Name(), text)
			continue
		}
		add("file", e.Name(), link)
	}
	return nil
}

// sockets tells of the sockets of a process's network namespace by inode (the kernel's "/proc/net/tcp and
// /proc/net/tcp6 variables").
func (h *Host) sockets(dir string) map[string]string {
	found := map[string]string{}
	for _, protocol := range []string{"tcp", "tcp6", "udp", "udp6"} {
		b, err := os.ReadFile(filepath.Join(dir, "net", protocol))
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(b)) {
			f := strings.Fields(line)
			if len(f) < 10 || f[0] == "sl" {
				continue
			}
			text := strings.TrimSuffix(protocol, "6") + " " + socketAddress(f[1])
			if far := socketAddress(f[2]); !strings.HasSuffix(far, ":0") {
				text += " to " + far
			} else if f[3] == "0A" {
				text += ", listens"
			}
			found[f[9]] = text
		}
	}
	if b, err := os.ReadFile(filepath.Join(dir, "net/unix")); err == nil {
		for line := range strings.Lines(string(b)) {
			if f := strings.Fields(line); len(f) > 6 && f[0] != "Num" {
				text := "local socket"
				if len(f) > 7 {
					text += " " + f[7]
				}
				found[f[6]] = text
			}
		}
	}
	return found
}

// socketAddress reads an address as the kernel writes it: words of the host's byte order in hexadecimal, and a port.
func socketAddress(s string) string {
	words, port, _ := strings.Cut(s, ":")
	b, err := hex.DecodeString(words)
	if err != nil || len(b)%4 != 0 {
		return s
	}
	for i := 0; i < len(b); i += 4 {
		binary.NativeEndian.PutUint32(b[i:], binary.BigEndian.Uint32(b[i:]))
	}
	a, ok := netip.AddrFromSlice(b)
	n, err := strconv.ParseUint(port, 16, 16)
	if !ok || err != nil {
		return s
	}
	return netip.AddrPortFrom(a.Unmap(), uint16(n)).String()
}

func (h *Host) lookAtEnvironment(x *process, add finder) {
	b, err := os.ReadFile(filepath.Join(h.Proc, strconv.Itoa(int(x.pid)), "environ"))
	if err != nil {
		return
	}
	var names []string
	for entry := range bytes.SplitSeq(b, []byte{0}) {
		if name, _, is := bytes.Cut(entry, []byte("=")); is {
			names = append(names, string(name))
		}
	}
	slices.Sort(names)
	add("environment", "names", strings.Join(slices.Compact(names), ", "))
}

// planWrite plans to write a line to the terminals that the processes of a sign-in have.
func (h *Host) planWrite(p *plan, text string) error {
	terminals := map[string]bool{}
	for i := range p.aim.hit {
		x := &p.aim.hit[i]
		link, err := os.Readlink(filepath.Join(h.Proc, strconv.Itoa(int(x.pid)), "fd/0"))
		var s unix.Stat_t
		// A terminal of the sign-in's own user, and nothing else that a process may have opened.
		if err == nil && (strings.HasPrefix(link, "/dev/pts/") || strings.HasPrefix(link, "/dev/tty")) &&
			unix.Stat(link, &s) == nil && s.Mode&unix.S_IFMT == unix.S_IFCHR && int64(s.Uid) == x.uid {
			terminals[link] = true
		}
	}
	if len(terminals) == 0 {
		return refuse("%s has no terminal to write to", p.Target)
	}
	p.Undo = ""
	p.more = func(_ context.Context, out *act.Outcome) error {
		var failed []error
		for name := range terminals {
			f, err := os.OpenFile(name, os.O_WRONLY|unix.O_NOCTTY|unix.O_NONBLOCK, 0)
			if err == nil {
				_, err = f.WriteString("\r\nFrom the administrator: " + text + "\r\n")
				err = errors.Join(err, f.Close())
			}
			if err != nil {
				failed = append(failed, err)
			}
		}
		if len(failed) > 0 {
			return errors.Join(failed...)
		}
		out.State, out.Detail = act.Done, fmt.Sprintf("written to %d terminals", len(terminals))
		return nil
	}
	return nil
}
