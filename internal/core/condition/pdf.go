package condition

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"strconv"
	"strings"

	"humble-rewind/internal/core/pdf"
	"humble-rewind/internal/core/remark"
)

// pdf looks at the header, the end mark, where the cross-reference is said to be, of a table whether its entries point to
// objects, and at every stream (ISO 32000-1, 7.3.8 and 7.5).
func (e *examination) pdf() {
	e.pdfReference()
	if e.State == Sound && e.err == nil {
		e.pdfStreams()
	}
}

// pdfReference looks at what the file is found by.
func (e *examination) pdfReference() {
	const tail = 2048
	end := make([]byte, min(e.Size, tail))
	if _, err := e.r.ReadAt(end, e.Size-int64(len(end))); err != nil && !errors.Is(err, io.EOF) {
		return
	}
	if !bytes.Contains(end, []byte("%%EOF")) {
		e.broken("pdf-cut")
		return
	}
	i := bytes.LastIndex(end, []byte("startxref"))
	if i < 0 {
		e.broken("pdf-no-reference")
		return
	}
	fields := bytes.Fields(end[i+len("startxref"):])
	at, err := int64(-1), error(nil)
	if len(fields) > 0 {
		at, err = strconv.ParseInt(string(fields[0]), 10, 64)
	}
	if err != nil || at < 0 || at >= e.Size {
		e.broken("pdf-reference-nowhere")
		return
	}
	start := make([]byte, min(64, e.Size-at))
	if _, err := e.r.ReadAt(start, at); err != nil && !errors.Is(err, io.EOF) {
		return
	}
	trimmed := bytes.TrimLeft(start, " \t\r\n\x00")
	switch {
	case bytes.HasPrefix(trimmed, []byte("xref")):
		e.pdfTable(at)
	case isObject(trimmed):
		e.proved("pdf-ends")
	default:
		e.broken("pdf-reference-moved")
	}
}

// isObject tells whether bytes begin like "12 0 obj".
func isObject(b []byte) bool {
	fields := bytes.Fields(b[:min(len(b), 40)])
	if len(fields) < 3 || !bytes.HasPrefix(fields[2], []byte("obj")) {
		return false
	}
	_, err := strconv.Atoi(string(fields[0]))
	_, err2 := strconv.Atoi(string(fields[1]))
	return err == nil && err2 == nil
}

func (e *examination) pdfTable(at int64) {
	scanner := bufio.NewScanner(io.NewSectionReader(e.r, at, min(e.Size-at, 4<<20)))
	wrong, right := 0, 0
	scanner.Scan()
	for scanner.Scan() {
		line := strings.TrimSpace(scanner.Text())
		if strings.HasPrefix(line, "trailer") {
			break
		}
		fields := strings.Fields(line)
		if len(fields) != 3 || fields[2] != "n" {
			continue
		}
		offset, err := strconv.ParseInt(fields[0], 10, 64)
		object := make([]byte, 40)
		n := 0
		if err == nil && offset < e.Size {
			n, _ = e.r.ReadAt(object, offset)
		}
		if isObject(bytes.TrimLeft(object[:n], " \t\r\n")) {
			right++
		} else {
			wrong++
		}
	}
	if e.err != nil {
		return
	}
	if wrong > 0 {
		e.broken("pdf-objects-wrong", "n", wrong, "of", wrong+right)
		return
	}
	e.proved("pdf-whole", "n", right)
}

// maxStreamed bounds how much of a PDF's beginning is looked through for streams, in bytes.
const maxStreamed = 16 << 20

