package condition

import "io"

// squeezed is XML with long runs of plain characters between its elements cut short, which changes nothing about whether it is
// well-formed: most of a document is such, and a decoder takes its time over each byte. What is wrong with one that is not has to be
// told from the whole.
type squeezed struct {
	r       io.Reader
	between bool // behind a >, before the next <
	run     int  // plain characters in a row
}

// plainRun is how much of a run of plain characters is kept.
const plainRun = 8

// squeezable are the characters that mean nothing to XML, wherever between two elements they are: no markup, no references, no ends of
// sections or comments.
var squeezable = func() (plain [256]bool) {
	for c := range plain {
		plain[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	for _, c := range " \n\t,.:()" {
		plain[c] = true
	}
	return plain
}()

func (s *squeezed) Read(p []byte) (int, error) {
	for {
		n, err := s.r.Read(p)
		if kept := s.squeeze(p[:n]); kept > 0 || err != nil || n == 0 {
			return kept, err
		}
	}
}

// squeeze cuts runs short in place, and returns how much is left.
func (s *squeezed) squeeze(p []byte) int {
	kept := 0
	for _, c := range p {
		switch {
		case !s.between:
			s.between, s.run = c == '>', 0
		case c == '<':
			s.between = false
		case squeezable[c]:
			if s.run++; s.run > plainRun {
				continue
			}
		default:
			s.run = 0
		}
		p[kept] = c
		kept++
	}
	return kept
}
