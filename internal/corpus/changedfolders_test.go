package corpus

import (
	"fmt"
	"strings"
	"time"

	"humble-rewind/internal/core/advice"
)

// regressedFolders lost content to what took its place.
func regressedFolders() []FolderCase {
	overwritten := advice.Question{Loss: advice.Overwritten}
	var all []FolderCase
	add := func(family string, make func(s scene) FolderCase) { all = append(all, scenes(family, make)...) }
	// revised works on all files once more, each on its own day.
	revised := func(h *History, s scene) {
		s.begin(h)
		for i := range s.n {
			h.At(ago(10*day - time.Duration(i)*3*hour - hour))
			h.Save(s.path(i), s.of(i, 6))
		}
		h.Days(ago(7*day), ago(5*day))
	}
	last := func(s scene, some ...int) map[string][]byte {
		want := map[string][]byte{}
		for _, i := range some {
			want[s.name(i)] = s.of(i, 6)
		}
		return want
	}
	every := func(s scene) (some []int) {
		for i := range s.n {
			some = append(some, i)
		}
		return some
	}
	for _, anew := range []bool{false, true} {
		dates := map[bool]string{false: "with its old date, ", true: "with a new date, "}[anew]
		putBack := func(h *History, s scene, i int) {
			if anew {
				h.Save(s.path(i), s.of(i, 0))
			} else {
				h.Bring(s.path(i), s.of(i, 0), ago(60*day))
			}
		}
		add("a sync put older content back", func(s scene) FolderCase {
			return FolderCase{Variant: dates, Ask: overwritten, Want: last(s, every(s)...), Play: func(h *History) {
				revised(h, s)
				for i := range s.n {
					h.At(ago(4*day + 3*hour - time.Duration(i)*time.Second))
					putBack(h, s, i)
				}
				h.Days(ago(4*day), ago(day))
			}}
		})
		add("a sync put older content back, known when it was right", func(s scene) FolderCase {
			ask := advice.Question{Loss: advice.Overwritten, Good: ago(5*day - hour)}
			return FolderCase{Variant: dates, Ask: ask, Want: last(s, 0, 1, 2, 3, 4, 5, 6, 7), Play: func(h *History) {
				revised(h, s)
				for i := range 8 {
					h.At(ago(4*day + 3*hour - time.Duration(i)*time.Second))
					putBack(h, s, i)
				}
				h.At(ago(4*day + 2*hour))
				h.Save(s.path(9), s.of(9, 8)) // work that goes on
				h.Days(ago(4*day), ago(day))
			}}
		})
		add("a sync put older content back, some of which nobody captured", func(s scene) FolderCase {
			return FolderCase{Variant: dates, Ask: overwritten, Want: last(s, every(s)...), Play: func(h *History) {
				revised(h, s)
				for i := range s.n {
					h.At(ago(4*day + 3*hour - time.Duration(i)*time.Second))
					switch { // some as they were between two snapshots
					case i%4 == 1 && anew:
						h.Save(s.path(i), s.of(i, 4))
					case i%4 == 1:
						h.Bring(s.path(i), s.of(i, 4), ago(30*day))
					default:
						putBack(h, s, i)
					}
				}
				h.Days(ago(4*day), ago(day))
			}}
		})
		add("a few put back, too few for a crowd", func(s scene) FolderCase {
			return FolderCase{Variant: dates, Ask: overwritten, Want: last(s, 1, 6), Play: func(h *History) {
				revised(h, s)
				for _, i := range []int{1, 6} {
					h.At(ago(4*day + 3*hour - time.Duration(i)*time.Second))
					putBack(h, s, i)
				}
				h.Save(s.path(3), s.of(3, 9))
				h.Days(ago(4*day), ago(day))
			}}
		})
	}
	add("a few replaced by other documents", func(s scene) FolderCase {
		return FolderCase{Ask: overwritten, Want: last(s, 2, 7, 8), Play: func(h *History) {
			revised(h, s)
			for _, i := range []int{2, 7, 8} {
				h.At(ago(4*day + 3*hour - time.Duration(i)*time.Minute))
				h.Save(s.path(i), s.k.of(prose(uint64(8800+i), 0, 18)))
			}
			h.Save(s.path(3), s.of(3, 9))
			h.Days(ago(4*day), ago(day))
		}}
	})
	add("a few replaced or gutted in one sitting", func(s scene) FolderCase {
		return FolderCase{Ask: overwritten, Want: last(s, 2, 5, 7), Play: func(h *History) {
			revised(h, s)
			for i, k := range []int{2, 5, 7} {
				h.At(ago(4*day + 3*hour - time.Duration(k)*time.Minute))
				replaced := s.k.of(prose(uint64(8800+k), 0, 18))
				if i == 1 {
					replaced = s.k.of(prose(s.seed+5, 0, 6)) // a third of it is left
				}
				h.Save(s.path(k), replaced)
			}
			h.Days(ago(4*day), ago(day))
		}}
	})
	add("a few replaced, with a newer backup copy beside", func(s scene) FolderCase {
		return FolderCase{Ask: overwritten, Want: with(last(s, 2, 7), map[string][]byte{s.name(7): s.of(7, 8)}), Play: func(h *History) {
			revised(h, s)
			h.At(ago(4*day + 5*hour))
			h.Save(s.path(7), s.of(7, 8))
			h.Save(s.path(7)+"~", s.of(7, 8))
			for _, i := range []int{2, 7} {
				h.At(ago(4*day + 3*hour - time.Duration(i)*time.Minute))
				h.Save(s.path(i), s.k.of(prose(uint64(8800+i), 0, 18)))
			}
			h.Days(ago(4*day), ago(day))
		}}
	})
	return all
}

