package fat

import (
	"encoding/binary"
	"strings"
	"time"
	"unicode/utf16"

	"golang.org/x/text/encoding/charmap"

	"humble-rewind/internal/core/disk"
)

// moment reads a time and a date; not ok where there is no such moment. A date of zero is none.
func moment(clock, date uint16) (time.Time, bool) {
	if date == 0 {
		return time.Time{}, true
	}
	year, month, day := 1980+int(date>>9), time.Month(date>>5&15), int(date&31)
	hour, minute, second := int(clock>>11), int(clock>>5&63), int(clock&31)*2
	at := time.Date(year, month, day, hour, minute, second, 0, time.UTC)
	return at, at.Month() == month && at.Day() == day && hour < 24 && minute < 60 && second < 60
}

func decoded(b []byte) string {
	text, _ := charmap.CodePage437.NewDecoder().Bytes(b) // which has a letter for each byte
	return string(text)
}

// shortName reads a short name, with first in place of its first byte.
func shortName(slot []byte, first byte) string {
	b := append([]byte{first}, slot[1:11]...)
	if b[0] == 5 {
		b[0] = erased
	}
	base, ext := strings.TrimRight(decoded(b[:8]), " "), strings.TrimRight(decoded(b[8:]), " ")
	if slot[12]&8 != 0 {
		base = strings.ToLower(base)
	}
	if slot[12]&16 != 0 {
		ext = strings.ToLower(ext)
	}
	if ext == "" {
		return base
	}
	return base + "." + ext
}

// units of a part of a long name; ended says that the name ends in it.
func units(part []byte) (all []uint16, ended bool) {
	for _, r := range [...][2]int{{1, 11}, {14, 26}, {28, 32}} {
		for i := r[0]; i < r[1]; i += 2 {
			u := binary.LittleEndian.Uint16(part[i:])
			if u == 0 || u == 0xffff {
				return all, true
			}
			all = append(all, u)
		}
	}
	return all, false
}

// sum is the checksum of a short name.
func sum(name []byte) (s byte) {
	for _, c := range name {
		s = s>>1 | s<<7
		s += c
	}
	return s
}

// lostByte is the first byte of a short name by its checksum and the others.
func lostByte(s byte, rest []byte) byte {
	for i := len(rest) - 1; i >= 0; i-- {
		s -= rest[i]
		s = s<<1 | s>>7
	}
	return s
}

func standingName(slot []byte, parts [][]byte) string {
	check := sum(slot[:11])
	var name []uint16
	for n := len(parts) - 1; n >= 0; n-- {
		part := parts[n]
		if part[13] != check || int(part[0]&0x3f) != len(parts)-n {
			break
		}
		some, _ := units(part)
		if name = append(name, some...); part[0]&0x40 != 0 {
			if len(name) == 0 || len(name) > mostUnits {
				break
			}
			return string(utf16.Decode(name))
		}
	}
	return shortName(slot, slot[0])
}

// erasedName puts together what is left of a name: the long one where the checksum in its parts gives the short one a first byte that the
// long one begins with.
func erasedName(slot []byte, parts [][]byte) (name string, lost disk.Lost, proved bool) {
	var long []uint16
	for n := len(parts) - 1; n >= 0 && parts[n][0] == erased && parts[n][13] == parts[len(parts)-1][13]; n-- {
		some, ended := units(parts[n])
		if long = append(long, some...); ended || len(long) > mostUnits {
			break
		}
	}
	if len(long) > 0 && len(long) <= mostUnits {
		name := string(utf16.Decode(long))
		first := lostByte(parts[len(parts)-1][13], slot[1:11])
		if begins(name, first) {
			return name, disk.Nothing, true
		}
	}
	return shortName(slot, '_'), disk.FirstLetter, false
}

// begins tells whether a short name that was made of a long one may begin with a byte.
func begins(long string, first byte) bool {
	upper := strings.ToUpper(strings.TrimLeft(long, " ."))
	if upper == "" {
		return false
	}
	letter := []rune(upper)[0]
	b, ok := charmap.CodePage437.EncodeRune(letter)
	if !ok || strings.ContainsRune("+,;=[]", letter) || first >= 0x80 {
		return first == '_' || first > ' ' // another code page
	}
	return b == first
}
