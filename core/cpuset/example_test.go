package cpuset_test

import (
	"fmt"

	"vinescale/core/cpuset"
)

// What a tenant's CPUs are, and whether a process that may run on CPUs 3 to 6 can get in its way.
func Example() {
	pinned, err := cpuset.Parse("8,0-3")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(pinned, "are", pinned.Len(), "CPUs")
	fmt.Println(pinned.Overlaps(cpuset.Of(3, 4, 5, 6)))

	_, err = cpuset.Parse("3-1")
	fmt.Println(err)
	// Output:
	// 0-3,8 are 5 CPUs
	// true
	// CPU list "3-1": the range "3-1" runs backwards
}
