package corpus

import (
	"bytes"
	"fmt"
	"time"

	"humble-rewind/internal/core/advice"
	"humble-rewind/internal/core/digest"
)

func acrossMachines() []Case {
	const family = "moved across machines"
	k := kinds[1]
	from, to := docs("tender.odt"), Home+"/Shared/tender.odt"
	content, edited := k.of(prose(110, 0, 30)), k.of(prose(110, 0, 36))
	play := func(edit bool) func(h *History) {
		return func(h *History) {
			h.machine(Second)
			h.At(ago(30 * day))
			h.Save(from, content)
			h.Days(ago(29*day), ago(15*day))
			h.Survey()
			h.At(ago(14*day + hour))
			h.Carry(from, to)
			h.Days(ago(14*day), ago(8*day))
			h.Survey()
			if edit {
				h.SaveOn(Second, to, edited)
				h.Days(ago(7*day), ago(day))
			}
		}
	}
	return []Case{
		{
			Family:  family,
			Variant: "as it was",
			Path:    from,
			Ask:     advice.Question{Loss: advice.Misplaced},
			Want:    content,
			Found:   Second + ":" + to,
			Play:    play(false),
		},
		{
			Family:  family,
			Variant: "and worked on there",
			Path:    from,
			Ask:     advice.Question{Loss: advice.Misplaced},
			Want:    edited,
			Found:   Second + ":" + to,
			Play:    play(true),
		},
		{
			Family:  family,
			Variant: "the version from before",
			Path:    to,
			Machine: Second,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(20 * day)},
			Want:    content,
			Play:    play(true),
		},
	}
}

func redirected() []Case {
	const family = "folder redirected"
	k := kinds[0]
	old, now := Home+"/Documents/log.txt", Home+"/Cloud/Documents/log.txt"
	content, edited := k.of(prose(120, 0, 30)), k.of(prose(120, 0, 36))
	play := func(h *History) {
		h.At(ago(40 * day))
		h.Save(Home+"/.config/user-dirs.dirs", []byte("XDG_DOCUMENTS_DIR=\"$HOME/Documents\"\n"))
		h.Save(old, content)
		h.Save(docs("another.txt"), k.of(prose(121, 0, 4)))
		h.Days(ago(39*day), ago(20*day))
		h.Move(Home+"/Documents", Home+"/Cloud/Documents")
		h.Save(Home+"/.config/user-dirs.dirs", []byte("XDG_DOCUMENTS_DIR=\"$HOME/Cloud/Documents\"\n"))
		h.Days(ago(19*day), ago(10*day))
		h.Save(now, edited)
		h.Days(ago(9*day), ago(5*day))
	}
	gone := func(h *History) {
		play(h)
		h.Discard(now)
		h.Days(ago(4*day), ago(day))
	}
	return []Case{
		{
			Family:  family,
			Variant: "looked for where it was",
			Path:    old,
			Ask:     advice.Question{Loss: advice.Misplaced},
			Want:    edited,
			Found:   First + ":" + now,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "deleted afterwards, asked by the old path",
			Path:    old,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    edited,
			Play:    gone,
		},
		{
			Family:  family,
			Variant: "overwritten afterwards, good before",
			Path:    now,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(25 * day)},
			Want:    content,
			Play:    play,
		},
	}
}

func wrongExtension() []Case {
	all := each("wrong extension", func(k kind, n int) Case {
		wrong := []string{".dat", ".txt", ".zip", ".txt", ".jpg", ".txt", ".dat"}[n]
		path, right := docs("map"+wrong), docs("map"+k.ext)
		content := k.of(prose(uint64(130+n), 0, 30))
		if n%2 == 1 {
			return Case{
				Path:  path,
				Ask:   advice.Question{Loss: advice.Damaged},
				Want:  content,
				Found: First + ":" + path,
				Play: func(h *History) {
					h.At(ago(9 * day))
					h.Save(path, content)
					h.Days(ago(8*day), ago(day))
				},
			}
		}
		return Case{
			Path:  right,
			Ask:   advice.Question{Loss: advice.Misplaced},
			Want:  content,
			Found: First + ":" + path,
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(right, content)
				h.Days(ago(8*day), ago(4*day))
				h.Move(right, path)
				h.Days(ago(3*day), ago(day))
			},
		}
	})
	return all
}

