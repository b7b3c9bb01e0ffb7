// Package service holds the use cases: who may do what, what belongs into one transaction, which events it writes. It
// speaks in the structs of api, keeps rows through store, computes with core; it knows no HTTP and holds no SQL.
//
// It keeps no state between requests that cannot be rebuilt, so that any number of replicas may serve one database.
package service
