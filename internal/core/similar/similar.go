// Package similar tells how much two contents have in common, so that a file that was renamed and worked on between two
// looks can be known again.
package similar

import (
	"bytes"
	"compress/gzip"
	"hash/maphash"
	"io"
	"strings"

	"humble-rewind/internal/core/document"
	"humble-rewind/internal/core/pdf"
	"humble-rewind/internal/core/peek"
)

// MaxSize is the largest content that is compared, in bytes.
const MaxSize = 8 << 20

// Near is the share from which on two contents count as near-identical.
const Near = 0.6

// Of returns the share, from 0 to 1, of the larger content's pieces that the other has too: of words, and words in a row, where both are
// documents or text, of blocks of pixels where both are pictures, else of runs of bytes. Contents that are empty, too large or cannot
// be read have nothing in common.
func Of(a io.ReaderAt, sizeA int64, b io.ReaderAt, sizeB int64) float64 {
	ofA, ofB := Shares(a, sizeA, b, sizeB)
	return min(ofA, ofB)
}

// Shares returns which share of each content's pieces the other has too, see [Of].
func Shares(a io.ReaderAt, sizeA int64, b io.ReaderAt, sizeB int64) (ofA, ofB float64) {
	if sizeA == 0 || sizeB == 0 || sizeA > MaxSize || sizeB > MaxSize {
		return 0, 0
	}
	piecesA, kindA := pieces(a, sizeA)
	piecesB, kindB := pieces(b, sizeB)
	if kindA != kindB || len(piecesA) == 0 || len(piecesB) == 0 {
		return 0, 0
	}
	count := map[uint64]int{}
	for _, p := range piecesA {
		count[p]++
	}
	common := 0
	for _, p := range piecesB {
		if count[p] > 0 {
			count[p]--
			common++
		}
	}
	return float64(common) / float64(len(piecesA)), float64(common) / float64(len(piecesB))
}

type kind int

const (
	words kind = iota
	runs
	pixels
)

var seed = maphash.MakeSeed()

// maxUnpacked bounds what a compressed content is unpacked to, in bytes.
const maxUnpacked = MaxSize

// unpacked returns what is packed in a gzip file (RFC 1952), or what is on the pages of a PDF: of two compressed contents not a
// byte need be the same, however little was changed. Whatever is neither, or is damaged, is returned as it is.
func unpacked(r io.ReaderAt, size int64) (io.ReaderAt, int64) {
	if z, err := gzip.NewReader(io.NewSectionReader(r, 0, size)); err == nil {
		if content, err := io.ReadAll(io.LimitReader(z, maxUnpacked)); err == nil {
			return bytes.NewReader(content), int64(len(content))
		}
		return r, size
	}
	mark := make([]byte, 5)
	if n, _ := r.ReadAt(mark, 0); !pdf.Is(mark[:n]) {
		return r, size
	}
	content := make([]byte, size)
	if _, err := io.ReadFull(io.NewSectionReader(r, 0, size), content); err != nil || pdf.Encrypted(content) {
		return r, size
	}
	if pages := pdf.Pages(content, maxUnpacked); len(bytes.TrimSpace(pages)) > 0 {
		if _, written := pdf.Split(pages); len(bytes.TrimSpace(written)) > 0 {
			pages = written // how it is laid out is much the same on all pages
		}
		return bytes.NewReader(pages), int64(len(pages))
	}
	return r, size
}

// pieces cuts a content into what is compared.
func pieces(r io.ReaderAt, size int64) (all []uint64, _ kind) {
	if drawn := blocks(r, size); len(drawn) > 0 {
		return drawn, pixels
	}
	r, size = unpacked(r, size)
	text, isText := peek.WholeText(r, size)
	if d, err := document.Read(r, size); err == nil {
		text, isText = d.Text(), true
	}
	if isText {
		return byWords(text), words
	}
	content := make([]byte, size)
	if _, err := r.ReadAt(content, 0); err != nil && err != io.EOF {
		return nil, runs
	}
	return byContent(content), runs
}

// byWords takes the words of a text, and each with the one before it: two texts of one trade share many words, but seldom two in a row.
func byWords(text string) (all []uint64) {
	var before uint64
	for word := range strings.FieldsSeq(text) {
		this := maphash.String(seed, word)
		all = append(all, this)
		if before != 0 {
			all = append(all, before*31+this)
		}
		before = this
	}
	return all
}

// byContent cuts bytes where a sum over the last 32 of them says so, so that what is put in or taken out shifts no cut
// further on.
func byContent(content []byte) (all []uint64) {
	const mask = 1<<8 - 1
	var sum uint32
	start := 0
	for i, c := range content {
		sum = sum<<1 + (uint32(c)+1)*2654435761 // what is older than 32 bytes has been shifted out
		if (sum>>20)&mask == 0 || i == len(content)-1 {
			all = append(all, maphash.Bytes(seed, content[start:i+1]))
			start = i + 1
		}
	}
	return all
}