func wrongClocks() []Case {
	const family = "clock wrong"
	var all []Case
	for _, skew := range []time.Duration{hour, -hour, day, -day, 400 * day} {
		k := kinds[0]
		path := docs("clock.txt")
		a, b, c := k.of(prose(140, 0, 30)), k.of(prose(140, 0, 33)), k.of(prose(141, 0, 8))
		all = append(
			all,
			Case{
				Family:  family,
				Variant: fmt.Sprintf("%s ahead", skew),
				Path:    path,
				Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(6*day + 5*hour)},
				Want:    b,
				Play: func(h *History) {
					h.skew = skew
					h.At(ago(20 * day))
					h.Save(path, a)
					h.Days(ago(20*day-hour), ago(13*day))
					h.At(ago(12 * day))
					h.Save(path, b)
					h.Days(ago(12*day-30*time.Minute), ago(6*day))
					h.At(ago(5 * day))
					h.Save(path, c)
					h.Days(ago(5*day-30*time.Minute), ago(hour))
				},
			},
		)
	}
	k := kinds[1]
	path := docs("clock.odt")
	a, b := k.of(prose(142, 0, 30)), k.of(prose(143, 0, 30))
	all = append(
		all,
		Case{
			Family:  family,
			Variant: "a day behind, which is known; noticed before it was deleted again",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Noticed: ago(2*day + 12*hour)},
			Want:    a,
			Play: func(h *History) {
				h.skew, h.told = -day, true
				h.At(ago(9 * day))
				h.Save(path, a)
				h.At(ago(7 * day))
				h.Discard(path)
				h.At(ago(5 * day))
				h.Save(path, b)
				h.At(ago(2 * day))
				h.Discard(path)
			},
		},
	)
	return all
}

func daylight() []Case {
	const family = "daylight-saving switch"
	// On 25 October 2026 at 01:00 UTC Lisbon's clocks went back from 02:00 to 01:00.
	change := time.Date(2026, 10, 25, 1, 0, 0, 0, time.UTC)
	k := kinds[0]
	path := docs("night.txt")
	a, b, c := k.of(prose(150, 0, 20)), k.of(prose(150, 0, 24)), k.of(prose(151, 0, 7))
	play := func(h *History) {
		h.At(change.Add(-5 * hour))
		h.Save(path, a)
		for at := change.Add(-4 * hour); at.Before(change.Add(4 * hour)); at = at.Add(20 * time.Minute) {
			h.At(at)
			switch {
			case at.Equal(change.Add(-20 * time.Minute)):
				h.Save(path, b)
			case at.Equal(change.Add(20 * time.Minute)):
				h.Save(path, c)
			}
			h.At(at.Add(5 * time.Minute))
			h.Snap()
		}
	}
	return []Case{
		{
			Family:  family,
			Variant: "before the hour that comes twice",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: change.Add(-30 * time.Minute)},
			Want:    a,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "in the hour, the first time",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: change.Add(-5 * time.Minute)},
			Want:    b,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "in the hour, the second time",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: change.Add(10 * time.Minute)},
			Want:    b,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "deleted in the repeated hour",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    c,
			Play: func(h *History) {
				play(h)
				h.At(change.Add(5 * hour))
				h.Discard(path)
			},
		},
	}
}

func thinned() []Case {
	return each("snapshots thinned to weekly", func(k kind, n int) Case {
		path := docs("weekly" + k.ext)
		seed := uint64(160 + n)
		v := func(i int) []byte { return k.of(prose(seed, 0, 20+i)) }
		var want []byte
		good := ago(30 * day)
		return Case{Path: path, Ask: advice.Question{Loss: advice.Overwritten, Good: good}, Want: func() []byte {
			// Saved each day; the snapshots of every seventh day are left, and those that were surveyed daily are only recorded.
			for i := range 60 {
				if at := ago(time.Duration(60-i) * day); i%7 == 0 && !at.After(good) {
					want = v(i)
				}
			}
			return want
		}(), Play: func(h *History) {
			for i := range 60 {
				h.At(ago(time.Duration(60-i) * day))
				h.Save(path, v(i))
				h.At(h.clock.Add(hour))
				h.Snap()
			}
			if n%2 == 0 {
				h.Survey()
			}
			h.Thin(func(at time.Time) bool { return int(at.Add(-hour).Sub(ago(60*day))/day)%7 == 0 })
		}}
	})
}

