package corpus

import (
	"fmt"
	"maps"
	"os"
	"time"

	"humble-rewind/internal/core/advice"
)

// scene is a folder of documents that were worked on now and then, with a snapshot a day.
type scene struct {
	folder string
	n      int
	seed   uint64
	k      kind
}

func (s scene) name(i int) string {
	if i%5 == 4 {
		return fmt.Sprintf("Details/part %02d%s", i, s.k.ext)
	}
	return fmt.Sprintf("part %02d%s", i, s.k.ext)
}

func (s scene) path(i int) string { return s.folder + "/" + s.name(i) }

// of is a file's content after some revisions.
func (s scene) of(i, revision int) []byte { return s.k.of(prose(s.seed+uint64(i), 0, 12+revision)) }

// begin saves the files and works on every third of them.
func (s scene) begin(h *History) {
	h.At(ago(60 * day))
	for i := range s.n {
		h.At(h.clock.Add(time.Hour))
		h.Save(s.path(i), s.of(i, 0))
	}
	h.Days(ago(50*day), ago(30*day))
	for i := range s.n {
		if i%3 == 0 {
			h.At(ago(time.Duration(29-i%9)*day - time.Duration(i)*time.Minute))
			h.Save(s.path(i), s.of(i, 2))
		}
	}
	h.Days(ago(20*day), ago(10*day))
}

// now are the files as begin left them, but for some.
func (s scene) now(but ...int) map[string][]byte {
	want := map[string][]byte{}
	for i := range s.n {
		want[s.name(i)] = s.of(i, s.revision(i))
	}
	for _, i := range but {
		delete(want, s.name(i))
	}
	return want
}

func (s scene) revision(i int) int {
	if i%3 == 0 {
		return 2
	}
	return 0
}

// with replaces some of the wanted contents.
func with(want, other map[string][]byte) map[string][]byte {
	all := maps.Clone(want)
	maps.Copy(all, other)
	return all
}

// scenes plays a family in several formats.
func scenes(family string, make func(s scene) FolderCase) []FolderCase {
	var all []FolderCase
	for n, k := range []kind{kinds[0], kinds[1], kinds[4], kinds[5]} {
		s := scene{folder: docs(fmt.Sprintf("Hull %d", n+1)), n: 12 + 4*n, seed: uint64(2000 + 100*n), k: k}
		c := make(s)
		c.Family, c.Path, c.Variant = family, s.folder, c.Variant+k.name
		all = append(all, c)
	}
	return all
}

func removedFolders() []FolderCase {
	deleted := advice.Question{Loss: advice.Deleted}
	var all []FolderCase
	add := func(family string, make func(s scene) FolderCase) { all = append(all, scenes(family, make)...) }
	add("thrown away with work that no snapshot has", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: with(s.now(), map[string][]byte{s.name(1): s.of(1, 4), s.name(4): s.of(4, 4)}), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Save(s.path(1), s.of(1, 4))
			h.Save(s.path(4), s.of(4, 4))
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("some broken before it was thrown away", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			for i := range 5 {
				h.Save(s.path(i), noise(uint64(i), 1200))
			}
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("some broken before, and captured so", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9 * day))
			h.Save(s.path(2), zeroed(s.of(2, 0)))
			h.Save(s.path(5), noise(5, 1500))
			h.Days(ago(9*day-hour), ago(6*day))
			h.At(ago(5 * day))
			h.Discard(s.folder)
			h.Days(ago(5*day-hour), ago(day))
		}}
	})
	add("some gone before it was thrown away", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Remove(s.path(0))
			h.Remove(s.path(7))
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("thrown away whole", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Whole: true, Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("a record in the trash without its item", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.fail(os.RemoveAll(h.on(First, Home+"/.local/share/Trash/files")))
			h.fail(os.MkdirAll(h.on(First, Home+"/.local/share/Trash/files"), 0o755))
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("thrown away, surveyed, and the trash was emptied", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			h.Discard(s.folder)
			h.Survey()
			h.At(ago(9*day + 16*hour))
			h.Empty()
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("half thrown away, half removed for good", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			for i := range s.n {
				if h.At(h.clock.Add(7 * time.Second)); i%2 == 0 {
					h.Discard(s.path(i))
				} else {
					h.Remove(s.path(i))
				}
			}
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("some thrown away one after the other", func(s scene) FolderCase {
		want := map[string][]byte{}
		for i := range 4 {
			want[s.name(i)] = s.of(i, s.revision(i))
		}
		return FolderCase{Ask: deleted, Want: want, Play: func(h *History) {
			s.begin(h)
			h.Discard(s.path(9)) // long before, on purpose
			h.Days(ago(9*day), ago(6*day))
			for i := range 4 {
				h.At(ago(5*day - time.Duration(i)*9*time.Minute))
				h.Discard(s.path(i))
			}
			h.Days(ago(4*day), ago(day))
		}}
	})
	add("two waves, a day apart, of which the first is meant too", func(s scene) FolderCase {
		return FolderCase{Ask: advice.Question{Loss: advice.Deleted, Good: ago(8*day + hour)}, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.Days(ago(9*day), ago(8*day))
			h.At(ago(7*day + 5*hour))
			for i := range s.n / 2 {
				h.Remove(s.path(i))
			}
			h.Days(ago(7*day), ago(6*day))
			h.At(ago(5*day + 5*hour))
			for i := s.n / 2; i < s.n; i++ {
				h.Discard(s.path(i))
			}
			h.Days(ago(5*day), ago(day))
		}}
	})
	add("some renamed and some moved away before", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: map[string][]byte{s.name(3): s.of(3, 2), s.name(8): s.of(8, 0)}, Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			h.Move(s.path(0), s.folder+"/keel plan"+s.k.ext)
			h.Move(s.path(1), docs("Elsewhere/part 01"+s.k.ext))
			h.Remove(s.path(3))
			h.Remove(s.path(8))
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("some written anew after they were removed", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: s.now(2), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 18*hour))
			for i := range s.n {
				h.Remove(s.path(i))
			}
			h.Days(ago(9*day), ago(8*day))
			h.Save(s.path(2), s.k.of(prose(9900, 0, 14)))
			h.Days(ago(7*day), ago(day))
		}}
	})
	add("removed, with backup copies newer than the last snapshot elsewhere", func(s scene) FolderCase {
		return FolderCase{Ask: deleted, Want: with(s.now(), map[string][]byte{s.name(1): s.of(1, 3)}), Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Save(s.path(1), s.of(1, 3))
			h.Save(s.path(1)+"~", s.of(1, 3))
			h.At(ago(9*day + 18*hour))
			for i := range s.n {
				h.Remove(s.path(i))
			}
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("some of which only the record is left", func(s scene) FolderCase {
		extra := s.folder + "/never snapped" + s.k.ext
		return FolderCase{Ask: deleted, Want: s.now(), Missing: []string{"never snapped" + s.k.ext}, Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Save(extra, s.of(50, 0))
			h.Survey()
			h.At(ago(9*day + 18*hour))
			for i := range s.n {
				h.Remove(s.path(i))
			}
			h.Remove(extra)
			h.Days(ago(9*day), ago(day))
		}}
	})
	return all
}
