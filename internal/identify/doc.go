// Package identify says which workload a cgroup or a process is, whose it is, and what else is known of it.
//
// A Registry asks its recognisers about each cgroup directory and each process once, and gives every workload a small
// number. There are two forms of recogniser, and a file for each system recognised:
//
//   - by cgroup path: oci.go (runtimes' state files), engine.go (engines' names, pods), machine.go, batch.go,
//     session.go, unit.go, site.go
//   - by process, for what has no cgroup of its own: machine.go (command line), batch.go and site.go (environment),
//     session.go (audit session)
//
// What the kernel's files do not tell, an Informant may (informant.go): another system, asked only when something new
// appears. Package informants has them.
//
// To add a recogniser, write a method of the form of ByPath or ByProcess in a file of its own (batch.go is the best
// example), name it in NewRegistry, where the order says which is tried first and why,
// and record examples in testdata.
//
// It imports core/... only. Start with Registry.
package identify
