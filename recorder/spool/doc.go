// Package spool is the recorder's files on disk: what the service has not confirmed yet (docs/storage.md). One folder a
// leg:
//
//	leg.json       what the leg is: run, project, recipe; written once
//	records        the records, each with its length and checksum; only ever appended to
//	state.json     how far the service has counted; may be behind, never ahead
//	recorder       the id of the latest recorder process that claimed the leg
//	open/KEY       checkpoints being written by the program
//	kept/KEY       checkpoints handed over; removed when the service has them
//	open/KEY.json  what is known of one when it is begun
//	resumed        parts of the checkpoint that the leg goes on from
//	stdout, stderr the program's output
//	program        process id of the program, and when it began
//	lock           held by the recorder that lives
//
// It knows no network and no protocol; it imports api and core only.
package spool
