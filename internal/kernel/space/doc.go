// Package space finds out how much of a filesystem the files of a workload take: where the files of a container are
// (OwnFiles), what the project quota on a directory counts (ProjectOf, QuotaOf), and what a directory holds by looking
// at every file (Walk).
package space
