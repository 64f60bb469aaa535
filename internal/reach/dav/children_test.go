package dav_test

import (
	"os"
	"testing"

	"humble-rewind/internal/apart"
)

// children read what servers answer, as they do for the service.
var children apart.Pool

func TestMain(m *testing.M) {
	status := m.Run()
	children.Close()
	os.Exit(status)
}
