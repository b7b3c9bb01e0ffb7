// Package store says what is kept and how it is read back; pg keeps rows in PostgreSQL, blob keeps bytes, cluster runs
// a private PostgreSQL. It may import core; it knows no API and no HTTP.
package store
