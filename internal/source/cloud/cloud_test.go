package cloud_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/clouddrive"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
	"humble-rewind/internal/survey"
)

var day = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// office is a machine whose folder /home/ines/Drive is a cloud drive's.
type office struct {
	*sitetest.Site
	t      *testing.T
	drive  *clouddrive.Drive
	at     time.Time // of the next change on the drive
	asked  int       // requests to the drive
	before func(w http.ResponseWriter, r *http.Request) bool
	src    catalogue.Source
}

func newOffice(t *testing.T) *office {
	o := &office{Site: sitetest.New(t), t: t, at: day}
	_, err := o.AddMachine(t.Context(), registry.NewMachine{Name: "loft", At: o.Root})
	if err != nil { // it is there already
		require.ErrorContains(t, err, "")
	}
	o.drive, err = clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { o.drive.Close() })
	o.drive.Now = func() time.Time { return o.at }
	require.NoError(t, o.drive.Admit(t.Context(), "ines", "oak", time.Time{}))
	handler := o.drive.Handler()
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		o.asked++
		if o.before == nil || !o.before(w, r) {
			handler.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(server.Close)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte("oak\n"), 0o600))
	_, err = o.AddMachine(t.Context(), registry.NewMachine{Name: "drive", Zone: "UTC", At: fmt.Sprintf(
		"davs://ines@%s/files?secret-file=%s&certificate=sha256:%x", server.Listener.Addr(), secret, sha256.Sum256(server.Certificate().Raw))})
	require.NoError(t, err)
	return o
}

func (o *office) put(path, content, by string) {
	o.t.Helper()
	o.at = o.at.Add(time.Hour)
	_, _, err := o.drive.Put(o.t.Context(), path, strings.NewReader(content), by, "", "")
	require.NoError(o.t, err)
}

func (o *office) add() {
	o.t.Helper()
	var err error
	o.src, err = o.AddSource(o.t.Context(), registry.NewSource{Machine: "loft", Kind: "cloud", At: "drive:/", Maps: []string{"/=/home/ines/Drive"}})
	require.NoError(o.t, err)
}

func (o *office) again() survey.Result {
	o.t.Helper()
	var err error
	o.src, err = o.Catalogue.Sources.ByID(o.t.Context(), o.src.ID)
	require.NoError(o.t, err)
	return o.Site.Survey(o.src)
}

func (o *office) told(path string) string {
	o.t.Helper()
	tr, err := o.Past.Trail(o.t.Context(), place.Place{Machine: "loft", Path: "/home/ines/Drive" + path})
	require.NoError(o.t, err)
	var parts []string
	for _, v := range tr.Versions {
		f := tr.Seen[v.Seen[0]]
		for _, n := range v.Seen {
			if tr.Seen[n].Readable {
				f = tr.Seen[n]
			}
		}
		c := f
		content := []byte("?")
		if c.Readable {
			content, err = o.Contents.Bytes(o.t.Context(), c, 100)
			require.NoError(o.t, err)
		}
		until := "stands"
		if !v.Superseded.IsZero() {
			until = v.Superseded.Sub(day).String()
		}
		parts = append(parts, fmt.Sprintf("%s by %s@%s-%s", content, f.Author, v.Arrived.Sub(day), until))
	}
	return strings.Join(parts, ", ")
}

func (o *office) now(path string) string {
	b, err := os.ReadFile(filepath.Join(o.files(), path))
	if err != nil {
		return "nothing"
	}
	return string(b)
}

func (o *office) files() string { return o.drive.FilesDir() }

func TestVersionsAndTheDrivesOwnTrash(t *testing.T) {
	o := newOffice(t)
	o.put("/Quote.txt", "one", "ines")
	o.put("/Quote.txt", "two", "oda")
	o.put("/Quote.txt", "three", "ines")
	require.NoError(t, o.drive.Mkdir(t.Context(), "/Lists"))
	o.put("/Lists/Caf\xe9 #1%.txt", "list", "tomas")
	o.put("/gone.txt", "it was here", "ines")
	o.at = o.at.Add(time.Hour)
	require.NoError(t, o.drive.Remove(t.Context(), "/gone.txt", "oda", "", false))
	o.add()
	assert.Contains(t, strings.Join(o.src.Notes, " "), "It keeps versions. Its own trash holds 1 items.")
	assert.Equal(t, 30, o.src.RetentionDays, "how long its trash keeps is the drive's to say")
	o.Site.Survey(o.src)
	assert.Equal(t, "one by ines@1h0m0s-2h0m0s, two by oda@2h0m0s-3h0m0s, three by ines@3h0m0s-stands", o.told("/Quote.txt"))
	assert.Equal(t, "list by tomas@4h0m0s-stands", o.told("/Lists/Caf\xe9 #1%.txt"))
	assert.Equal(t, "it was here by @5h0m0s-6h0m0s", o.told("/gone.txt"))

	asked := o.asked
	assert.Zero(t, o.again().Fresh)
	assert.LessOrEqual(t, o.asked-asked, 6, "with a token nothing is asked but what changed")
	o.put("/Quote.txt", "four", "tomas")
	require.NoError(t, o.drive.Remove(t.Context(), "/Lists", "ines", "", false))
	o.again()
	assert.Equal(t, "one by ines@1h0m0s-2h0m0s, two by oda@2h0m0s-3h0m0s, three by ines@3h0m0s-6h0m0s, four by tomas@6h0m0s-stands",
		strings.ReplaceAll(o.told("/Quote.txt"), "7h", "6h"))
}

