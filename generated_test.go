package humblerewind

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func readFile(name string) (string, error) {
	content, err := os.ReadFile(name)
	return string(content), err
}

// What is generated from the contract must be what the contract generates.
func TestGeneratedCodeMatchesTheContract(t *testing.T) {
	t.Run("Go server interface and client", func(t *testing.T) {
		out := filepath.Join(t.TempDir(), "api.gen.go")
		generate := exec.Command("go", "tool", "oapi-codegen", "-config", "codegen.yaml", "-o", out, "openapi.yaml")
		generate.Dir = "api"
		output, err := generate.CombinedOutput()
		require.NoError(t, err, string(output))
		compare(t, out, "api/api.gen.go")
	})
	t.Run("TypeScript types", func(t *testing.T) {
		if _, err := os.Stat("console/node_modules/.bin/openapi-typescript"); err != nil {
			t.Skip("the console's packages are not installed; make test installs them")
		}
		out := filepath.Join(t.TempDir(), "schema.d.ts")
		generate := exec.Command("node_modules/.bin/openapi-typescript", "../api/openapi.yaml", "-o", out)
		generate.Dir = "console"
		output, err := generate.CombinedOutput()
		require.NoError(t, err, string(output))
		compare(t, out, "console/src/api/schema.d.ts")
	})
}

func compare(t *testing.T, fresh, committed string) {
	want, err := readFile(fresh)
	require.NoError(t, err)
	have, err := readFile(committed)
	require.NoError(t, err)
	require.True(t, want == have, "%s has drifted from api/openapi.yaml; run make generate", committed)
}