// pdfStreams reads the streams through: what is deflated must unpack, what is plain must not be full of zero bytes, and
// each should end where its dictionary says, though readers put up with it where it does not. What is encrypted is passed
// over.
func (e *examination) pdfStreams() {
	content := make([]byte, min(e.Size, maxStreamed))
	if _, err := io.ReadFull(io.NewSectionReader(e.r, 0, e.Size), content); err != nil || pdf.Encrypted(content) {
		return
	}
	bad, astray, left := 0, 0, int64(maxUnpacked)
	first, why := 0, remark.Remark{}
	between, after := remark.Remark{}, 0
	for s := range pdf.Streams(content) {
		if s.Astray && e.Size < maxStreamed {
			astray++
		}
		if !between.Any() {
			between = strayBytes(content[after:s.Start], after)
		}
		after = s.End
		reason := remark.Remark{}
		switch {
		case s.End == maxStreamed: // it goes on beyond what was read
		case s.Deflated():
			n, err := io.Copy(io.Discard, io.LimitReader(s.Inflate(content), left))
			if left -= n; err != nil {
				reason = remark.New("stream-packed", "why", explain(err))
			}
		case s.JPEG():
			if fault, _ := jpegFault(content[s.Start:s.End]); fault.Any() {
				reason = remark.New("stream-picture", "why", fault)
			}
		case s.Plain():
			reason = plainFault(content[s.Start:s.End])
		}
		if reason.Any() {
			if bad++; bad == 1 {
				first, why = s.Start, reason
			}
		}
		if left <= 0 {
			break
		}
	}
	if !between.Any() && e.Size < maxStreamed {
		if end := bytes.LastIndex(content, []byte("%%EOF")); end > after {
			between = strayBytes(content[after:end], after)
		}
	}
	if between.Any() && astray == 0 && bad == 0 {
		e.State, e.Proved, e.Reasons = Broken, false, []remark.Remark{between}
		return
	}
	if bad > 0 {
		e.Proved, e.Reasons = false, nil
		e.broken("streams-damaged", "n", bad, "at", first, "why", why)
	} else if astray > 0 {
		e.Proved = false
		e.doubt("streams-astray", "n", astray)
	}
}

// plainFault looks at what should be the operators of a page (7.8.2): they are text, but for the strings among them.
func plainFault(b []byte) remark.Remark {
	operators := false
	for _, name := range []string{" Tf", " Tj", " TJ", " cm", " re", " Do", "BT"} {
		operators = operators || bytes.Contains(b, []byte(name))
	}
	strange := 0
	for _, c := range b {
		if isStrange(c) {
			strange++
		}
	}
	if !operators || strange*2 > len(b) && !bytes.Contains(b, []byte(" Tf")) {
		return remark.Remark{}
	}
	outside, inside := pdf.Split(b)
	switch zeros, noise := longest(outside); {
	case bytes.Contains(b, make([]byte, zeroRun)):
		return remark.New("stream-zeros")
	case zeros >= zeroRun:
		return remark.New("stream-zeros")
	case noise >= 0:
		return remark.New("stream-noise")
	}
	odd := 0
	for _, c := range inside {
		if isStrange(c) {
			odd++
		}
	}
	if _, noise := longest(inside); noise >= 0 && odd*20 < len(inside) {
		return remark.New("stream-text")
	}
	return remark.Remark{}
}

// strayBytes looks at what lies between the streams of a PDF: names, numbers and brackets, in plain characters but for strings and
// comments. at is where it lies.
func strayBytes(b []byte, at int) remark.Remark {
	outside, _ := pdf.Split(b)
	zeros, noise := longest(outside)
	switch {
	case zeros >= zeroRun:
		return remark.New("between-zeros", "at", at, "n", zeros)
	case noise >= 0:
		return remark.New("between-noise", "at", at)
	}
	return remark.Remark{}
}

// zeroRun is how many zero bytes in a row nothing writes on purpose.
const zeroRun = 16

func isStrange(c byte) bool {
	return c >= 0x7f || c < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != '\f' && c != '\b'
}

// longest returns the longest run of zero bytes, and where strange bytes come so close to each other that they are noise; -1 where they
// nowhere do.
func longest(b []byte) (zeros, noise int) {
	noise = -1
	var at []int
	run := 0
	for i, c := range b {
		if c == 0 {
			run++
			zeros = max(zeros, run)
			continue
		}
		run = 0
		if !isStrange(c) {
			continue
		}
		if at = append(at, i); len(at) > noiseSome {
			at = at[1:]
		}
		if noise < 0 && len(at) == noiseSome && i-at[0] < noiseWithin {
			noise = at[0]
		}
	}
	return zeros, noise
}
