// Package archived takes the structure of archives apart: which members a zip (APPNOTE 6.3) or a tar (POSIX 1003.1-2001 pax, GNU) says that it has.
// Whoever packed an archive may have meant harm, so it is read where that harms nobody, see package apart; what it says is told as values.
package archived

import (
	"context"
	"fmt"
	"io"

	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/problem"
)

// Kind is what a member is.
type Kind byte

// The kinds.
const (
	File Kind = iota + 1
	Folder
	Link
	Second // another name of a member before it (a hard link)
	Holes  // a file without its holes, so that its bytes do not lie in one piece
	Device // or a pipe, or a socket
	None   // nothing of its own, such as a head for all
)

// Head is what an archive says of a member.
type Head struct {
	Name    string        `cbor:"1,keyasint"`
	Kind    Kind          `cbor:"2,keyasint"`
	Size    int64         `cbor:"3,keyasint,omitempty"` // bytes; negative where what is said makes no sense
	Written entry.Instant `cbor:"4,keyasint,omitempty"`
	// Zoned says that Written is a moment; else it is what a wall clock said, as if in UTC.
	Zoned  bool   `cbor:"5,keyasint,omitempty"`
	Target string `cbor:"6,keyasint,omitempty"` // of a link
	// At is where the member's content begins; of a zip with a directory where its own head does.
	At int64 `cbor:"7,keyasint,omitempty"`

	// Of a zip.
	Packed      int64  `cbor:"8,keyasint,omitempty"` // bytes
	Method      uint16 `cbor:"9,keyasint,omitempty"`
	Flags       uint16 `cbor:"10,keyasint,omitempty"`
	CRC32       uint32 `cbor:"11,keyasint,omitempty"`
	Clock       uint16 `cbor:"12,keyasint,omitempty"` // its write time of day, as MS-DOS has it
	Cryptic     []byte `cbor:"13,keyasint,omitempty"` // how it is encrypted by AES: what its extra field 0x9901 holds
	NotUTF8     bool   `cbor:"14,keyasint,omitempty"` // its name is in some code page
	Backslashes bool   `cbor:"15,keyasint,omitempty"` // it was packed where names are parted by those
}

// Told is what there is to say of an archive once its members were told.
type Told struct {
	Length int64  `json:"length,omitempty"` // of a tar that was packed as one stream: its bytes
	Lost   bool   `json:"lost,omitempty"`   // of a zip: its directory is missing, and the heads before its members were read
	Why    string `json:"why,omitempty"`    // why it was not read to its end; "" where it was
}

// ErrDamaged says that an archive is not as it was packed.
var ErrDamaged = fmt.Errorf("the archive is damaged there: %w", problem.Broken)

// ErrTooMany says that an archive has more members than are read of any, or longer names.
var ErrTooMany = fmt.Errorf("it has more than %d members, or names that take more than %d MiB, which is more than is read of any archive: %w",
	MaxMembers, MaxHeld>>20, problem.TooLarge)

// What is unpacked as one stream may be many times as large as what it is packed into, but what is packed to do harm is more.
const (
	PackedBy  = 1000
	PackedFew = 4 << 30 // bytes that are unpacked of any
)

// ErrBomb says that unpacking was given up.
var ErrBomb = fmt.Errorf("it unpacks to more than %d times its size and %d GiB, as no archive of real files does: %w",
	PackedBy, PackedFew>>30, problem.TooLarge)

// How much is read of any archive.
const (
	MaxMembers = 200_000
	MaxHeld    = 72 << 20 // bytes of what is known of members
)

// until reads until whoever asked does not want to know any more.
func until(ctx context.Context, r io.Reader) io.Reader { return untilReader{ctx, r} }

type untilReader struct {
	ctx context.Context
	io.Reader
}

func (u untilReader) Read(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.Reader.Read(p)
}