func excludedFolder() []Case {
	const family = "excluded folder"
	k := kinds[1]
	path := docs("Scratch/sums.odt")
	content := k.of(prose(170, 0, 20))
	play := func(trash bool) func(h *History) {
		return func(h *History) {
			h.Exclude("Scratch")
			h.At(ago(20 * day))
			h.Save(path, content)
			h.Days(ago(19*day), ago(5*day))
			h.Survey()
			if trash {
				h.Discard(path)
			} else {
				h.Remove(path)
			}
			h.Days(ago(4*day), ago(day))
		}
	}
	return []Case{
		{Family: family, Variant: "deleted for good", Path: path, Ask: advice.Question{Loss: advice.Deleted}, Want: nil, Play: play(false)},
		{
			Family:  family,
			Variant: "in the trash all the same",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    content,
			Play:    play(true),
		},
	}
}

func expired() []Case {
	const family = "expired trash"
	k := kinds[1]
	path := docs("expired.odt")
	a, b := k.of(prose(180, 0, 20)), k.of(prose(180, 0, 28))
	play := func(snapshots bool) func(h *History) {
		return func(h *History) {
			h.At(ago(60 * day))
			h.Save(path, a)
			if snapshots {
				h.Days(ago(59*day), ago(50*day))
			}
			h.At(ago(48 * day))
			h.Save(path, b)
			h.At(ago(45 * day))
			h.Discard(path)
			h.At(ago(44 * day))
			h.Survey()
			h.At(ago(14 * day))
			h.Empty()
		}
	}
	return []Case{
		{
			Family:  family,
			Variant: "an older version in a snapshot",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    a,
			Play:    play(true),
		},
		{Family: family, Variant: "nothing else", Path: path, Ask: advice.Question{Loss: advice.Deleted}, Want: nil, Play: play(false)},
	}
}

