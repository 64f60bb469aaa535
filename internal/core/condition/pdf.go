package condition

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"humble-rewind/internal/core/pdf"
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
		e.broken("Its end mark is missing: the file was cut off, or its end was overwritten.")
		return
	}
	i := bytes.LastIndex(end, []byte("startxref"))
	if i < 0 {
		e.broken("Nothing at its end says where its cross-reference is.")
		return
	}
	fields := bytes.Fields(end[i+len("startxref"):])
	at, err := int64(-1), error(nil)
	if len(fields) > 0 {
		at, err = strconv.ParseInt(string(fields[0]), 10, 64)
	}
	if err != nil || at < 0 || at >= e.Size {
		e.broken("Its cross-reference is said to be where there is nothing.")
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
		e.proved("Its header, cross-reference and end mark are where they belong.")
	default:
		e.broken("Where its cross-reference should be, there is something else: bytes were lost or added before it.")
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
		e.broken(
			"%d of the %d objects that its cross-reference lists are not where it says: bytes in it were lost or overwritten.",
			wrong,
			wrong+right,
		)
		return
	}
	e.proved("Its header, its end mark and all %d objects of its cross-reference are where they belong.", right)
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
	first, why := 0, ""
	between, after := "", 0
	for s := range pdf.Streams(content) {
		if s.Astray && e.Size < maxStreamed {
			astray++
		}
		if between == "" {
			between = strayBytes(content[after:s.Start], after)
		}
		after = s.End
		reason := ""
		switch {
		case s.End == maxStreamed: // it goes on beyond what was read
		case s.Deflated():
			n, err := io.Copy(io.Discard, io.LimitReader(s.Inflate(content), left))
			if left -= n; err != nil {
				reason = "does not unpack: " + explain(err)
			}
		case s.JPEG():
			if fault, _ := jpegFault(content[s.Start:s.End]); fault != "" {
				reason = "holds a picture that was overwritten: " + fault
			}
		case s.Plain():
			reason = plainFault(content[s.Start:s.End])
		}
		if reason != "" {
			if bad++; bad == 1 {
				first, why = s.Start, reason
			}
		}
		if left <= 0 {
			break
		}
	}
	if between == "" && e.Size < maxStreamed {
		if end := bytes.LastIndex(content, []byte("%%EOF")); end > after {
			between = strayBytes(content[after:end], after)
		}
	}
	if between != "" && astray == 0 && bad == 0 {
		e.Proved, e.Reasons = false, nil
		e.broken("%s", between)
		return
	}
	if bad > 0 {
		e.Proved, e.Reasons = false, nil
		e.broken("%d of its streams %s damaged; the first, at byte %d, %s.", bad, isAre(bad), first, why)
	} else if astray > 0 {
		e.Proved = false
		e.doubt("%d of its streams %s longer or shorter than stated.", astray, isAre(astray))
	}
}

func isAre(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// plainFault looks at what should be the operators of a page (7.8.2): they are text, but for the strings among them.
func plainFault(b []byte) string {
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
		return ""
	}
	outside, inside := pdf.Split(b)
	switch zeros, noise := longest(outside); {
	case bytes.Contains(b, make([]byte, zeroRun)):
		return "has zero bytes where a page should be described"
	case zeros >= zeroRun:
		return "has zero bytes where a page should be described"
	case noise >= 0:
		return "has noise where a page should be described"
	}
	odd := 0
	for _, c := range inside {
		if isStrange(c) {
			odd++
		}
	}
	if _, noise := longest(inside); noise >= 0 && odd*20 < len(inside) {
		return "has noise in its text"
	}
	return ""
}

// strayBytes looks at what lies between the streams of a PDF: names, numbers and brackets, in plain characters but for strings and
// comments. at is where it lies.
func strayBytes(b []byte, at int) string {
	outside, _ := pdf.Split(b)
	zeros, noise := longest(outside)
	switch {
	case zeros >= zeroRun:
		return fmt.Sprintf("After byte %d, between its objects, it holds %d zero bytes: something overwrote them.", at, zeros)
	case noise >= 0:
		return fmt.Sprintf("After byte %d, between its objects, it holds noise: something overwrote them.", at)
	}
	return ""
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
