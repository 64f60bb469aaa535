//go:build !cgo

package apart

// smallThreads has nothing to do where Go itself makes the threads, which are small.
func smallThreads() error { return nil }
