// Package sheets has the queries on prediction sheets.
package sheets
