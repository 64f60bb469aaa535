package restore_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

// Whatever is brought back, and however it is named, goes where it is told to go and nowhere else.
func TestWhateverIsBroughtBackGoesWhereItIsTold(t *testing.T) {
	docs := "/home/ines/Documents/"
	at := func(path string) *place.Place { return &place.Place{Machine: "loft", Path: path} }
	copyOf := func(s *sitetest.Site, names ...string) (ids []copies.ID) {
		for _, name := range names {
			for _, c := range s.Find(catalogue.Query{Words: name}) {
				if c.Store.Traits.Dated() && c.Place.Name() == name {
					ids = append(ids, c.ID)
				}
			}
		}
		require.Len(t, ids, len(names))
		return ids
	}
	whats := map[string]struct {
		ask   func(s *sitetest.Site) restore.Request
		own   []string // where it goes by itself, relative to the documents
		whole bool     // a folder, which takes the name that it is given
	}{
		"a copy": {
			func(s *sitetest.Site) restore.Request { return restore.Request{Copies: copyOf(s, "changed.txt")} },
			[]string{"changed.txt"},
			false,
		},
		"several": {func(s *sitetest.Site) restore.Request { return restore.Request{Copies: copyOf(s, "lost.txt", "a.odt")} },
			[]string{"lost.txt", "Quotes/a.odt"}, false},
		"file as of": {func(*sitetest.Site) restore.Request {
			return restore.Request{AsOf: &restore.AsOf{Place: *at(docs + "changed.txt"), At: monday}}
		}, []string{"changed.txt"}, false},
		"gone as of": {func(*sitetest.Site) restore.Request {
			return restore.Request{AsOf: &restore.AsOf{Place: *at(docs + "lost.txt"), At: monday}}
		}, []string{"lost.txt"}, false},
		"tree as of": {func(*sitetest.Site) restore.Request {
			return restore.Request{AsOf: &restore.AsOf{Place: *at(docs + "Quotes"), At: monday}}
		}, []string{"Quotes", "Quotes/a.odt", "Quotes/deep", "Quotes/deep/b.odt"}, true},
		"exact as of": {func(*sitetest.Site) restore.Request {
			return restore.Request{AsOf: &restore.AsOf{Place: *at(docs + "Quotes"), At: monday, Only: restore.OnlyExact}}
		}, []string{"Quotes", "Quotes/a.odt", "Quotes/deep", "Quotes/deep/b.odt"}, true},
	}
	wheres := map[string]struct {
		to     *place.Place
		folder bool
		goes   func(own string, whole bool) string // where something goes
	}{
		"its own place":     {nil, false, func(own string, _ bool) string { return docs + own }},
		"a folder there is": {at("/srv/side"), false, into},
		"a folder to make": {at("/srv/new"), true, func(own string, whole bool) string {
			return strings.Replace(into(own, whole), "/srv/side", "/srv/new", 1)
		}},
		"another name": {at("/srv/side/other"), false, func(own string, whole bool) string {
			return "/srv/side/other" + strings.TrimPrefix(own, strings.SplitN(own, "/", 2)[0])
		}},
		"a name in the home": {at(docs + "beside.txt"), false, func(own string, whole bool) string {
			return docs + "beside.txt" + strings.TrimPrefix(own, strings.SplitN(own, "/", 2)[0])
		}},
	}
	for what, w := range whats {
		for where, to := range wheres {
			if what == "several" && to.to != nil && !to.folder && to.to.Path != "/srv/side" {
				continue // a folder then, which is another test
			}
			for _, rule := range []plan.Rule{plan.KeepBoth, plan.SetAside} {
				t.Run(strings.Join([]string{what, where, string(rule)}, " to "), func(t *testing.T) {
					s := yard(t)
					s.Lay(map[string]string{"/srv/side/": ""})
					request := w.ask(s)
					request.To, request.ToFolder, request.Rule = to.to, to.folder, rule
					before := s.Tree(docs)
					planned, err := s.Restorer.Plan(t.Context(), request)
					require.NoError(t, err)
					assert.Equal(t, before, s.Tree(docs), "planning changes nothing")
					want, got := map[string]bool{}, map[string]bool{}
					for _, own := range w.own {
						want[to.goes(own, w.whole)] = true
					}
					for _, item := range items(t, planned) {
						path := item.To.Path
						if to.to == nil && rule == plan.KeepBoth && item.Clash.Any() {
							path = docs + "changed.txt" // beside what is there
						}
						got[path] = true
					}
					assert.Equal(t, want, got)
					receipt := s.BringBack(request)
					require.Equal(t, catalogue.ReceiptDone, receipt.State)
					for _, item := range receipt.Items {
						_, err := os.Lstat(s.Path(item.To.Path))
						assert.NoError(t, err)
					}
					if to.to != nil && !strings.HasPrefix(to.to.Path, docs) {
						assert.Equal(t, before, s.Tree(docs), "what stands in its own place is not touched")
					}
				})
			}
		}
	}
}

