// Package e2e holds the tests that need the program as it is shipped: the built binary as a process that can be killed,
// the built console in a real browser, and trashes that a desktop's own tool has filled.
package e2e
