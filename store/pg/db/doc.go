// Package db is the database as all slices see it: its connections in lanes, transactions, queries by name from .sql
// files, rows collected strictly into structs, and the migrations of its tables.
package db
