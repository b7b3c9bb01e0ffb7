package api

// BlobTotals is what the chunk store holds (docs/storage.md).
type BlobTotals struct {
	Checkpoints int64 `json:"checkpoints"`
	Held        int64 `json:"held" doc:"Bytes of all checkpoints, each counted whole"`
	Chunks      int64 `json:"chunks" doc:"Different chunks"`
	Bytes       int64 `json:"bytes" doc:"Of the different chunks"`
	Stored      int64 `json:"stored" doc:"As they are packed"`
	Loose       int64 `json:"loose" doc:"Of these, what no checkpoint holds and cleaning will free"`
	Damaged     int64 `json:"damaged" doc:"Chunks that were found damaged and have not been sent again"`
	Missing     int64 `json:"missing" doc:"Chunks that were not where they were kept when last looked for; they are looked for again whenever they are read"`
}

// CheckBlobsInput asks for a part of the store to be read and checked.
type CheckBlobsInput struct {
	Body struct {
		After string  `json:"after,omitempty" maxLength:"200" doc:"Where to go on: next of the answer before"`
		Share float64 `json:"share,omitempty" minimum:"0" maximum:"1" default:"1" doc:"Of all chunks, a sample of this share; the same one each time"`
		Limit int     `json:"limit,omitempty" minimum:"1" maximum:"1000" default:"100"`
	}
}

// CheckedBlobs is what was found.
type CheckedBlobs struct {
	Chunks  int64          `json:"chunks" doc:"Read and checked"`
	Bytes   int64          `json:"bytes"`
	Damaged []DamagedChunk `json:"damaged"`
	Next    string         `json:"next,omitempty" doc:"Where to go on; absent at the end"`
}

// DamagedChunk is a chunk whose bytes are gone or are not those it is named by. Sending the same content again heals
// it.
type DamagedChunk struct {
	Digest      string   `json:"digest"`
	Size        int64    `json:"size"`
	Missing     bool     `json:"missing,omitempty" doc:"It is not where it was kept, and may come back; otherwise its bytes are others"`
	Why         string   `json:"why"`
	Checkpoints []string `json:"checkpoints" doc:"Addresses of those it hurts"`
}

// The operations on the chunk store as a whole.
var (
	GetBlobs = declare[struct{}, BlobTotals](Spec{ID: "blobs", Method: "GET", Path: "/blobs",
		Summary: "What the chunk store holds", Access: Administrator})
	CheckBlobs = declare[CheckBlobsInput, CheckedBlobs](Spec{ID: "check-blobs", Method: "POST", Path: "/blobs/check",
		Summary: "Read a part of the chunk store and check every digest", Access: Administrator, Long: true})
)

// FreeInput asks for bytes that no checkpoint holds.
type FreeInput struct {
	Body struct {
		Now bool `json:"now,omitempty" doc:"Give them back now; otherwise it is only told how many they are"`
	}
}

// Freed is what was given back.
type Freed struct {
	Packs int   `json:"packs" doc:"Files deleted"`
	Freed int64 `json:"freed" doc:"Bytes of these"`
	Loose int64 `json:"loose" doc:"Bytes as stored that no checkpoint holds, and that are still there"`
	Disk  *Disk `json:"disk,omitempty"`
}

// FreeStorage gives bytes back.
var FreeStorage = declare[FreeInput, Freed](Spec{ID: "free-storage", Method: "POST", Path: "/storage/free",
	Summary: "Give back bytes that no checkpoint holds any more", Access: Administrator, Long: true})
