// Package searches keeps searches and says how far their trials are.
package searches
