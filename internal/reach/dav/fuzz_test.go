package dav

import (
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/multistatus"
	"humble-rewind/internal/core/place"
)

// Whatever a server answers is read or refused, and nothing in it leads out of the drive.
func FuzzResources(f *testing.F) {
	f.Add(`<D:multistatus xmlns:D="DAV:"><D:response><D:href>/files/a%20b</D:href><D:propstat><D:prop><D:getcontentlength>3</D:getcontentlength>` +
		`<D:resourcetype><D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>` +
		`<D:sync-token>t</D:sync-token></D:multistatus>`)
	f.Add(`<D:multistatus xmlns:D="DAV:"><D:response><D:href>/files/../x</D:href></D:response><D:response><D:href>//elsewhere/files/x</D:href>`)
	s := &server{base: &url.URL{Scheme: "https", Host: "drive.example", Path: "/files/"}}
	f.Fuzz(func(t *testing.T, answer string) {
		_, _ = multistatus.Read(strings.NewReader(answer), true, func(told multistatus.Resource) error {
			r := resource{told}
			if at, ok := s.path(r.Href); ok {
				clean, err := place.Clean(at)
				require.NoError(t, err)
				require.Equal(t, at, clean)
			}
			_ = r.info("x")
			return nil
		})
	})
}
