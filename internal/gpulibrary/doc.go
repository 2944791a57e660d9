// Package gpulibrary asks a vendor's management library of GPUs (libnvidia-ml.so.1) what it tells. The library is
// loaded when the program runs, without cgo, and may be missing calls. Serve is the life of a helper process: nothing
// else is to be done in the process that has the library, for the library may hang or end it. Start with Open.
package gpulibrary
