package api

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"kembrel/core/dataset"
)

// Dataset is named data with numbered snapshots (docs/data.md).
type Dataset struct {
	Name      string    `json:"name" example:"hydrophone"`
	Who       string    `json:"who" doc:"Who made the first snapshot"`
	Created   time.Time `json:"created"`
	Snapshots int       `json:"snapshots"`
	Latest    string    `json:"latest" example:"hydrophone#3"`
	Items     int64     `json:"items" doc:"Of the latest"`
	Bytes     int64     `json:"bytes"`
	Changed   time.Time `json:"changed" doc:"When the latest was made"`
	Trust     string    `json:"trust" enum:"trusted,leaking,unknown" doc:"Whether the latest has items of one split in another; unknown: not looked at yet"`
}

// SnapshotSource says what a snapshot was made from.
type SnapshotSource struct {
	Kind    string `json:"kind" enum:"folder,table,program,changes" doc:"What it was made from"`
	Name    string `json:"name,omitempty" maxLength:"1000" doc:"Of the folder or file"`
	Host    string `json:"host,omitempty" maxLength:"255"`
	Pattern string `json:"pattern,omitempty" maxLength:"2000" doc:"Over the path, from which split, group and label came"`
	Run     string `json:"run,omitempty" maxLength:"200" doc:"The run whose program handed it over"`
}

// Snapshot is an immutable version of a dataset.
type Snapshot struct {
	Address  string              `json:"address" example:"hydrophone#3"`
	Dataset  string              `json:"dataset"`
	Number   int                 `json:"number"`
	Digest   string              `json:"digest" doc:"Of its items in the order of their keys: the same items make the same snapshot"`
	Items    int64               `json:"items"`
	Bytes    int64               `json:"bytes" doc:"Of all items"`
	Kept     int64               `json:"kept" doc:"Items whose bytes are in the store"`
	Columns  []dataset.OwnColumn `json:"columns" doc:"Of the team's own"`
	Rows     bool                `json:"rows,omitempty" doc:"Items are rows of a table, without bytes"`
	Source   SnapshotSource      `json:"source"`
	Base     string              `json:"base,omitempty" doc:"Address of the snapshot that it was changed from"`
	Who      string              `json:"who"`
	Created  time.Time           `json:"created"`
	State    string              `json:"state" enum:"looked-at,looking,failed,making" doc:"Whether its questions have been answered. making: the service has accepted it and is making it; it has no number yet (number is 0). Send the same request again to learn the result"`
	Progress float64             `json:"progress,omitempty" minimum:"0" maximum:"1" doc:"While it is being made: the share that is done"`
	Failed   string              `json:"failed,omitempty" doc:"Why they could not be"`
	Existed  bool                `json:"existed,omitempty" doc:"Answered to who made it: the same items were a snapshot before"`
	Again    int64               `json:"again,omitempty" doc:"Answered to who made it: items that came more than once, and count once"`
	Found    *dataset.Findings   `json:"found,omitempty" doc:"What was found in it"`
	Answers  *SnapshotAnswers    `json:"answers,omitempty" doc:"The same in sentences; absent in lists"`
	Users    []SnapshotUser      `json:"users,omitempty" doc:"Runs that used it, the newest first; absent in lists"`
	Ledger   *TestLedger         `json:"ledger,omitempty" doc:"How often its test split was looked at; absent in lists, and where it has none"`
}

// Making is the state of a snapshot that was accepted and is not made yet.
const Making = "making"

// SnapshotAnswers are the answers to the questions that a snapshot's page asks, as sentences.
type SnapshotAnswers struct {
	Trust   string `json:"trust" doc:"Can the validation figure be trusted?"`
	Clean   string `json:"clean" doc:"Is it clean?"`
	Alike   string `json:"alike" doc:"Are the splits alike?"`
	Changed string `json:"changed" doc:"What changed since the one before?"`
	Used    string `json:"used" doc:"Who used it?"`
	Looked  string `json:"looked" doc:"How often was the test split looked at?"`
}

// SnapshotUser is a run that used a snapshot.
type SnapshotUser struct {
	Run     string    `json:"run" example:"vessels/3"`
	Title   string    `json:"title,omitempty"`
	Use     string    `json:"use" example:"val" doc:"For what"`
	Split   string    `json:"split,omitempty"`
	Who     string    `json:"who"`
	Started time.Time `json:"started"`
	State   string    `json:"state"`
}

