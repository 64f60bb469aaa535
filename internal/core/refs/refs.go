// Package refs reads the texts in which a git repository names commits: packed references (git-pack-refs(1)), reflogs (gitrepository-layout(5)),
// and lists such as shallow and FETCH_HEAD.
package refs

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"humble-rewind/internal/core/entry"
)

// Form is how such a text is written.
type Form string

// The forms.
const (
	Packed Form = "packed" // a commit and the full name of a reference
	Log    Form = "log"    // the commit before, the one after, who, when, and what was done
	List   Form = "list"   // a commit, and maybe more behind a tab
)

// Named is what a line names.
type Named struct {
	Ref    string        `cbor:"1,keyasint,omitempty"` // of packed references
	Before string        `cbor:"2,keyasint,omitempty"` // of a reflog; "" where there was none
	Commit string        `cbor:"3,keyasint,omitempty"` // "" where a reflog says that there is none
	When   entry.Instant `cbor:"4,keyasint,omitzero"`  // of a reflog
}

// maxLine is how long a line may be, in bytes; a longer one is passed over.
const maxLine = 64 << 10

// Read calls each with what the lines name until it fails. What is no such line is passed over.
func Read(form Form, text io.Reader, each func(Named) error) error {
	read := map[Form]func([]byte) (Named, bool){Packed: readPacked, Log: readLog, List: readList}[form]
	if read == nil {
		return fmt.Errorf("%q is not a form of references", form)
	}
	lines := bufio.NewReaderSize(text, maxLine)
	for passed := false; ; {
		line, err := lines.ReadSlice('\n')
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
			passed = true
			continue
		case err != nil && err != io.EOF:
			return err
		}
		if named, ok := read(line); ok && !passed {
			if err := each(named); err != nil {
				return err
			}
		}
		passed = false
		if err == io.EOF {
			return nil
		}
	}
}

func readPacked(line []byte) (Named, bool) {
	commit, name, ok := strings.Cut(strings.TrimSpace(string(line)), " ")
	return Named{Ref: name, Commit: commit}, ok && IsObject(commit)
}

func readList(line []byte) (Named, bool) {
	commit, _, _ := strings.Cut(strings.TrimSpace(string(line)), "\t")
	return Named{Commit: commit}, IsObject(commit)
}

func readLog(line []byte) (n Named, ok bool) {
	head, _, _ := bytes.Cut(line, []byte{'\t'})
	fields := bytes.Fields(head)
	if len(fields) < 4 {
		return n, false
	}
	if before := string(fields[0]); IsObject(before) {
		n.Before = before
	}
	if commit := string(fields[1]); IsObject(commit) {
		n.Commit = commit
	}
	seconds, err := strconv.ParseInt(string(fields[len(fields)-2]), 10, 64)
	if err != nil {
		return n, false
	}
	n.When = entry.Instant{Known: true, Sec: seconds}
	return n, n.Before != "" || n.Commit != ""
}

// nobody begins the name of no object.
const nobody = "0000000000000000000000000000000000000000"

// IsObject tells whether a text names an object: 40 or 64 hexadecimal digits, not all of the first 40 zero.
func IsObject(name string) bool {
	if len(name) != 40 && len(name) != 64 {
		return false
	}
	for i := range len(name) {
		if c := name[i]; (c < '0' || c > '9') && (c < 'a' || c > 'f') {
			return false
		}
	}
	return !strings.HasPrefix(name, nobody)
}
