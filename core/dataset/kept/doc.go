// Package kept knows snapshots as they are kept: immutable tables of items. It writes and reads their files, says how
// two differ, and whether the figures of a model that was trained on one split and judged on another can be trusted.
//
// A file is Parquet, sorted by key, in row groups of GroupRows items, so that a page of it is a row group, and two are
// compared in one pass. Its digest is of the items in that order, not of the file's bytes: the same items make the same
// snapshot, however they came (docs/data.md).
package kept
