// Package finding goes from what a caller names or asks for to rows: a project or run by its address, runs by a filter
// expression; and shows rows as the API does. Slices may stand on it, as they do on act.
package finding