// TestLedger says how often a test split was looked at, and by how much the best of so many looks better than it is.
type TestLedger struct {
	Looks  int64         `json:"looks" doc:"Readings on it, over all runs"`
	Models int           `json:"models" doc:"Different runs"`
	Curves []LedgerCurve `json:"curves" doc:"By curve"`
	Looked []TestLook    `json:"looked" doc:"The first first, at most 500; runs that one does not see are not named"`
}

// LedgerCurve says what one curve's looks come to.
type LedgerCurve struct {
	Curve    string `json:"curve" example:"accuracy.test"`
	Models   int    `json:"models"`
	Looks    int64  `json:"looks"`
	Best     Float  `json:"best"`
	BestRun  string `json:"best_run,omitempty"`
	Optimism *Float `json:"optimism,omitempty" doc:"By how much the best of so many independent tries looks better than it is, on average, by luck alone: an upper estimate. Absent where it is not a share of examples"`
	Says     string `json:"says"`
}

// TestLook is what a run saw of a test split.
type TestLook struct {
	Run    string    `json:"run,omitempty"`
	Who    string    `json:"who,omitempty"`
	Curve  string    `json:"curve"`
	Looks  int64     `json:"looks"`
	Last   Float     `json:"last"`
	Best   Float     `json:"best" doc:"The highest of a share such as accuracy, the lowest of a loss"`
	Latest time.Time `json:"latest"`
}

// Item is an example of a snapshot.
type Item struct {
	Row    int64                      `json:"row" doc:"Its place in the snapshot, in the order of keys, from 0"`
	Key    string                     `json:"key"`
	Digest string                     `json:"digest,omitempty"`
	Size   int64                      `json:"size"`
	Split  string                     `json:"split,omitempty"`
	Group  string                     `json:"group,omitempty"`
	Labels []string                   `json:"labels,omitempty"`
	Target *Float                     `json:"target,omitempty" doc:"A label that is a number"`
	Found  []string                   `json:"found,omitempty" doc:"What is wrong with it"`
	Kept   bool                       `json:"kept,omitempty" doc:"Its bytes are in the store"`
	Own    map[string]json.RawMessage `json:"own,omitempty" doc:"Columns of the team's own"`
}

// DatasetInput names a dataset.
type DatasetInput struct {
	Dataset string `path:"dataset" maxLength:"40" example:"hydrophone"`
}

// SnapshotInput names a snapshot.
type SnapshotInput struct {
	DatasetInput
	Number int `path:"number" minimum:"0" maximum:"2147483647" doc:"0: the latest"`
}

// SnapshotsInput lists the snapshots of a dataset.
type SnapshotsInput struct {
	DatasetInput
	PageInput
}