func misplaced() []Case {
	const family = "misplaced"
	k := kinds[1]
	path := docs("Quotes/quote.odt")
	a, b := k.of(prose(190, 0, 30)), k.of(prose(190, 0, 34))
	begin := func(h *History) {
		h.At(ago(30 * day))
		h.Save(path, a)
		h.Save(docs("Quotes/other.odt"), k.of(prose(191, 0, 9)))
		h.Days(ago(29*day), ago(10*day))
	}
	end := func(h *History) { h.Days(ago(9*day), ago(day)) }
	at := func(path string) string { return First + ":" + path }
	ask := advice.Question{Loss: advice.Misplaced}
	return []Case{
		{
			Family:  family,
			Variant: "dragged into another folder",
			Path:    path,
			Ask:     ask,
			Want:    a,
			Found:   at(docs("Orders/quote.odt")),
			Play: func(h *History) {
				begin(h)
				h.Move(path, docs("Orders/quote.odt"))
				end(h)
			},
		},
		{
			Family:  family,
			Variant: "moved, then worked on",
			Path:    path,
			Ask:     ask,
			Want:    b,
			Found:   at(docs("Orders/quote.odt")),
			Play: func(h *History) {
				begin(h)
				h.Move(path, docs("Orders/quote.odt"))
				h.Days(ago(9*day), ago(5*day))
				h.Save(docs("Orders/quote.odt"), b)
				h.Days(ago(4*day), ago(day))
			},
		},
		{
			Family:  family,
			Variant: "copied elsewhere with a new time, and deleted",
			Path:    path,
			Ask:     ask,
			Want:    a,
			Found:   at(docs("Elsewhere/copy of it.odt")),
			Play: func(h *History) {
				begin(h)
				h.At(ago(9*day + hour))
				h.Save(docs("Elsewhere/copy of it.odt"), a)
				h.Discard(path)
				end(h)
			},
		},
		{
			Family:  family,
			Variant: "hidden by a dot",
			Path:    path,
			Ask:     ask,
			Want:    a,
			Found:   at(docs("Quotes/.quote.odt")),
			Play: func(h *History) {
				begin(h)
				h.Move(path, docs("Quotes/.quote.odt"))
				end(h)
			},
		},
		{
			Family:  family,
			Variant: "moved out of the trash by hand",
			Path:    path,
			Ask:     ask,
			Want:    a,
			Found:   at(Home + "/Desktop/quote.odt"),
			Play: func(h *History) {
				begin(h)
				h.Discard(path)
				h.Days(ago(9*day), ago(5*day))
				h.Survey()
				h.Move(Home+"/.local/share/Trash/files/quote.odt", Home+"/Desktop/quote.odt")
				h.Remove(Home + "/.local/share/Trash/info/quote.odt.trashinfo")
				h.Days(ago(4*day), ago(day))
			},
		},
		{
			Family:  family,
			Variant: "the same, and the user calls it deleted",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    a,
			Found:   at(Home + "/Desktop/quote.odt"),
			Play: func(h *History) {
				begin(h)
				h.Discard(path)
				h.At(ago(9 * day))
				h.Survey()
				h.Move(Home+"/.local/share/Trash/files/quote.odt", Home+"/Desktop/quote.odt")
				h.Remove(Home + "/.local/share/Trash/info/quote.odt.trashinfo")
				h.Thin(func(time.Time) bool { return false })
				h.At(ago(day))
				h.Snap()
			},
		},
		{Family: family, Variant: "it is deleted after all", Path: path, Ask: ask, Want: a, Play: func(h *History) {
			begin(h)
			h.Discard(path)
			end(h)
		}},
		{Family: family, Variant: "it stands where it always did", Path: path, Ask: ask, Want: a, Found: at(path), Play: func(h *History) {
			begin(h)
			end(h)
		}},
		{
			Family:  family,
			Variant: "its whole folder moved",
			Path:    path,
			Ask:     ask,
			Want:    a,
			Found:   at(docs("Archive/Quotes/quote.odt")),
			Play: func(h *History) {
				begin(h)
				h.Move(docs("Quotes"), docs("Archive/Quotes"))
				end(h)
			},
		},
	}
}

func unsaved() []Case {
	var all []Case
	for n, k := range kinds[:4] {
		path := docs("chapter" + k.ext)
		seed := uint64(200 + n)
		saved, unsavedWork, older := k.of(prose(seed, 0, 40)), k.of(prose(seed, 0, 46)), k.of(prose(seed, 0, 35))
		ask := advice.Question{Loss: advice.Unsaved}
		auto := Home + "/.local/share/writer/autosave/chapter_0" + k.ext
		begin := func(h *History) {
			h.At(ago(5 * day))
			h.Save(path, older)
			h.At(ago(5*day - hour))
			h.Snap()
			h.At(ago(26 * hour))
			h.Save(path, saved)
			h.At(ago(25 * hour))
			h.Snap()
		}
		add := func(family, variant string, want []byte, play func(h *History)) {
			all = append(
				all,
				Case{Family: family, Variant: k.name + ", " + variant, Path: path, Ask: ask, Want: want, Play: func(h *History) {
					begin(h)
					play(h)
				}},
			)
		}
		add("unsaved work in a stray", "beside it", unsavedWork, func(h *History) {
			h.At(ago(2 * hour))
			h.Save(docs("#chapter"+k.ext+"#"), unsavedWork)
			h.Save(docs(".~lock.chapter"+k.ext+"#"), []byte(",ines,loft,20.11.2026 14:00,file:///home/ines;"))
		})
		add("unsaved work in a stray", "where programs keep them", unsavedWork, func(h *History) {
			h.At(ago(3 * hour))
			h.Save(auto, unsavedWork)
			h.At(ago(2 * hour))
			h.Save(docs(".~lock.chapter"+k.ext+"#"), []byte(",ines,loft,20.11.2026 14:00,file:///home/ines;"))
		})
		add("unsaved work in a stray", "the newest is empty", unsavedWork, func(h *History) {
			h.At(ago(3 * hour))
			h.Save(auto, unsavedWork)
			h.At(ago(hour))
			h.Save(docs("#chapter"+k.ext+"#"), nil)
		})
		add("unsaved work in a stray", "and another machine had the same words before", unsavedWork, func(h *History) {
			h.machine(Second)
			h.At(ago(40 * hour))
			h.SaveOn(Second, Home+"/Elsewhere/words"+k.ext, unsavedWork)
			h.Survey()
			h.Digest()
			h.At(ago(2 * hour))
			h.Save(docs("#chapter"+k.ext+"#"), unsavedWork)
		})
		add("a stray older than the save", "beside it", saved, func(h *History) {
			h.At(ago(30 * hour))
			h.Save(docs("chapter"+k.ext+"~"), older)
		})
		add("a stray older than the save", "copied later, which gave it a new time", saved, func(h *History) {
			h.At(ago(hour))
			h.Save(docs("chapter"+k.ext+"~"), older)
		})
		add("a stray of another document", "of a similar name", saved, func(h *History) {
			h.At(ago(2 * hour))
			h.Save(docs("#chapter two"+k.ext+"#"), k.of(prose(seed+60, 0, 30)))
			h.Save(docs("chapter two"+k.ext), k.of(prose(seed+60, 0, 28)))
		})
		add("a stray of another document", "of the same name in another folder", saved, func(h *History) {
			h.At(ago(20 * hour))
			h.Save(Home+"/Other/chapter"+k.ext, k.of(prose(seed+70, 0, 28)))
			h.At(ago(2 * hour))
			h.Save(auto, k.of(prose(seed+70, 0, 30)))
		})
	}
	return all
}

