package identify

import (
	"bytes"
	"strings"
)

// NoUser is the login uid of a process that no sign-in began (proc_pid_loginuid(5)).
const NoUser = -1

// Process is what a recogniser may know of one process.
type Process struct {
	PID, Parent int32
	Start       int64 // clock ticks since boot
	UID         int64 // real
	LoginUID    int64 // who signed in, whoever they became since; NoUser for none
	Session     int64 // audit session id; -1 for none
	Comm        string
	Cgroups     string // content of its cgroup file
	Environ     func() []byte
	Cmdline     func() []byte
}

// Person is who stands behind a process: the user who signed in, whoever it runs as since; else, and where root signed
// in, its real uid.
func (p *Process) Person() int64 {
	if p.LoginUID > 0 {
		return p.LoginUID
	}
	return p.UID
}

// environment reads variables of a process; nil where it may not be read.
func (p *Process) environment(names ...string) map[string]string {
	if p.Environ == nil {
		return nil
	}
	found := map[string]string{}
	for rest := p.Environ(); len(rest) > 0; {
		var one []byte
		one, rest, _ = bytes.Cut(rest, []byte{0})
		k, v, ok := bytes.Cut(one, []byte{'='})
		if !ok {
			continue
		}
		for _, n := range names {
			if string(k) == n {
				found[n] = string(v)
			}
		}
	}
	return found
}

// arguments are a process's command line.
func (p *Process) arguments() []string {
	if p.Cmdline == nil {
		return nil
	}
	line := strings.TrimRight(string(p.Cmdline()), "\x00")
	if line == "" {
		return nil
	}
	return strings.Split(line, "\x00")
}
