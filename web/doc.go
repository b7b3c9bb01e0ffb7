// Package web puts the service on HTTP: Gin with Huma on it, routes bound from the declarations in api, sessions,
// problems, the event stream, the console's files, metrics. It decides nothing itself.
package web
