// Package datasets keeps datasets, snapshots, drafts of snapshots, and which run used which.
package datasets
