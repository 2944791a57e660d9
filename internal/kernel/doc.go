// Package kernel reads a Linux host's counters: /proc, /sys and cgroup v1 and v2 files, into an account.Reading.
//
// A Reader is opened on the roots of those trees, so a staged host reads as a real one does. It is built for being
// called every few seconds on a host with thousands of processes: files are opened, read and closed with raw system
// calls into kept buffers, and a steady host costs no allocation per process. What vanishes between listing and reading
// is left out; what holds garbage is left out and told by Reader.Trouble.
//
// Its rooms: text has the formats of files, tree reads them, netlink asks the kernel, bpf counts inside it, and space
// adds up what files take. In this package each file is one step of a reading, or one thing that is read; what a Reader
// remembers is kept by subject, as its host, cgroups, tasks, net and storage.
//
// It imports core/..., internal/identify and the packages below it. Start with Open and Reader.Read.
package kernel