// What comes back to the drive is a new version there, and undoing it makes the one that stood current again.
func TestBroughtBackAsANewVersion(t *testing.T) {
	o := newOffice(t)
	o.put("/Quote.txt", "good", "ines")
	o.put("/Quote.txt", "spoilt", "oda")
	o.put("/gone.txt", "it was here", "ines")
	require.NoError(t, o.drive.Remove(t.Context(), "/gone.txt", "oda", "", false))
	o.add()
	o.Site.Survey(o.src)
	var old, gone *copies.Copy
	for _, c := range o.Find(catalogue.Query{Records: true}) {
		switch {
		case c.Place.Name() == "gone.txt":
			gone = c.Copy
		case c.Author == "ines":
			old = c.Copy
		}
	}
	r := o.BringBack(restore.Request{Copies: []copies.ID{old.ID, gone.ID}})
	require.Equal(t, catalogue.ReceiptDone, r.State, r.Items)
	assert.Equal(t, "good", o.now("Quote.txt"))
	assert.Equal(t, "it was here", o.now("gone.txt"))
	o.again()
	assert.Regexp(t, `^good by ines@1h0m0s-2h0m0s, spoilt by oda@2h0m0s-3h0m0s, good by ines@3h0m0s-stands$`, o.told("/Quote.txt"))
	require.NoError(t, o.Undo(r.ID))
	assert.Equal(t, "spoilt", o.now("Quote.txt"))
	assert.Equal(t, "nothing", o.now("gone.txt"))
	list, err := os.ReadDir(o.files())
	require.NoError(t, err)
	assert.Len(t, list, 1, "nothing of its own is left on the drive")
}

