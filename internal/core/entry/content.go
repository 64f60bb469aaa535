package entry

// ContentID names a content by what a store has to tell it from others, so that it need not be read to be known again. The zero
// ContentID is unknown.
type ContentID struct {
	Kind  ContentKind
	Value string // in the kind's usual notation
}

// ContentKind says what a ContentID is made of.
type ContentKind string

// The kinds. SHA256 and GitBlob name one content everywhere; an entity tag names one only in its store and place, and a checksum of
// 32 bits only makes two contents likely to be the same.
const (
	SHA256    ContentKind = "sha256"
	GitBlob   ContentKind = "git-blob"
	EntityTag ContentKind = "etag"
	CRC32Size ContentKind = "crc32+size"
)

// kinds are numbered in the binary form of a mark by where they stand here, from 1.
var kinds = []ContentKind{SHA256, GitBlob, EntityTag, CRC32Size}

// Names tells whether two equal ids of the kind are of one content, wherever they come from.
func (k ContentKind) Names() bool { return k == SHA256 || k == GitBlob }
