// Package api is the contract of the HTTP API: every operation declared once, its input and output, its problems, the
// grammar of addresses. The service binds the declarations, the client calls by them, the OpenAPI file is emitted from
// them. It may import core; it knows no database and no server.
package api
