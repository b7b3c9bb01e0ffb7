// Package service holds the use cases: what belongs into one transaction, and which events it writes. It speaks in the
// structs of api, keeps rows through store, computes with core; it knows no HTTP and holds no SQL.
//
// A folder holds what people do in one respect, a slice: its rules, and in storage.go what it needs of the store.
// Slices stand on act (who, rights, events, live news), finding (addresses, filters) and rules, and do not import each
// other; pages joins what one page of the console needs of several. Here they are put together. A note on a checkpoint
// would live in checkpoints, here, in store/pg and in cli.
//
// It keeps no state between requests that cannot be rebuilt, so that any number of replicas may serve one database.
package service
