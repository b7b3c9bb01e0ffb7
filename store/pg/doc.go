// Package pg keeps Kembrel's rows in PostgreSQL. db is the database; a folder beside it is what one slice asks of it,
// its .sql beside its Go, which only names arguments and rows. Here they are put together. It imports core and store.
package pg
