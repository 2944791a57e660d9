// Package kernel reads a Linux host's counters: /proc, /sys and cgroup v1 and v2 files, into an account.Reading.
//
// A Reader is opened on the roots of those trees, so a staged host reads as a real one does. It is built for being
// called every few seconds on a host with thousands of processes: files are opened, read and closed with raw system
// calls into kept buffers, and a steady host costs no allocation per process. What vanishes between listing and reading
// is left out; what holds garbage is left out and told by Reader.Trouble.
//
// It imports core/... and internal/identify. Start with Open and Reader.Read.
package kernel
