// Package store keeps the books in PostgreSQL: records through GORM, intervals by COPY, migrations in plain SQL.
//
// Open brings a database up to date and refuses one that is not ours. Ingest counts each interval once. The questions
// the service asks of stored intervals are in ask_*.go, one a file.
//
// It imports core/... and internal/wire. Start with Open.
package store
