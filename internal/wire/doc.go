// Package wire is how closed intervals travel from collector to service: protobuf with one column per measure, zstd
// around it; the same message as JSON is accepted too.
//
// The schema, interval.proto, is versioned. Resources and measures travel by name, so one that is added needs no new
// version: who does not know it passes over it. A batch of an older version is brought into the form of this one by
// Decode; one of a newer version is answered with ErrNewer, so that its sender keeps it. Make generates
// interval.pb.go from it ("make generate"). It imports core/... and internal/identify. Start with FromInterval.
package wire

// Version is the schema's version, sent in every batch.
const Version = 2
