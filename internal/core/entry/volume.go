package entry

// Volume is a file system of a machine, as numbered since the machine's start. The zero Volume is unknown.
type Volume uint64

// Known tells whether it is told which file system that is.
func (v Volume) Known() bool { return v != 0 }
