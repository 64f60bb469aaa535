package clouddrive_test

import (
	"net/http/httptest"
	"os/exec"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/clouddrive"
)

// The public suite for WebDAV servers. What it asks of class 2 (locks) and of dead properties the drive does not offer.
func TestThePublicSuite(t *testing.T) {
	d, err := clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { d.Close() })
	require.NoError(t, d.Admit(t.Context(), "ines", "oak", time.Time{}))
	server := httptest.NewServer(d.Handler())
	t.Cleanup(server.Close)
	run := exec.CommandContext(t.Context(), "litmus", "-k", server.URL+clouddrive.FilesPath+"/", "ines", "oak")
	run.Env = append(run.Environ(), "TESTS=basic copymove http")
	run.Dir = t.TempDir()
	out, _ := run.CombinedOutput()
	for line := range strings.Lines(string(out)) {
		t.Log(strings.TrimSpace(line))
	}
	failed := regexp.MustCompile(`(?m)^\s*\d+\. (\w+)\.* FAIL`).FindAllStringSubmatch(string(out), -1)
	var names []string
	for _, f := range failed {
		names = append(names, f[1])
	}
	assert.Empty(t, names)
	assert.Contains(t, string(out), "summary for `copymove'")
}
