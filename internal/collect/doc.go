// Package collect is the collector: it reads a host every few seconds, closes one-minute intervals, keeps them in a
// spool on disk and sends them until the service has committed them.
//
// It imports internal/kernel, internal/wire and internal/client. Start with Run.
package collect