func hinted() []Case {
	const family = "hints"
	k := kinds[1]
	path := docs("hinted.odt")
	v := func(n int) []byte { return k.of(prose(220, 0, 20+n)) }
	play := func(h *History) {
		for i := range 6 {
			h.At(ago(time.Duration(12-2*i) * day))
			h.Save(path, v(i))
			h.At(h.clock.Add(hour))
			h.Snap()
		}
	}
	return []Case{
		{
			Family:  family,
			Variant: "words that nothing has",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Hints: advice.Hints{Words: []string{"submarine"}}},
			Want:    nil,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "words that must not be in it",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(hour), Hints: advice.Hints{Without: []string{"220-23 "}}},
			Want:    v(3),
			Play:    play,
		},
		{
			Family:  family,
			Variant: "not this one",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(3 * day), Wrong: map[digest.Sum]bool{digest.Parse(sum(v(4))): true}},
			Want:    v(3),
			Play:    play,
		},
		{
			Family:  family,
			Variant: "a size",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(hour), Hints: advice.Hints{Most: int64(len(v(2)))}},
			Want:    v(2),
			Play:    play,
		},
		{
			Family:  family,
			Variant: "good before anything was known",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(50 * day)},
			Want:    nil,
			Play:    play,
		},
	}
}

func contradictions() []Case {
	const family = "contradicting times"
	k := kinds[0]
	path := docs("times.txt")
	a, b := k.of(prose(230, 0, 20)), k.of(prose(230, 0, 25))
	play := func(h *History) {
		h.At(ago(10 * day))
		h.Save(path, a)
		h.Days(ago(9*day), ago(5*day))
		h.Save(path, b)
		h.Days(ago(4*day), ago(2*day))
		h.Discard(path)
	}
	return []Case{
		{
			Family:  family,
			Variant: "noticed in the future",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Noticed: Now.Add(3 * day)},
			Want:    b,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "good after it was noticed",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(3 * day), Noticed: ago(6 * day)},
			Want:    b,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "good in the future",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Good: Now.Add(day)},
			Want:    b,
			Play:    play,
		},
		{
			Family:  family,
			Variant: "every copy broken",
			Path:    docs("broken.odt"),
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    nil,
			Play: func(h *History) {
				h.At(ago(10 * day))
				for i := range 5 {
					h.At(ago(time.Duration(10-i) * day))
					h.Save(docs("broken.odt"), bytes.Repeat([]byte{byte(i)}, 3000+i)[:2000+i])
					h.At(h.clock.Add(hour))
					h.Snap()
				}
				h.Discard(docs("broken.odt"))
			},
		},
	}
}
