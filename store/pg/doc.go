// Package pg keeps Kembrel's rows in PostgreSQL: migrations/ and queries/ hold all SQL, each query under its name; the Go
// beside it only names arguments and rows. It imports core and store.
package pg
