// Package work keeps what a request began and what is done whether or not anybody waits for it.
package work
