package reach

import "time"

// Traits say what a way to a machine can tell and do, as data.
type Traits struct {
	Identity  bool          // an entry is known again by its Inode and Device
	Changed   bool          // when anything about an entry last changed
	Links     bool          // how many names a file has, and files can be given another
	Owners    bool          // whose an entry is, and that can be set
	Room      bool          // how much can still be written
	Random    bool          // files can be read at any offset
	Holes     bool          // where a file has no bytes of its own
	Clones    bool          // files can share their bytes, where the file system can
	RoundTrip time.Duration // that asking for anything takes, roughly; 0 on the service's own host
}
