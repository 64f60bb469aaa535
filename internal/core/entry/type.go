package entry

// Type is the type of a file-system entry.
type Type string

// The types.
const (
	File   Type = "file"
	Folder Type = "folder"
	Link   Type = "link"
	Other  Type = "other" // devices, sockets, pipes
)
