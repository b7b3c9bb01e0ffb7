// Package comparing sets runs beside each other: what differs, what they learned, what mattered, and what must be
// traded.
package comparing
