package multistatus_test

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/problem"
)

const (
	begin = `<?xml version="1.0"?><d:multistatus xmlns:d="DAV:" xmlns:t="urn:humble-rewind:drive-trash" xmlns:x="urn:x">`
	end   = `</d:multistatus>`
)

func read(answer io.Reader) (all []multistatus.Resource, token string, err error) {
	slice, err := multistatus.Read(answer, true, func(r multistatus.Resource) error {
		all = append(all, r)
		return nil
	})
	return all, slice.Token, err
}

// Of each resource what the server found of it is told, whatever it calls the namespaces, and what it did not find is not.
func TestAnAnswerTellsOfEachResource(t *testing.T) {
	all, token, err := read(strings.NewReader(begin + `<d:response><d:href>/files/a%20b</d:href>` +
		`<d:propstat><d:prop><d:getetag>"lost"</d:getetag></d:prop><d:status>HTTP/1.1 404 Not Found</d:status></d:propstat>` +
		`<d:propstat><d:prop><d:getcontentlength>3</d:getcontentlength><d:resourcetype/><d:checked-in><d:href>/v/1</d:href></d:checked-in>` +
		`<t:removed-items><d:href>/trash/</d:href></t:removed-items><t:from>Plans/a</t:from></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat>` +
		`</d:response><x:other><x:deep/></x:other><d:response><d:href>/files/gone</d:href><d:status>HTTP/1.1 404 Not Found</d:status></d:response>` +
		`<d:response><d:href>/files/Plans/</d:href><d:propstat><d:prop><d:resourcetype><d:collection/></d:resourcetype></d:prop>` +
		`<d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response><d:sync-token>t-7</d:sync-token>` + end + "what comes behind is not read <"))
	require.NoError(t, err)
	assert.Equal(t, "t-7", token)
	assert.Equal(t, []multistatus.Resource{{Href: "/files/a%20b", Length: "3", CheckedIn: "/v/1", Trash: "/trash/", From: "Plans/a"},
		{Href: "/files/gone", Gone: true}, {Href: "/files/Plans/", Folder: true}}, all)
}

// What is no answer, ends early, resolves entities or is too long is refused; an error of whoever listens, or of reading, is told as it is.
func TestWhatIsNoAnswerIsRefused(t *testing.T) {
	response := `<d:response><d:href>/a</d:href></d:response>`
	for name, text := range map[string]string{
		"nothing": "", "a page": "<html><body>Sign in</body></html>", "cut": begin + response + "<d:respon", "entities": `<!DOCTYPE d [<!ENTITY a "b">]>` +
			begin + `<d:response><d:href>&a;</d:href></d:response>` + end,
	} {
		_, _, err := read(strings.NewReader(text))
		assert.ErrorIs(t, err, multistatus.ErrAnswer, name)
	}
	endless := io.MultiReader(strings.NewReader(begin+`<d:response><d:href>`), &repeated{text: "a"})
	_, _, err := read(endless)
	assert.ErrorIs(t, err, problem.TooLarge)
	lost := fmt.Errorf("the line is down: %w", problem.Lost)
	_, _, err = read(io.MultiReader(strings.NewReader(begin+response), iotest.ErrReader(lost)))
	assert.ErrorIs(t, err, problem.Lost)
	enough := errors.New("enough")
	_, err = multistatus.Read(strings.NewReader(begin+response+end), true, func(multistatus.Resource) error { return enough })
	assert.Equal(t, enough, err)
}

// repeated is a text without end.
type repeated struct {
	text string
	at   int
}

func (r *repeated) Read(p []byte) (n int, err error) {
	for n < len(p) {
		more := copy(p[n:], r.text[r.at:])
		n, r.at = n+more, (r.at+more)%len(r.text)
	}
	return n, nil
}

// However an answer is cut into pieces, each resource is told once, and nothing is lost between two.
func TestAnAnswerIsReadInPieces(t *testing.T) {
	text := begin
	var want []multistatus.Resource
	for n := range 40 {
		href := fmt.Sprintf("/files/Ré%d&amp;co", n)
		text += "<d:response><d:href>" + href + "</d:href></d:response>\n"
		want = append(want, multistatus.Resource{Href: strings.ReplaceAll(href, "&amp;", "&")})
	}
	text += "<d:sync-token>t</d:sync-token>" + end
	for size := 1; size < len(text)+9; size += 1 + size/7 {
		var got []multistatus.Resource
		root, held, token := "", "", ""
		for from := 0; ; from += size {
			piece := text[min(from, len(text)):min(from+size, len(text))]
			held += piece
			slice, err := multistatus.Read(strings.NewReader(root+held), from >= len(text), func(r multistatus.Resource) error {
				got = append(got, r)
				return nil
			})
			require.NoError(t, err, size)
			token += slice.Token
			if slice.Ended {
				break
			}
			require.Less(t, from, len(text), "it never ended")
			read := slice.Read - int64(len(root))
			if slice.Root == 0 {
				continue
			}
			if root == "" {
				root = held[:slice.Root]
			}
			held = held[read:]
		}
		require.Equal(t, want, got, size)
		require.Equal(t, "t", token)
	}
}

// Whatever is answered is read or refused, with no more resources than it has places for.
func FuzzMultistatus(f *testing.F) {
	f.Add(begin + `<d:response><d:href>/files/a%20b</d:href><d:propstat><d:prop><d:getcontentlength>3</d:getcontentlength>` +
		`<d:resourcetype><d:collection/></d:resourcetype></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat></d:response>` +
		`<d:sync-token>t</d:sync-token>` + end)
	f.Fuzz(func(t *testing.T, answer string) {
		all, _, err := read(strings.NewReader(answer))
		held := 0
		for _, r := range all {
			held += r.Bytes() - 64
		}
		require.LessOrEqual(t, len(all), len(answer)/len("response"))
		if err == nil {
			require.LessOrEqual(t, held, 3*len(answer))
		}
	})
}
