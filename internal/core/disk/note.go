package disk

// Trouble is what is wrong with what was read.
type Trouble string

// The troubles, with the values that a note of each has.
const (
	BackupTable      Trouble = "backup-table"      // the first partition table cannot be read
	PartitionEnds    Trouble = "partition-ends"    // before it begins: Number
	PartitionOutside Trouble = "partition-outside" // of the drive: Number
	PartitionCut     Trouble = "partition-cut"     // it goes on past the end of the drive: Number
	PartitionsOver   Trouble = "partitions-over"   // one another: Number, Other
	LogicalBroken    Trouble = "logical-broken"    // the chain of logical partitions
	LogicalMany      Trouble = "logical-many"      // more than Number
	LogicalLoop      Trouble = "logical-loop"
	FoldersMany      Trouble = "folders-many"  // more than Number
	FolderBroken     Trouble = "folder-broken" // where it goes on is not told: Folder
	FolderUnread     Trouble = "folder-unread" // some of it: Folder
	RootUnread       Trouble = "root-unread"   // the top folder
	NotUnmounted     Trouble = "not-unmounted" // its journal was not carried out
	EntriesMany      Trouble = "entries-many"  // more than Number
	PiecesMany       Trouble = "pieces-many"   // more than Number, so that nobody can tell which was written over which
	VolumeUnread     Trouble = "volume-unread" // a file system of the kind Folder that is known but not read, or cannot be
	VolumeOlder      Trouble = "volume-older"  // below the present one there was another, of the kind Folder
	NothingHere      Trouble = "nothing-here"  // no file system is recognised
)

// Note is one trouble.
type Note struct {
	_      struct{} `cbor:",toarray"`
	What   Trouble
	Folder string
	Number int64
	Other  int64
}