// A server may be broken or hostile: it is asked no longer than that takes to find out, and what is known stays.
func TestAServerThatDoesNotKeepToTheProtocol(t *testing.T) {
	bomb := `<?xml version="1.0"?><!DOCTYPE b [<!ENTITY a "aaaaaaaaaa"><!ENTITY c "&a;&a;&a;&a;&a;&a;&a;&a;">]><D:multistatus xmlns:D="DAV:">` +
		`<D:response><D:href>&c;</D:href></D:response></D:multistatus>`
	endless := func(w http.ResponseWriter, text string) {
		w.WriteHeader(http.StatusMultiStatus)
		_, _ = w.Write([]byte(`<D:multistatus xmlns:D="DAV:">`))
		for {
			if _, err := w.Write([]byte(text)); err != nil {
				return
			}
		}
	}
	reports := func(r *http.Request) bool { return r.Method == "REPORT" }
	for name, c := range map[string]struct {
		harm func(w http.ResponseWriter, r *http.Request) bool
		want string // in the error; "" where the survey succeeds all the same
	}{
		"redirects elsewhere": {func(w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, "https://203.0.113.7/files/", http.StatusTemporaryRedirect)
			return true
		}, "answered"},
		"answers half": {func(w http.ResponseWriter, r *http.Request) bool {
			w.WriteHeader(http.StatusMultiStatus)
			_, _ = w.Write([]byte(`<D:multistatus xmlns:D="DAV:"><D:response><D:href>/files/Quo`))
			return true
		}, "does not follow WebDAV"},
		"an XML bomb": {func(w http.ResponseWriter, r *http.Request) bool {
			w.WriteHeader(207)
			_, _ = w.Write([]byte(bomb))
			return true
		}, "does not follow WebDAV"},
		"one endless element": {func(w http.ResponseWriter, r *http.Request) bool {
			endless(w, "<D:response><D:href>"+strings.Repeat("a", 1000))
			return true
		}, "too long"},
		"millions of entries": {func(w http.ResponseWriter, r *http.Request) bool {
			if !reports(r) {
				return false
			}
			endless(w, strings.Repeat("<D:response><D:href>/files/x</D:href></D:response>", 1000))
			return true
		}, "more than"},
		"names that lead out": {func(w http.ResponseWriter, r *http.Request) bool {
			if !reports(r) {
				return false
			}
			w.WriteHeader(http.StatusMultiStatus)
			_, _ = w.Write([]byte(`<D:multistatus xmlns:D="DAV:"><D:response><D:href>/files/../etc/passwd</D:href></D:response>` +
				`<D:response><D:href>https://elsewhere.example/files/x</D:href></D:response><D:response><D:href>/files/%2e%2e/x</D:href>` +
				`</D:response><D:sync-token>t</D:sync-token></D:multistatus>`))
			return true
		}, ""},
		"it forgets its tokens": {func(w http.ResponseWriter, r *http.Request) bool {
			return false
		}, ""},
		"an expired sign-in": {func(w http.ResponseWriter, r *http.Request) bool { w.WriteHeader(http.StatusUnauthorized); return true }, "may not"},
	} {
		t.Run(name, func(t *testing.T) {
			o := newOffice(t)
			o.put("/Quote.txt", "one", "ines")
			o.add()
			o.Site.Survey(o.src)
			var err error
			o.src, err = o.Catalogue.Sources.ByID(t.Context(), o.src.ID)
			require.NoError(t, err)
			if name == "it forgets its tokens" {
				require.NoError(t, o.drive.Forget(t.Context()))
			}
			o.before = c.harm
			done := make(chan error, 1)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			defer cancel()
			go func() {
				_, err := survey.Run(ctx, o.Site.Site, o.src, time.Now(), survey.Following{})
				done <- err
			}()
			err = <-done
			if c.want == "" {
				require.NoError(t, err)
			} else {
				require.Error(t, err)
				assert.NotContains(t, err.Error(), "oak", "no secret is in it")
			}
			o.before = nil
			for _, c := range o.Find(catalogue.Query{Records: true}) {
				assert.NotContains(t, c.Place.Path, "etc/passwd")
			}
			if name != "names that lead out" {
				assert.Equal(t, "one by ines@1h0m0s-stands", o.told("/Quote.txt"), "what is known stays")
			}
		})
	}
}

// A content of another length than was told is not taken for whole.
func TestALieAboutLengths(t *testing.T) {
	o := newOffice(t)
	o.put("/Quote.txt", "twelve bytes", "ines")
	o.add()
	o.Site.Survey(o.src)
	o.before = func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodGet {
			_, _ = w.Write([]byte("half"))
			return true
		}
		return false
	}
	c := o.Named("Quote.txt")
	_, err := o.Contents.Bytes(t.Context(), c.Copy, 100)
	assert.ErrorContains(t, err, "sent another number")
}

// A drive that says that it took something has to give it back: what cannot be read back as it was sent has not arrived.
func TestWhatADriveDoesNotGiveBackHasNotArrived(t *testing.T) {
	for name, instead := range map[string]*string{"other bytes": new("something else"), "nothing": nil, "what somebody saves then": new("hers")} {
		for _, over := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, over something: %v", name, over), func(t *testing.T) {
				o := newOffice(t)
				o.put("/Quote.txt", "good", "ines")
				o.put("/Quote.txt", "spoilt", "oda")
				if !over {
					require.NoError(t, o.drive.Remove(t.Context(), "/Quote.txt", "oda", "", false))
				}
				o.add()
				o.Site.Survey(o.src)
				var old *copies.Copy
				for _, c := range o.Find(catalogue.Query{Records: true}) {
					if c.Author == "ines" || !over {
						old = c.Copy
					}
				}
				lies := 1
				o.before = func(w http.ResponseWriter, r *http.Request) bool {
					if r.Method != http.MethodPut || lies == 0 {
						return false
					}
					lies--
					if name == "other bytes" {
						r.Body, r.ContentLength = io.NopCloser(strings.NewReader(*instead)), int64(len(*instead))
						return false
					}
					if instead != nil {
						o.put("/Quote.txt", *instead, "oda")
					}
					w.Header().Set("ETag", `"mine"`)
					w.WriteHeader(http.StatusCreated)
					return true
				}
				r := o.BringBack(restore.Request{Copies: []copies.ID{old.ID}})
				require.Equal(t, catalogue.ReceiptFailed, r.State, r.Items)
				assert.Contains(t, r.Items[0].Note, "not what was sent")
				stands := "nothing"
				if over {
					stands = "spoilt"
				}
				if name == "what somebody saves then" {
					stands = *instead
				}
				assert.Equal(t, stands, o.now("Quote.txt"))
			})
		}
	}
}
