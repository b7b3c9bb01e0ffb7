// Package pages joins slices for one page of the console. It is the only slice that may import others.
package pages
