// Package informants asks other systems on a host what they know of workloads: names, labels, owners, limits, and how
// they ended. Each is one file; each asks read-only, and only when the registry does.
//
// It imports identify and core/... Start with Parse.
package informants
