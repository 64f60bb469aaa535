package source

import "errors"

// ErrUnknownKind says that a kind of source is not registered.
var ErrUnknownKind = errors.New("unknown kind of source")