// damagedFolders were broken.
func damagedFolders() []FolderCase {
	damaged := advice.Question{Loss: advice.Damaged}
	var all []FolderCase
	add := func(family string, make func(s scene) FolderCase) { all = append(all, scenes(family, make)...) }
	encrypt := func(h *History, s scene, at time.Time, from, to int) {
		for i := from; i < to; i++ {
			h.At(at.Add(time.Duration(i) * time.Second))
			h.Save(s.path(i), noise(s.seed+uint64(i), 1400))
		}
	}
	add("encrypted, and noticed before a change on purpose", func(s scene) FolderCase {
		want := s.now()
		ask := advice.Question{Loss: advice.Damaged, Noticed: ago(5 * day)}
		return FolderCase{Ask: ask, Want: want, Play: func(h *History) {
			s.begin(h)
			encrypt(h, s, ago(7*day), 0, s.n)
			h.Days(ago(7*day-hour), ago(4*day))
			for i := range 6 {
				h.At(ago(3*day - time.Duration(i)*time.Second))
				h.Save(fmt.Sprintf("%s/new %d.txt", s.folder, i), plain(i))
			}
			h.Days(ago(2*day), ago(day))
		}}
	})
	add("encrypted beside what came first", func(s scene) FolderCase {
		return FolderCase{Ask: damaged, Want: s.now(), Play: func(h *History) {
			s.begin(h)
			h.At(ago(7*day + 2*hour))
			h.Save(s.folder+"/key.bin", noise(77, 900))
			h.At(ago(7*day + hour))
			encrypt(h, s, ago(7*day), 0, s.n)
			h.Days(ago(7*day-hour), ago(day))
		}}
	})
	add("some encrypted on one day, the others on the next", func(s scene) FolderCase {
		return FolderCase{Ask: damaged, Want: with(s.now(), map[string][]byte{s.name(s.n - 1): s.of(s.n-1, 5)}), Play: func(h *History) {
			s.begin(h)
			encrypt(h, s, ago(7*day+2*hour), 0, s.n/2)
			h.At(ago(7*day + hour))
			h.Save(s.path(s.n-1), s.of(s.n-1, 5))
			h.Days(ago(7*day), ago(7*day))
			encrypt(h, s, ago(6*day+2*hour), s.n/2, s.n)
			h.Days(ago(6*day), ago(day))
		}}
	})
	add("single files in different ways", func(s scene) FolderCase {
		want := map[string][]byte{s.name(0): s.of(0, 2), s.name(4): s.of(4, 0), s.name(5): s.of(5, 0)}
		return FolderCase{Ask: damaged, Want: want, Play: func(h *History) {
			s.begin(h)
			h.At(ago(8 * day))
			h.Save(s.path(0), make([]byte, 3000))
			h.At(ago(6 * day))
			h.Save(s.path(4), noise(4, 2000))
			h.At(ago(5 * day))
			h.Save(s.path(5), nil)
			h.Save(s.path(6), s.of(6, 7))
			h.Days(ago(4*day), ago(day))
		}}
	})
	add("broken under the same size and date", func(s scene) FolderCase {
		want := map[string][]byte{s.name(3): s.of(3, 2), s.name(7): s.of(7, 0)}
		return FolderCase{Ask: damaged, Want: want, Play: func(h *History) {
			s.begin(h)
			h.Survey()
			h.At(ago(6 * day))
			h.Sneak(s.path(3), bitten(s.of(3, 2)))
			h.Sneak(s.path(7), bitten(s.of(7, 0)))
			h.Days(ago(6*day-hour), ago(day))
		}}
	})
	add("broken, with a whole leftover newer than the last snapshot", func(s scene) FolderCase {
		want := map[string][]byte{s.name(3): s.of(3, 5), s.name(7): s.of(7, 0)}
		return FolderCase{Ask: damaged, Want: want, Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Save(s.path(3)+".tmp", s.of(3, 5))
			h.Save(s.path(7)+"~", cut(s.of(7, 9)))
			h.At(ago(9*day + 20*hour).Add(2 * time.Second))
			h.Save(s.path(3), make([]byte, 900))
			h.Save(s.path(7), make([]byte, 900))
			h.Days(ago(9*day), ago(day))
		}}
	})
	add("broken, with a leftover that no name says is of them", func(s scene) FolderCase {
		return FolderCase{Ask: damaged, Want: map[string][]byte{s.name(3): s.of(3, 5), s.name(7): s.of(7, 6)}, Play: func(h *History) {
			s.begin(h)
			h.At(ago(9*day + 20*hour))
			h.Save(s.folder+"/tmp5e21.tmp", s.of(3, 5))
			h.Save(Home+"/.cache/desk/tmp77120", s.of(7, 6))
			h.Save(s.folder+"/tmp11c0.tmp", s.k.of(prose(9900, 0, 18))) // of nothing here
			h.At(ago(9*day + 20*hour).Add(2 * time.Second))
			h.Save(s.path(3), make([]byte, 900))
			h.Save(s.path(7), make([]byte, 900))
			h.Days(ago(9*day), ago(day))
		}}
	})
	formats := FolderCase{Family: "broken as their formats tell", Variant: "mixed", Path: docs("Mixed"), Ask: damaged}
	text := prose(4400, 0, 30)
	whole := map[string][]byte{"a.odt": odt(text), "b.pdf": pdf(text), "c.db": database(text), "d.docx": docx(text), "e.csv": table(text)}
	formats.Want = whole
	formats.Play = func(h *History) {
		h.At(ago(40 * day))
		for name, content := range whole {
			h.Save(docs("Mixed/"+name), content)
		}
		for i := range 20 {
			h.Save(docs(fmt.Sprintf("Mixed/other %d.txt", i)), plain(i))
		}
		h.Days(ago(39*day), ago(20*day))
		h.At(ago(19 * day))
		h.Save(docs("Mixed/a.odt"), archive("mimetype", "application/vnd.oasis.opendocument.text", "META-INF/manifest.xml", "<a/>"))
		h.At(ago(17 * day))
		h.Save(docs("Mixed/b.pdf"), []byte(strings.Replace(string(whole["b.pdf"]), "stream\n", "stream\n"+strings.Repeat("\x00", 40), 1)))
		h.At(ago(15 * day))
		h.Save(docs("Mixed/c.db"), noise(3, len(whole["c.db"])))
		h.At(ago(13 * day))
		h.Save(docs("Mixed/d.docx"), archive("[Content_Types].xml", "<Types/>", "_rels/.rels", "<R/>", "word/styles.xml", "<w/>"))
		h.At(ago(11 * day))
		h.Save(docs("Mixed/e.csv"), zeroed(whole["e.csv"]))
		h.Days(ago(10*day), ago(day))
	}
	return append(all, formats)
}

