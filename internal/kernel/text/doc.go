// Package text reads the formats in which the kernel writes its files: /proc/PID/stat and its neighbours, meminfo,
// diskstats, io.stat, mountinfo, smaps.
//
// It is pure: bytes in, figures out. No parser panics or loops on any input, and none gives a negative figure; those
// that are called for every process allocate nothing. A file that is not in its documented form is ErrGarbage, or
// false.
//
// It imports core/account only, for the figures that a host has. Start with ParseStat.
package text
