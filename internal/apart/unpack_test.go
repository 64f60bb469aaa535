package apart_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// squeezed is content packed by the program of a form.
func squeezed(t *testing.T, form string, content []byte, options ...string) []byte {
	c := exec.Command(form, append(options, "-c")...)
	c.Stdin = bytes.NewReader(content)
	packed, err := c.Output()
	require.NoError(t, err)
	return packed
}

// ledgers is text of some length that packs well, with what does not in between.
func ledgers(size int) []byte {
	random := rand.New(rand.NewPCG(7, 7))
	var b bytes.Buffer
	for b.Len() < size {
		b.Write(strconv.AppendInt([]byte("oak, planks for the tern's keel: "), int64(b.Len())*7919%1_000_003, 10))
		if random.IntN(20) == 0 {
			for range 200 {
				b.WriteByte(byte(random.Uint32()))
			}
		}
	}
	return b.Bytes()[:size]
}

func TestStreamsAreUnpackedInEachForm(t *testing.T) {
	p, content := pool(t), ledgers(3<<20)
	for _, form := range []string{"gzip", "bzip2", "xz", "zstd"} {
		t.Run(form, func(t *testing.T) {
			packed := squeezed(t, form, content)
			unpack := func(packed io.Reader) ([]byte, error) {
				s, err := p.Unpack(t.Context(), form, packed)
				require.NoError(t, err)
				defer func() { assert.NoError(t, s.Close()) }()
				return io.ReadAll(s)
			}
			for range 2 { // the second by a child that has done so before
				got, err := unpack(bytes.NewReader(packed))
				require.NoError(t, err)
				assert.True(t, bytes.Equal(content, got))
			}
			got, err := unpack(bytes.NewReader(packed[:len(packed)-len(packed)/4]))
			require.Error(t, err, "of one that was cut the end is missing")
			assert.NotEmpty(t, got, "what is there is read")
			assert.True(t, bytes.HasPrefix(content, got))
			_, err = unpack(bytes.NewReader(content))
			require.Error(t, err, "what is not packed")
			if _, err = unpack(bytes.NewReader(nil)); form != "zstd" { // in which nothing stands for nothing
				require.Error(t, err)
			}
			lost := errors.New("the connection is lost")
			_, err = unpack(io.MultiReader(bytes.NewReader(packed[:len(packed)/2]), iotest.ErrReader(lost)))
			require.ErrorIs(t, err, lost, "why it cannot be read is told")
			got, err = unpack(iotest.OneByteReader(bytes.NewReader(squeezed(t, form, []byte("ash")))))
			require.NoError(t, err, "all that fits after it all")
			assert.Equal(t, "ash", string(got))
		})
	}
}

// A window as wide as what is packed for archives is taken, one that only a file meant to do harm has is not.
func TestWhatUnpackingTakesIsBounded(t *testing.T) {
	p, content := pool(t), bytes.Repeat(ledgers(1<<20), 70)
	for _, c := range []struct {
		form, option string
		taken        bool
	}{
		{"xz", "--lzma2=preset=0,dict=64MiB", true}, {"zstd", "--long=26", true},
		{"xz", "--lzma2=preset=0,dict=1GiB", false}, {"zstd", "--long=30", false},
	} {
		s, err := p.Unpack(t.Context(), c.form, bytes.NewReader(squeezed(t, c.form, content, c.option)))
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, s)
		if c.taken {
			assert.NoError(t, err, "%s %s", c.form, c.option)
			assert.EqualValues(t, len(content), n)
		} else {
			assert.Error(t, err, "%s %s", c.form, c.option)
		}
		require.NoError(t, s.Close())
	}
}

