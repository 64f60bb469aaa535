package bounded_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/bounded"
)

// through reads to the end.
func through(text string) error {
	x := bounded.NewXML(strings.NewReader(text))
	for {
		if _, err := x.Token(); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

func TestXMLWithinTheBoundsIsReadAndBeyondThemNot(t *testing.T) {
	deep := func(n int) string { return strings.Repeat("<a>", n) + strings.Repeat("</a>", n) }
	wide := func(n int) string { return "<a" + strings.Repeat(` b=""`, n) + "/>" }
	assert.NoError(t, through(deep(bounded.MaxDepth)))
	assert.ErrorIs(t, through(deep(bounded.MaxDepth+1)), bounded.ErrTooDeep)
	assert.NoError(t, through(strings.Repeat("<a><b/></a>", 1)+strings.Repeat("<c/>", 200_000)), "many tokens are no long ones")
	assert.NoError(t, through(wide(1000)))
	assert.ErrorIs(t, through(wide(1_000_000)), bounded.ErrTooLong)
	assert.ErrorIs(t, through("<a>"+strings.Repeat("text ", 1_000_000)+"</a>"), bounded.ErrTooLong)
}

func archive(t *testing.T, entries int) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := range entries {
		_, err := z.CreateRaw(&zip.FileHeader{Name: fmt.Sprint(i)})
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestAnArchiveOfTooManyEntriesIsNotOpened(t *testing.T) {
	few, many := archive(t, 3000), archive(t, 190_000)
	z, err := bounded.Zip(bytes.NewReader(few), int64(len(few)))
	require.NoError(t, err)
	assert.Len(t, z.File, 3000)
	_, err = bounded.Zip(bytes.NewReader(many), int64(len(many)))
	assert.ErrorIs(t, err, bounded.ErrTooMany)
	assert.True(t, bounded.Beyond(err))
	_, err = bounded.Zip(strings.NewReader("no archive"), 10)
	assert.False(t, bounded.Beyond(err))
}
