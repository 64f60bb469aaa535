package apart_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/apart"
)

// A content that takes a child over can have it say whatever it likes. The service holds no more of it than it has use for, and ends what
// the child began.
func TestWhatATakenOverChildSaysIsBounded(t *testing.T) {
	left, values := filepath.Join(t.TempDir(), "left"), filepath.Join(t.TempDir(), "values")
	answer := []byte(`{"value":{"Lines":[""` + strings.Repeat(`,""`, 15_000_000) + `]}}`)
	require.NoError(t, os.WriteFile(values, append(binary.BigEndian.AppendUint32([]byte("d"), uint32(len(answer))), answer...), 0o644))
	for name, script := range map[string]string{
		"output without end":    `while :; do printf 'o\000\020\000\000'; head -c 1048576 /dev/zero; done`,
		"a frame of 4 GiB":      `printf 'd\377\377\377\377'; cat /dev/zero`,
		"many values":           "cat " + values,
		"a question elsewhere":  `printf 'r\000\000\000\015\007\000\000\000\000\000\000\000\000\000\000\000\001'; sleep 600`,
		"what is no frame":      `echo hello`,
		"something it leaves":   fmt.Sprintf(`(sleep 3; echo still here >%s) & printf 'x\000\000\000\000'`, left),
		"an answer of nonsense": `printf 'd\000\000\000\011{"value":'; sleep 600`,
	} {
		t.Run(name, func(t *testing.T) {
			program := filepath.Join(t.TempDir(), "child")
			require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"+script), 0o755))
			defer apart.Instead(program)()
			p := &apart.Pool{}
			defer p.Close()
			began := time.Now()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			var drawn bytes.Buffer
			content := apart.Input{Name: "x", ReaderAt: strings.NewReader("x"), Size: 1}
			look, err := p.Look(t.Context(), content)
			assert.Error(t, err)
			assert.Empty(t, look.Lines)
			_ = p.Draw(t.Context(), content, &drawn)
			runtime.ReadMemStats(&after)
			assert.LessOrEqual(t, drawn.Len(), 48<<20)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(768<<20), "what was ever asked for")
			assert.Less(t, time.Since(began), time.Minute)
		})
	}
	time.Sleep(4 * time.Second)
	assert.NoFileExists(t, left)
}
