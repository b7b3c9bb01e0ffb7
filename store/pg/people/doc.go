// Package people keeps people, their tokens, sessions and links.
package people
