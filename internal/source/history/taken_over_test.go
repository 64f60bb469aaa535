package history_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

// instead puts a program in the place of git: what an object made to do harm might make of it.
func instead(t *testing.T, script string) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "git"), []byte("#!/bin/sh\n"+script), 0o755))
	for d := dir; d != "/"; d = filepath.Dir(d) { // which are open to nobody else
		if info, err := os.Stat(d); err == nil && info.Mode().Perm()&0o001 == 0 {
			require.NoError(t, os.Chmod(d, info.Mode().Perm()|0o011))
		}
	}
	t.Setenv("PATH", dir+":"+os.Getenv("PATH"))
}

// A child of git that is taken over reads what everybody may, writes nowhere, and is nobody.
func TestATakenOverGitGainsNothing(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("it needs a service that is root")
	}
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"keel.svg": "one"})
	src := r.add()
	real, err := exec.LookPath("git")
	require.NoError(t, err)
	closed := filepath.Join(t.TempDir(), "closed")
	require.NoError(t, os.WriteFile(closed, []byte("secret"), 0o600))
	said := filepath.Join(t.TempDir(), "said")
	require.NoError(t, os.WriteFile(said, nil, 0o666))
	require.NoError(t, os.Chmod(said, 0o666))
	instead(t, fmt.Sprintf(`
{ id -u; id -G; cat %[1]s; ls ..; ls "$(pwd)"; echo x > HEAD; echo x > objects/x; mv objects other; kill -0 $PPID; ulimit -d; ulimit -c; } >>%[2]s 2>&1
exec %[3]s "$@"`, closed, said, real))
	s.Survey(src)
	assert.Equal(t, "one@1h0m0s", r.told("keel.svg"), "and what it is for, it does")
	text, err := os.ReadFile(said)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(string(text), "65534\n65534\n"), string(text))
	assert.NotContains(t, string(text), "secret\n")
	assert.Equal(t, strings.Count(string(text), "65534\n65534\n")*7, strings.Count(string(text), "denied")+strings.Count(string(text), "not permitted"), string(text))
	assert.Contains(t, string(text), "262144\n0\n")
}

// Whatever it prints, it is given up with a bound on what is held and on what is waited for.
func TestATakenOverGitIsGivenUp(t *testing.T) {
	for name, script := range map[string]string{
		"an endless line":       `exec cat /dev/zero | tr '\0' x`,
		"endless empty fields":  `exec cat /dev/zero`,
		"endless commits":       `while :; do printf '\001%040d\0\0001\0001\0a\0a\0' 1; done`,
		"a commit without end":  `printf '\0011111111111111111111111111111111111111111\0\0001\0001\0a\0a\0'; while :; do printf ':100644 100644 %040d %040d M\0a\0' 1 2; done`,
		"endless errors":        `yes no >&2`,
		"what is no answer":     `echo hello; echo world`,
		"an object of 8 EiB":    `while read x; do echo "1111111111111111111111111111111111111111 blob 9223372036854775807"; done`,
		"nothing, and an error": `exit 9`,
	} {
		t.Run(name, func(t *testing.T) {
			s := sitetest.New(t)
			r := newRepository(t, s)
			r.commit("begun", map[string]string{"keel.svg": "one"})
			src := r.add()
			instead(t, script)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			most := heap(t)
			_, err := survey.Run(ctx, s.Site, src, time.Now(), survey.Following{})
			assert.Less(t, most(), uint64(160<<20))
			if assert.Error(t, err) {
				assert.NoError(t, ctx.Err(), "it was given up before anybody lost patience")
				assert.True(t, errors.Is(err, problem.Broken) || errors.Is(err, fs.ErrNotExist), err)
			}
		})
	}
}

// heap watches how much the program holds, in bytes, until it is asked.
func heap(t *testing.T) (most func() uint64) {
	var peak atomic.Uint64
	stop := make(chan struct{})
	t.Cleanup(func() { close(stop) })
	go func() {
		for {
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			peak.Store(max(peak.Load(), m.HeapInuse))
			select {
			case <-stop:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}()
	return peak.Load
}

// A mirror of an older version, in which nobody could look, is taken over with what it holds.
func TestAMirrorOfBeforeGoesOn(t *testing.T) {
	s := sitetest.New(t)
	r := newRepository(t, s)
	r.commit("begun", map[string]string{"keel.svg": "one"})
	src := r.add()
	s.Survey(src)
	mirrors, err := filepath.Glob(filepath.Join(s.Kept, "*", "mirror"))
	require.NoError(t, err)
	require.Len(t, mirrors, 1)
	folder, aside := filepath.Dir(mirrors[0]), filepath.Join(t.TempDir(), "aside")
	require.NoError(t, os.Rename(mirrors[0], aside))
	require.NoError(t, os.Remove(folder))
	require.NoError(t, os.Rename(aside, folder))
	require.NoError(t, filepath.WalkDir(folder, func(path string, _ fs.DirEntry, err error) error {
		return errors.Join(err, os.Chmod(path, 0o700))
	}))
	require.NoError(t, os.RemoveAll(r.dir))
	assert.Equal(t, "one@1h0m0s", r.told("keel.svg"))
}
