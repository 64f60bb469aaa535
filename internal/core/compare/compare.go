// Package compare says how two contents differ, in the terms of what they are: text by line, documents by paragraph,
// tables by cell, pictures by region, archives and folders by listing, anything else by its first differing byte.
package compare

import (
	"io"
	"slices"
	"strings"

	"humble-rewind/internal/core/document"
	"humble-rewind/internal/core/peek"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/remark"
)

// By says in what terms two contents are compared.
type By string

// The terms.
const (
	Nothing    By = "nothing" // they are equal
	Lines      By = "lines"
	Paragraphs By = "paragraphs"
	Cells      By = "cells"
	Pictures   By = "pictures"
	Listing    By = "listing"
	Bytes      By = "bytes"
)

// Side is one of the two contents.
type Side struct {
	Name    string // with its extension, which tells separated values from other text
	Content io.ReaderAt
	Size    int64
}

// Comparison is how two contents differ, the first being the older.
type Comparison struct {
	By        By
	Summary   remark.Remark
	Blocks    []Block
	Cells     []Cell
	Picture   *Picture
	Entries   []Entry
	Differs   int64 // offset of the first differing byte; -1 where one is the beginning of the other
	Cut       bool  // there is more than is shown
	Notes     []remark.Remark
	Added     int
	Removed   int
	Changed   int
	LeftType  string // media types by content
	RightType string
}

// What is compared and answered at most.
const (
	maxTextBytes = 8 << 20
	maxLines     = 60_000
	maxBlocks    = 2000
	maxShown     = 1 << 20 // bytes of lines
	maxCells     = 5000
	maxEntries   = 5000
	context      = 3 // unchanged lines around a change
	maxLine      = 4000
)

// Of compares two files. An error is one of reading; content that makes no sense is compared byte by byte.
func Of(left, right Side) (Comparison, error) {
	c := Comparison{Differs: -1}
	same, at, err := firstDifference(left, right)
	if err != nil {
		return c, err
	}
	l, err := peek.Look(left.Content, left.Size)
	if err != nil {
		return c, err
	}
	r, err := peek.Look(right.Content, right.Size)
	if err != nil {
		return c, err
	}
	c.LeftType, c.RightType = l.MediaType, r.MediaType
	if same {
		c.By, c.Summary = Nothing, remark.New("same-bytes")
		return c, nil
	}
	c.Differs = at
	for _, try := range []func(Side, Side, *Comparison) bool{c.documents, c.pictures, c.archives, c.texts} {
		if try(left, right, &c) {
			return c, nil
		}
	}
	c.By = Bytes
	c.Summary = remark.New("bytes-differ", "first", left.Size, "second", right.Size, "at", at)
	if at < 0 || at >= min(left.Size, right.Size) {
		code := "first-begins"
		if right.Size < left.Size {
			code = "second-begins"
		}
		c.Summary = remark.New(code, "first", left.Size, "second", right.Size)
	}
	if c.LeftType != c.RightType {
		c.note("types-differ", "first", c.LeftType, "second", c.RightType)
	}
	return c, nil
}

func firstDifference(left, right Side) (same bool, at int64, err error) {
	const step = 256 << 10
	a, b := make([]byte, step), make([]byte, step)
	for off := int64(0); ; off += step {
		n, errA := left.Content.ReadAt(a[:min(step, max(0, left.Size-off))], off)
		m, errB := right.Content.ReadAt(b[:min(step, max(0, right.Size-off))], off)
		if errA != nil && errA != io.EOF {
			return false, 0, errA
		}
		if errB != nil && errB != io.EOF {
			return false, 0, errB
		}
		for i := range min(n, m) {
			if a[i] != b[i] {
				return false, off + int64(i), nil
			}
		}
		if n != m {
			return false, off + int64(min(n, m)), nil
		}
		if n < step {
			return true, -1, nil
		}
	}
}

