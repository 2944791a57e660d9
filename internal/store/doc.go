// Package store keeps the books in PostgreSQL: records through GORM, intervals by COPY, migrations in plain SQL.
//
// Open brings a database up to date, refuses one that is not ours, and makes the columns of measures that are new in
// the register. Ingest counts each interval once. Usage is read by questions of core/question alone: Ask and Lines in
// ask*.go for sums, Messages for what is kept beside them; statement.go holds what a scope means in SQL.
//
// It imports core/... and internal/wire. Start with Open.
package store