// ItemsInput asks for items of a snapshot.
type ItemsInput struct {
	SnapshotInput
	Where  string `query:"where" maxLength:"4000" doc:"Only items that fulfil this, such as split == \"val\" && \"same-group\" in found (docs/data.md)"`
	From   int64  `query:"from" minimum:"0" maximum:"20000000" doc:"Row from which on they are listed: 0, or next of the answer before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Counts bool   `query:"counts" doc:"Also count all that fulfil the condition: it reads all of the snapshot"`
}

// Items are some items of a snapshot.
type Items struct {
	Items []Item `json:"items"`
	Next  *int64 `json:"next,omitempty" doc:"Row to go on from; absent at the end"`
	Count *int64 `json:"count,omitempty" doc:"Of all that fulfil the condition, where that was asked for"`
}

// ItemInput names an item.
type ItemInput struct {
	SnapshotInput
	Row int64 `path:"row" minimum:"0" maximum:"20000000"`
}

// ItemsFileInput asks for the items as a table.
type ItemsFileInput struct {
	SnapshotInput
	Where  string `query:"where" maxLength:"4000"`
	Format string `query:"format" enum:"csv,jsonl,parquet" default:"csv"`
}

// DifferenceInput asks how a snapshot differs from another.
type SnapshotDifferenceInput struct {
	SnapshotInput
	From int `query:"from" minimum:"0" maximum:"2147483647" doc:"Number of the other; 0: the one before"`
}

// SnapshotDifference says how one snapshot differs from an earlier one.
type SnapshotDifference struct {
	From string `json:"from"`
	To   string `json:"to"`
	Says string `json:"says"`
	*dataset.ItemChanges
}

// NewDraft begins a snapshot. Sent again with the same key it answers the same one.
type NewDraft struct {
	DatasetInput
	Key  string `header:"Idempotency-Key" format:"uuid" required:"true"`
	Body struct {
		Columns []dataset.OwnColumn `json:"columns,omitempty" maxItems:"200" doc:"Of the team's own"`
		Rows    bool                `json:"rows,omitempty"`
		Source  SnapshotSource      `json:"source"`
		Base    int                 `json:"base,omitempty" minimum:"0" maximum:"2147483647" doc:"Number of the snapshot that it is changed from"`
		Sets    *dataset.Sets       `json:"sets,omitempty" doc:"The blocks hold changes of base only: what they set in its items. Absent: they hold all items"`
	}
}

// Draft is a snapshot that is being made, in blocks of items.
type Draft struct {
	ID       string `json:"id"`
	Dataset  string `json:"dataset"`
	Blocks   int    `json:"blocks" doc:"That are here; blocks are numbered from 1 and may come in any order"`
	Items    int64  `json:"items"`
	Snapshot string `json:"snapshot,omitempty" doc:"What became of it"`
}

// DraftInput names a draft.
type DraftInput struct {
	DatasetInput
	Draft string `path:"draft" format:"uuid"`
}

// BlockInput brings a block of items: as docs/data.md says in binary, or as JSON Lines.
type BlockInput struct {
	DraftInput
	Block   int    `path:"block" minimum:"1" maximum:"100000"`
	Type    string `header:"Content-Type"`
	RawBody []byte `contentType:"application/octet-stream"`
}

// CommitInput makes a snapshot of a draft.
type CommitInput struct {
	DraftInput
	Body struct {
		Blocks int   `json:"blocks" minimum:"1" doc:"How many there are; all must be here"`
		Items  int64 `json:"items" minimum:"1" doc:"How many items they hold"`
	}
}

// DataUse says what a run uses for something: a snapshot that it names, or items whose fingerprints it tells.
type DataUse struct {
	Use     string `json:"use" pattern:"^[a-z0-9][a-z0-9_.-]{0,49}$" example:"val" doc:"train, val, test or the team's own"`
	Asked   string `json:"asked,omitempty" maxLength:"200" example:"hydrophone#3:val" doc:"As the program named it; or the dataset alone, whose snapshots are looked at first"`
	Items   int64  `json:"items,omitempty" minimum:"0" doc:"Handed over by the program"`
	Keys    string `json:"keys,omitempty" maxLength:"80" doc:"Fingerprint of their keys (docs/data.md)"`
	Digests string `json:"digests,omitempty" maxLength:"80" doc:"Of their digests"`
	Pairs   string `json:"pairs,omitempty" maxLength:"80" doc:"Of both"`
}

// DataUseInput says what a run uses for something, in place of what was said of that before.
type DataUseInput struct {
	RunInput
	Leg  int `query:"leg" minimum:"0" maximum:"100000" doc:"Whose program says it"`
	Body DataUse
}

// UsedData is what a run used for something.
type UsedData struct {
	Use     string `json:"use" example:"val"`
	Data    string `json:"data,omitempty" example:"hydrophone#3:val" doc:"The snapshot and split; absent: none that is known"`
	Asked   string `json:"asked,omitempty" doc:"As the program named it"`
	Items   int64  `json:"items,omitempty" doc:"Handed over by the program, or of the split"`
	Leaking int64  `json:"leaking,omitempty" doc:"Of these, items that another split of the snapshot has too"`
	Says    string `json:"says"`
}

var (
	datasetName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	splitName   = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]{0,49}$`)
)

// CheckDatasetName says what is wrong with the name of a dataset, or nil.
func CheckDatasetName(name string) error {
	if !datasetName.MatchString(name) {
		return fmt.Errorf("a dataset cannot be called %.60q: 1 to 40 lower-case letters, digits and -, the first a letter", name)
	}
	return nil
}

// CheckUse says what is wrong with a name of what data is used for, or nil.
func CheckUse(use string) error {
	if !splitName.MatchString(use) {
		return fmt.Errorf("%.60q is nothing that data is used for: train, val, test, or a name of your own in lower case", use)
	}
	return nil
}

