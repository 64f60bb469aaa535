package apart_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
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

// takenOver is a pool whose children do what a script says, until the test ends.
func takenOver(t *testing.T, script string) *apart.Pool {
	program := filepath.Join(t.TempDir(), "child")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\n"+script), 0o755))
	t.Cleanup(apart.Instead(program))
	return pool(t)
}

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
			p := takenOver(t, script)
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

// What unpacks a stream may be taken over by it as well. Whoever reads the stream gets what he asks for and no more, and an end.
func TestAStreamThatTakesItsChildOverIsBounded(t *testing.T) {
	for name, script := range map[string]string{
		"a frame larger than any":      `printf 'o\000\377\377\377'; cat /dev/zero`,
		"output of nothing":            `while :; do printf 'o\000\000\000\000'; done`,
		"questions after the last":     `while :; do printf 'r\000\000\000\000'; done`,
		"a look instead":               `printf 'p\000\000\000\001x'; sleep 600`,
		"an answer of nonsense":        `printf 'd\000\000\000\003{"v'; sleep 600`,
		"words that act in a terminal": `printf 'd\000\000\000\044{"failure":"failed","error":"\\u001b[2J"}'`,
		"its end":                      `exit 0`,
	} {
		t.Run(name, func(t *testing.T) {
			p := takenOver(t, script)
			began := time.Now()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			s, err := p.Unpack(t.Context(), "gzip", strings.NewReader("oak"))
			if err == nil {
				var n int64
				n, err = io.Copy(io.Discard, s)
				assert.Zero(t, n)
				require.NoError(t, s.Close())
			}
			require.Error(t, err)
			assert.NotContains(t, err.Error(), "\x1b")
			runtime.ReadMemStats(&after)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20))
			assert.Less(t, time.Since(began), time.Minute)
		})
	}
	// One that goes on for ever is read as far as anybody wants to.
	p := takenOver(t, `while :; do printf 'o\000\000\020\000'; head -c 4096 /dev/zero; done`)
	s, err := p.Unpack(t.Context(), "gzip", strings.NewReader("oak"))
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, s, 100_000)
	require.NoError(t, err)
	require.NoError(t, s.Close(), "closing it gives up soon")
}
