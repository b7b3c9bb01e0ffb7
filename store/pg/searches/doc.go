// Package searches keeps searches and trials.
package searches