// DataAddress names a dataset, a snapshot (hydrophone#3), or a split of one (hydrophone#3:val). Number 0 is the latest.
type DataAddress struct {
	Dataset string
	Number  int
	Split   string
}

// ParseData reads an address of data.
func ParseData(text string) (DataAddress, error) {
	rest, split, hasSplit := strings.Cut(text, ":")
	name, number, hasNumber := strings.Cut(rest, "#")
	out := DataAddress{Dataset: name, Split: split}
	err := CheckDatasetName(name)
	if hasNumber {
		n, wrong := strconv.ParseInt(number, 10, 32)
		if out.Number = int(n); wrong != nil || n < 1 {
			err = fmt.Errorf("%.60q is no number of a snapshot", number)
		}
	}
	if hasSplit && !splitName.MatchString(split) {
		err = fmt.Errorf("%.60q is no name of a split", split)
	}
	if err != nil {
		return out, fmt.Errorf("%.100q is no address of data, such as hydrophone#3 or hydrophone#3:val: %w", text, err)
	}
	return out, nil
}

// String writes the address.
func (a DataAddress) String() string {
	text := a.Dataset
	if a.Number > 0 {
		text += "#" + strconv.Itoa(a.Number)
	}
	if a.Split != "" {
		text += ":" + a.Split
	}
	return text
}

// The operations on datasets.
var (
	ListDatasets = declare[PageInput, Page[Dataset]](Spec{ID: "datasets", Method: "GET", Path: "/datasets",
		Summary: "List datasets by name", Access: Reader, Anywhere: true})
	ListSnapshots = declare[SnapshotsInput, Page[Snapshot]](Spec{ID: "snapshots", Method: "GET",
		Path: "/datasets/{dataset}/snapshots", Summary: "List the snapshots of a dataset, newest first",
		Access: Reader, Anywhere: true})
	GetSnapshot = declare[SnapshotInput, Snapshot](Spec{ID: "snapshot", Method: "GET",
		Path: "/datasets/{dataset}/snapshots/{number}", Summary: "Show a snapshot with the answers to its questions",
		Access: Reader, Anywhere: true})
	ListItems = declare[ItemsInput, Items](Spec{ID: "items", Method: "GET",
		Path: "/datasets/{dataset}/snapshots/{number}/items", Summary: "List items of a snapshot by key",
		Access: Reader, Anywhere: true})
	GetItemsFile = declare[ItemsFileInput, None](Spec{ID: "items-file", Method: "GET",
		Path: "/datasets/{dataset}/snapshots/{number}/items/file", Summary: "Export items of a snapshot as a table",
		Access: Reader, Anywhere: true, Status: 200, Long: true,
		Media: tables})
	GetItemBytes = declare[ItemInput, None](Spec{ID: "item-bytes", Method: "GET",
		Path: "/datasets/{dataset}/snapshots/{number}/items/{row}/bytes", Summary: "Download the bytes of an item that are kept",
		Access: Reader, Anywhere: true, Status: 200,
		Media: files, Parts: true})
	GetSnapshotDifference = declare[SnapshotDifferenceInput, SnapshotDifference](Spec{ID: "snapshot-difference",
		Method: "GET", Path: "/datasets/{dataset}/snapshots/{number}/difference",
		Summary: "Say how a snapshot differs from another", Access: Reader, Anywhere: true, Long: true})
	BeginDraft = declare[NewDraft, Draft](Spec{ID: "begin-draft", Method: "POST", Path: "/datasets/{dataset}/drafts",
		Summary: "Begin a snapshot", Access: Recorder, Anywhere: true, Status: 201})
	GetDraft = declare[DraftInput, Draft](Spec{ID: "draft", Method: "GET", Path: "/datasets/{dataset}/drafts/{draft}",
		Summary: "Say how far a snapshot is that is being made", Access: Recorder, Anywhere: true})
	PutBlock = declare[BlockInput, Draft](Spec{ID: "put-block", Method: "PUT",
		Path: "/datasets/{dataset}/drafts/{draft}/blocks/{block}", Summary: "Send a block of items",
		Access: Recorder, Anywhere: true, Long: true, MaxBody: 8 << 20})
	CommitDraft = declare[CommitInput, Snapshot](Spec{ID: "commit-draft", Method: "POST",
		Path: "/datasets/{dataset}/drafts/{draft}/commit", Summary: "Make a snapshot of the blocks that were sent",
		Access: Recorder, Anywhere: true, Long: true})
)
