package condition

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
)

// What is well-formed stays so, and what is not stays that, wherever the pieces end that are read.
func TestWhetherXMLIsWellFormedSurvivesSqueezing(t *testing.T) {
	long := strings.Repeat("Larch on oak, plank 12 (of 40).\n", 40)
	for text, whole := range map[string]bool{
		"<a>" + long + "</a>":                   true,
		"<a b='>" + long + "'>" + long + "</a>": true,
		"<a>" + long + "&amp;" + long + "</a>":  true,
		"<a>" + long + "&lt</a>":                false,
		"<a>" + long + "& " + long + "</a>":     false,
		"<a>" + long:                            false,
		"<a>" + long + "</b>":                   false,
		"<!-- > " + long + "--><a/>":            true,
		"<!-- > " + long + "-- ><a/>":           false,
		"<a><![CDATA[ > " + long + "]]></a>":    true,
		"<a><![CDATA[ > " + long + "]] ></a>":   false,
		"<a>" + long + "]]>" + "</a>":           false,
		"<a>" + long + "\x01" + "</a>":          false,
		"<" + strings.Repeat("a", 90) + "></" + strings.Repeat("a", 89) + "b>":   false,
		"<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b '>'>]><a>" + long + "</a>": true,
	} {
		for _, r := range []func(io.Reader) io.Reader{func(r io.Reader) io.Reader { return r }, iotest.OneByteReader, iotest.HalfReader} {
			assert.Equal(t, whole, readXML(r(strings.NewReader(text))) == nil, "as it is: %.60q", text)
			assert.Equal(t, whole, readXML(&squeezed{r: r(strings.NewReader(text))}) == nil, "squeezed: %.60q", text)
		}
	}
	kept, err := io.ReadAll(&squeezed{r: strings.NewReader("<a>" + long + "</a>")})
	assert.NoError(t, err)
	assert.Len(t, kept, len("<a></a>")+plainRun)
}

// Any bytes are well-formed squeezed if and only if it is as it is.
func FuzzSqueeze(f *testing.F) {
	f.Add([]byte("<a b='c'>" + strings.Repeat("plank ", 9) + "<!-- x > y --></a>"))
	f.Fuzz(func(t *testing.T, content []byte) {
		if (readXML(bytes.NewReader(content)) == nil) != (readXML(&squeezed{r: bytes.NewReader(content)}) == nil) {
			t.Fatalf("%q", content)
		}
	})
}
