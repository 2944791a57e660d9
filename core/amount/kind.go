package amount

import "fmt"

// Kind says what sort of thing a workload is. The zero value is Loose.
type Kind uint8

// The kinds of workload.
const (
	Loose     Kind = iota // processes in none of the others
	Container             // a container of an OCI runtime
	VM                    // a virtual machine
	Job                   // a batch job
	Session               // a user's sign-in
	Service               // a unit of the init system
	Kernel                // kernel threads
	numKinds
)

var kindNames = [numKinds]string{"loose", "container", "vm", "job", "session", "service", "kernel"}

func (k Kind) String() string {
	if k >= numKinds {
		return fmt.Sprintf("kind(%d)", uint8(k))
	}
	return kindNames[k]
}

var kindMeanings = [numKinds]string{
	Loose: "Processes of a user that are in no container, machine, job, service or sign-in, told apart by what began " +
		"them.",
	Container: "A container of an OCI runtime.",
	VM:        "A virtual machine with the process that runs it.",
	Job:       "A job of a batch scheduler.",
	Session:   "A user's sign-in with all that was started in it.",
	Service:   "A unit of the init system.",
	Kernel:    "Threads of the kernel.",
}

// Meaning says what workloads are of this kind, in a sentence.
func (k Kind) Meaning() string { return kindMeanings[k] }

// Kinds lists all kinds.
func Kinds() []Kind { return []Kind{Container, VM, Job, Session, Service, Loose, Kernel} }

// Moves tells kinds of workloads that could run on another host; the others belong to theirs.
func (k Kind) Moves() bool { return k == Container || k == VM || k == Job }

// ParseKind reads a kind's name.
func ParseKind(s string) (Kind, error) {
	for i, n := range kindNames {
		if n == s {
			return Kind(i), nil
		}
	}
	return 0, fmt.Errorf("unknown kind %q: the kinds are %v", s, kindNames)
}