func (*Comparison) documents(left, right Side, c *Comparison) bool {
	l, errL := read(left, c.LeftType)
	r, errR := read(right, c.RightType)
	if errL != nil || errR != nil {
		for i, err := range []error{errL, errR} {
			if document.Damaged(err) {
				c.note([2]string{"first-unread", "second-unread"}[i], "why", err.Error())
			}
		}
		return false
	}
	c.Cut = l.Cut || r.Cut
	switch {
	case l.Sheets != nil && r.Sheets != nil:
		c.cells(l, r)
	case l.Sheets == nil && r.Sheets == nil:
		c.By = Paragraphs
		c.lines(l.Paragraphs, r.Paragraphs)
		c.summarize("paragraph")
	default:
		return false
	}
	return true
}

func read(s Side, mediaType string) (document.Document, error) {
	if !slices.ContainsFunc([]string{"zip", "opendocument", "sqlite"}, func(s string) bool { return strings.Contains(mediaType, s) }) {
		if ext := strings.ToLower(s.Name[strings.LastIndexByte(s.Name, '.')+1:]); ext == "csv" || ext == "tsv" {
			text, ok := peek.WholeText(s.Content, min(s.Size, maxTextBytes))
			if !ok {
				return document.Document{}, document.ErrUnknown
			}
			return document.ReadCSV(text)
		}
		return document.Document{}, document.ErrUnknown
	}
	return document.Read(s.Content, s.Size)
}

func (*Comparison) texts(left, right Side, c *Comparison) bool {
	l, okL := peek.WholeText(left.Content, min(left.Size, maxTextBytes))
	r, okR := peek.WholeText(right.Content, min(right.Size, maxTextBytes))
	if !okL || !okR {
		return false
	}
	c.By = Lines
	c.Cut = left.Size > maxTextBytes || right.Size > maxTextBytes
	c.lines(splitLines(l, &c.Cut), splitLines(r, &c.Cut))
	if c.Added+c.Removed+c.Changed == 0 {
		c.note("lines-equal")
	}
	c.summarize("line")
	return true
}

func splitLines(text string, cut *bool) []string {
	var all []string
	for line := range strings.Lines(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)) {
		if len(all) == maxLines {
			*cut = true
			break
		}
		all = append(all, strings.TrimSuffix(line, "\n"))
	}
	return all
}

// summarize tells the counts of what differs: lines, paragraphs or cells.
func (c *Comparison) summarize(what string) {
	var counts remark.Remark
	for _, n := range []struct {
		n    int
		says remark.Remark
	}{
		{c.Removed, remark.New("only-first-"+what, "n", c.Removed)}, {c.Added, remark.New("only-second-"+what, "n", c.Added)},
		{c.Changed, remark.New("changed-"+what, "n", c.Changed)},
	} {
		switch {
		case n.n == 0:
		case counts.Any():
			counts = remark.New("counted-too", "count", n.says, "counts", counts)
		default:
			counts = n.says
		}
	}
	if c.Summary = remark.New("no-" + what); counts.Any() {
		c.Summary = remark.New("counts", "counts", counts)
	}
}

// note adds to what is to be known besides.
func (c *Comparison) note(code string, pairs ...any) {
	c.Notes = append(c.Notes, remark.New(code, pairs...))
}

// Entry is something that two listings do not have in common.
type Entry struct {
	Path        string // readable
	Change      string // "added", "removed" or "changed"
	Left, Right int64  // sizes in bytes; negative where it is not there
}

// Listed is an entry of a folder or an archive.
type Listed struct {
	Size int64
	Mark string // tells changed content from unchanged
}

// OfListings compares two folders or archives by what is in them, by path.
func OfListings(left, right map[string]Listed) Comparison {
	c := Comparison{By: Listing, Differs: -1}
	add := func(e Entry) {
		if len(c.Entries) == maxEntries {
			c.Cut = true
			return
		}
		e.Path = place.Readable(e.Path)
		c.Entries = append(c.Entries, e)
	}
	for _, path := range sortedKeys(left, right) {
		l, inLeft := left[path]
		r, inRight := right[path]
		switch {
		case !inRight:
			c.Removed++
			add(Entry{path, "removed", l.Size, -1})
		case !inLeft:
			c.Added++
			add(Entry{path, "added", -1, r.Size})
		case l != r:
			c.Changed++
			add(Entry{path, "changed", l.Size, r.Size})
		}
	}
	c.summarize("entry")
	return c
}
