// Package identify says which workload a cgroup or a process is.
//
// A Registry asks its recognisers, innermost first, about each cgroup directory once, and gives every workload a small
// number. To add a recogniser, write a function of type Recogniser in a file of its own (container.go is the best
// example) and name it in NewRegistry.
//
// It imports core/... only. Start with Registry.
package identify
