// Package wire is how closed intervals travel from collector to service: protobuf with one column per measure, zstd
// around it; the same message as JSON is accepted too.
//
// The schema, interval.proto, is versioned: a service refuses a version it does not know. Make generates
// interval.pb.go from it ("make generate"). It imports core/... and internal/identify. Start with FromInterval.
package wire

// Version is the schema's version, sent in every batch.
const Version = 1
