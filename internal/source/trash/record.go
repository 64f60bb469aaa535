package trash

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
)

const (
	recordSuffix = ".trashinfo"
	// maxRecord bounds a record: a path of 4,096 bytes is 12,288 when every byte is percent-encoded, and other
	// programs' extra lines must fit.
	maxRecord = 64 << 10
	dateForm  = "2006-01-02T15:04:05" // the specification's YYYY-MM-DDThh:mm:ss
)

// record is a trash record, section "Contents of a trash directory" of the specification. Wall and Path are zero where
// the record lacks them or they are broken; Problems then says so.
type record struct {
	Path     string    // decoded bytes, as recorded: absolute or relative
	Wall     time.Time // local time of the deletion as if it were UTC
	Problems []string
}

var errNotRecord = errors.New(`it does not begin with "[Trash Info]"`)

// parseRecord reads a record. As specified, the first occurrence of a key counts and unknown lines are passed over;
// carriage returns and blanks at line ends are forgiven. Every departure that loses something is in Problems.
func parseRecord(data []byte) record {
	var r record
	problem := func(format string, args ...any) { r.Problems = append(r.Problems, fmt.Sprintf(format, args...)) }
	lines := bufio.NewScanner(bytes.NewReader(data))
	lines.Buffer(nil, maxRecord+1)
	if !lines.Scan() || strings.TrimSpace(lines.Text()) != "[Trash Info]" {
		problem("Its record is broken: %v.", errNotRecord)
		return r
	}
	var path, date *string
	for lines.Scan() {
		line := strings.TrimRight(lines.Text(), "\r")
		if value, ok := strings.CutPrefix(line, "Path="); ok && path == nil {
			path = &value
		}
		if value, ok := strings.CutPrefix(line, "DeletionDate="); ok && date == nil {
			date = &value
		}
	}
	switch {
	case path == nil || *path == "":
		problem("Its record does not say where it came from.")
	default:
		decoded, err := decodePercent(*path)
		if err != nil {
			problem("Its record's path is not encoded as it should be: %v.", err)
		}
		r.Path = decoded
	}
	switch {
	case date == nil || *date == "":
		problem("Its record does not say when it was deleted.")
	default:
		wall, err := time.Parse(dateForm, strings.TrimSpace(*date))
		if err != nil {
			problem("Its record's deletion time, %q, cannot be read.", *date)
		}
		r.Wall = wall
	}
	return r
}

// decodePercent decodes the URL escapes of RFC 2396, section 2.4. A broken escape makes the whole path unknown,
// because a guess could be another file's path.
func decodePercent(s string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		if i+2 >= len(s) || !isHex(s[i+1]) || !isHex(s[i+2]) {
			return "", fmt.Errorf("%q at byte %d is not an escape", s[i:min(i+3, len(s))], i)
		}
		b.WriteByte(fromHex(s[i+1])<<4 | fromHex(s[i+2]))
		i += 2
	}
	return b.String(), nil
}

func isHex(c byte) bool {
	return '0' <= c && c <= '9' || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F'
}

func fromHex(c byte) byte {
	switch {
	case c <= '9':
		return c - '0'
	case c <= 'F':
		return c - 'A' + 10
	}
	return c - 'a' + 10
}

// EncodePercent encodes a path as records hold it: everything but unreserved characters and slashes is escaped.
func EncodePercent(path string) string {
	var b strings.Builder
	for i := 0; i < len(path); i++ {
		c := path[i]
		if '0' <= c && c <= '9' || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || strings.IndexByte("-_.~/", c) >= 0 {
			b.WriteByte(c)
			continue
		}
		fmt.Fprintf(&b, "%%%02X", c)
	}
	return b.String()
}

// origin turns a recorded path into a path on the machine. In a drive's trash it must be relative to the drive's top
// folder; in a home's trash it may be absolute or relative to the folder that the trash is in. "base" is that folder.
// Nothing may climb out of it.
func origin(recorded, base string, absoluteAllowed bool) (string, string) {
	if recorded == "" {
		return "", ""
	}
	if strings.HasPrefix(recorded, "/") {
		if !absoluteAllowed {
			return "", fmt.Sprintf(
				"Its record names the absolute path %s, which a drive's trash must not; that place is not trusted.",
				place.Quote(recorded),
			)
		}
		path, err := place.Clean(recorded)
		if err != nil || path == "/" {
			return "", fmt.Sprintf("Its record names the path %s, which cannot be trusted.", place.Quote(recorded))
		}
		return path, ""
	}
	rest, err := place.CleanRelative(recorded)
	if err != nil || rest == "" {
		return "", fmt.Sprintf(
			"Its record names the path %s, which leads out of its drive or nowhere; that place is not trusted.",
			place.Quote(recorded),
		)
	}
	return place.Join(base, rest), ""
}
