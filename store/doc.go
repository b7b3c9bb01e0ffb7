// Package store says what is kept, row by row, and how it is read back; pg keeps rows in PostgreSQL, a folder a slice,
// blob keeps bytes, cluster runs a private PostgreSQL. It may import core; it knows no API and no HTTP.
package store