// purposefulFolders are those to which nothing happened that should be undone.
func purposefulFolders() []FolderCase {
	var all []FolderCase
	for _, loss := range []advice.Loss{advice.Overwritten, advice.Damaged, advice.Deleted} {
		all = append(all, scenes("renamed on purpose", func(s scene) FolderCase {
			return FolderCase{Variant: string(loss) + ", ", Ask: advice.Question{Loss: loss}, Want: map[string][]byte{}, Play: func(h *History) {
				s.begin(h)
				h.At(ago(7 * day))
				for i := range s.n {
					h.Move(s.path(i), fmt.Sprintf("%s/2026 plan %02d%s", s.folder, i, s.k.ext))
				}
				h.Days(ago(7*day-hour), ago(day))
			}}
		})...)
	}
	all = append(all, scenes("edited on purpose, all at once", func(s scene) FolderCase {
		return FolderCase{Ask: advice.Question{Loss: advice.Overwritten}, Want: map[string][]byte{}, Play: func(h *History) {
			s.begin(h)
			for i := range s.n {
				h.At(ago(7*day - time.Duration(i)*time.Second))
				h.Save(s.path(i), s.of(i, 3))
			}
			h.Days(ago(6*day), ago(day))
		}}
	})...)
	return append(all, scenes("renamed on purpose, then two removed", func(s scene) FolderCase {
		after := func(i int) string { return fmt.Sprintf("2026 plan %02d%s", i, s.k.ext) }
		want := map[string][]byte{after(3): s.of(3, 2), after(7): s.of(7, 0)}
		return FolderCase{Ask: advice.Question{Loss: advice.Deleted}, Want: want, Play: func(h *History) {
			s.begin(h)
			h.At(ago(8*day + 2*hour))
			for i := range s.n {
				h.Move(s.path(i), s.folder+"/"+after(i))
			}
			h.Days(ago(8*day), ago(6*day))
			h.At(ago(5*day + 2*hour))
			h.Remove(s.folder + "/" + after(3))
			h.Discard(s.folder + "/" + after(7))
			h.Days(ago(5*day), ago(day))
		}}
	})...)
}
