// Package carry carries out acts on the host that it runs on: it shows what an act would touch, checks that this is
// still so, does it, reads back from the kernel what came of it, and remembers what is needed to undo it.
//
// A Host is asked for a preview, and then to carry out. What an act is aimed at becomes an aim (aim.go): processes,
// each with its start so that a pid used again is never mistaken, and the cgroups that hold them and nobody else. A
// plan (plan.go) is what the preview shows and what is then done: values to set, each of which can be read and put back
// (value.go), and what is more than that, such as ending (end.go). What another system on the host manages is done
// through that system first (units.go, jobs.go, machines.go, containers.go), so that it does not undo it.
//
// Nothing here trusts the service: what must never be touched (spare.go) and what this host's policy says are asked
// here, at the preview and again when it is carried out.
//
// It imports core/..., internal/identify, internal/informants and internal/kernel/{text,netlink}.
// Start with New, Preview and Carry.
package carry