// The runtime gives memory back by its own clock, for which it opens something when it first sets a timer: in a child that may open nothing that
// has to be open already, or the child ends in the midst of the stream after a large one.
func TestAChildThatGivesMemoryBackGoesOn(t *testing.T) {
	p, data := pool(t), bytes.Repeat(ledgers(1<<20), 50)
	packed := squeezed(t, "xz", data, "--lzma2=preset=0,dict=64MiB")
	for range 3 {
		s, err := p.Unpack(t.Context(), "xz", bytes.NewReader(packed))
		require.NoError(t, err)
		n, err := io.Copy(io.Discard, s)
		require.NoError(t, err)
		assert.EqualValues(t, len(data), n)
		require.NoError(t, s.Close())
	}
	clocks := 0
	for _, pid := range begun(t) {
		open, err := filepath.Glob("/proc/" + pid + "/fd/*")
		require.NoError(t, err)
		for _, fd := range open {
			if to, err := os.Readlink(fd); err == nil && to == "anon_inode:[eventpoll]" {
				clocks++
			}
		}
	}
	assert.Equal(t, 1, clocks, "of the one child that there is")

	_, err := p.Examine(t.Context(), content(data[:100]))
	require.NoError(t, err)
	require.Len(t, begun(t), 2)
	p.Rest()
	require.Eventually(t, func() bool { return len(begun(t)) == 0 }, time.Minute, 10*time.Millisecond, "whatever they did, they end")
}

// begun lists the processes that the test has begun, by their ids.
func begun(t *testing.T) (pids []string) {
	children, err := filepath.Glob("/proc/self/task/*/children")
	require.NoError(t, err)
	for _, of := range children {
		if list, err := os.ReadFile(of); err == nil { // else that thread has ended
			pids = append(pids, strings.Fields(string(list))...)
		}
	}
	return pids
}

// One that was killed while it had nothing to do is nobody's next child.
func TestAChildThatEndedMeanwhileIsNotAsked(t *testing.T) {
	p := pool(t)
	packed := squeezed(t, "gzip", []byte("oak"))
	for range 2 {
		s, err := p.Unpack(t.Context(), "gzip", bytes.NewReader(packed))
		require.NoError(t, err)
		got, err := io.ReadAll(s)
		require.NoError(t, err)
		assert.Equal(t, "oak", string(got))
		require.NoError(t, s.Close())
		for _, pid := range begun(t) {
			n, err := strconv.Atoi(pid)
			require.NoError(t, err)
			require.NoError(t, syscall.Kill(n, syscall.SIGKILL))
			require.Eventually(t, func() bool {
				stat, err := os.ReadFile("/proc/" + pid + "/stat")
				return err != nil || strings.Contains(string(stat), ") Z ")
			}, time.Minute, time.Millisecond)
		}
	}
}

// A stream that is left early, or whose reader has gone, gives its place to the next; and nothing is read of what is packed that nobody
// asked for.
func TestAStreamThatIsLeftTakesNobodysPlace(t *testing.T) {
	p := pool(t)
	packed := squeezed(t, "gzip", ledgers(20<<20))
	for range 40 { // more than there are at once
		left := bytes.NewReader(packed)
		s, err := p.Unpack(t.Context(), "gzip", left)
		require.NoError(t, err)
		_, err = io.CopyN(io.Discard, s, 1000)
		require.NoError(t, err)
		assert.Greater(t, left.Len(), len(packed)/2)
		require.NoError(t, s.Close())
		_, err = s.Read(make([]byte, 1))
		require.Error(t, err)
	}
	ctx, leave := context.WithCancel(t.Context())
	s, err := p.Unpack(ctx, "gzip", bytes.NewReader(packed))
	require.NoError(t, err)
	_, err = io.CopyN(io.Discard, s, 1000)
	require.NoError(t, err)
	leave()
	_, err = io.Copy(io.Discard, s)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, s.Close())

	// One that lies in another is unpacked while that is.
	outer, err := p.Unpack(t.Context(), "xz", bytes.NewReader(squeezed(t, "xz", packed)))
	require.NoError(t, err)
	inner, err := p.Unpack(t.Context(), "gzip", outer)
	require.NoError(t, err)
	n, err := io.Copy(io.Discard, inner)
	require.NoError(t, err)
	assert.EqualValues(t, 20<<20, n)
	require.NoError(t, errors.Join(inner.Close(), outer.Close()))
}