// into is where something goes that is put into /srv/side: files by their names, a folder with what is in it.
func into(own string, whole bool) string {
	if whole {
		return "/srv/side/" + own
	}
	return "/srv/side/" + place.Name("/"+own)
}

// A file that was only touched comes back with the time, mode and owner that it had at the moment, whichever copy of the same
// content is read.
func TestATouchedFileComesBackAsItWasAtTheMoment(t *testing.T) {
	s := sitetest.New(t)
	states := []struct {
		written time.Time
		mode    os.FileMode
	}{{monday.Add(-48 * time.Hour), 0o640}, {monday.Add(12 * time.Hour), 0o640}, {monday.Add(12 * time.Hour), 0o600}}
	path := "/home/ines/tide table.txt"
	for day, state := range states {
		at := "/srv/points/" + monday.AddDate(0, 0, day).Format("2006-01-02T1504") + path
		s.Lay(map[string]string{at: "high water", path: "high water"})
		for _, p := range []string{at, path} {
			require.NoError(t, os.Chmod(s.Path(p), state.mode))
			require.NoError(t, os.Chtimes(s.Path(p), state.written, state.written))
			require.NoError(t, unix.Setxattr(s.Path(p), "user.note", []byte{byte('0' + day)}, 0))
		}
	}
	var sources []catalogue.Source
	for kind, at := range map[string]string{"snapshots": "/srv/points", "live": "/home"} {
		src, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: kind, At: at, Zone: "UTC"})
		require.NoError(t, err)
		s.Survey(src)
		sources = append(sources, src)
	}
	require.Len(t, sources, 2)
	for _, lost := range []bool{false, true} {
		for n, hours := range []int{1, 25, 49} { // just after each point in time
			state := states[n]
			for name, ask := range map[string]restore.AsOf{"file": {Place: place.Place{Machine: "loft", Path: path}},
				"folder": {Place: place.Place{Machine: "loft", Path: "/home/ines"}}} {
				ask.At = monday.Add(time.Duration(hours) * time.Hour)
				into := place.Place{
					Machine: "loft",
					Path:    "/srv/" + name + ask.At.Format("-02T1504") + map[bool]string{true: "-late"}[lost],
				}
				receipt := s.BringBack(restore.Request{AsOf: &ask, To: &into, ToFolder: true})
				require.Equal(t, catalogue.ReceiptDone, receipt.State, receipt.Items)
				at := into.Path + "/" + strings.TrimPrefix(path, "/home/ines/")
				if name == "folder" {
					at = into.Path + "/ines/" + strings.TrimPrefix(path, "/home/ines/")
				}
				info, err := os.Stat(s.Path(at))
				require.NoError(t, err)
				assert.True(t, state.written.Equal(info.ModTime()), "%s at %s: %s", name, ask.At, info.ModTime())
				assert.Equal(t, state.mode, info.Mode().Perm(), "%s at %s", name, ask.At)
				note := make([]byte, 8)
				if k, err := unix.Getxattr(s.Path(at), "user.note", note); assert.NoError(t, err) && !lost {
					assert.Equal(t, string('0'+byte(n)), string(note[:k]), "%s at %s", name, ask.At)
				}
			}
		}
		// Now the first two points are thinned out: the content is read from the third or the live file, the rest is as recorded.
		for day := range 2 {
			require.NoError(t, os.RemoveAll(s.Path("/srv/points/"+monday.AddDate(0, 0, day).Format("2006-01-02T1504"))))
		}
		for _, src := range sources {
			s.Survey(src)
		}
	}
}
