// Package work does what a request began and what may take longer than a request, such as assessing a prediction sheet.
// The database accepts it first. It goes on when the client leaves, one replica does it, another continues it if that
// one stops, and the same request sent again returns its progress or its result.
package work
