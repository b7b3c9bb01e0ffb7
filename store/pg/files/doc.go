// Package files has the queries on files that runs wrote.
package files
