// Package stage plays a fleet of hosts whose truth is known: a winegrowers' cooperative that shares its hosts among its
// members' projects.
//
// A Host moves on by Advance, which decides from a fixed seed what every process did: on which CPUs, how much memory,
// how many bytes. It shows that truth the way a kernel would, as files (Render), which the real collector reads; and as
// a Reading at once (Host.Reading), for playing a day of history in seconds. A test holds the two equal.
//
// It imports core/... and internal/identify. Start with Cooperative.
package stage
