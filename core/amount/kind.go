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

// ParseKind reads a kind's name.
func ParseKind(s string) (Kind, error) {
	for i, n := range kindNames {
		if n == s {
			return Kind(i), nil
		}
	}
	return 0, fmt.Errorf("unknown kind %q: the kinds are %v", s, kindNames)
}
