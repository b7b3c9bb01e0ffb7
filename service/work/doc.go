// Package work does what a request began and what may take longer than a request, such as assessing a prediction sheet.
// It is accepted in the database first: it goes on when whoever sent it has gone, one replica does it, another takes
// it up when that one ends, and the same request sent again says how far it is or what it came to.
package work
