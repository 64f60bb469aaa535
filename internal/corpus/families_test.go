package corpus

import (
	"fmt"
	"time"

	"humble-rewind/internal/core/advice"
)

// All are the cases, family by family. What is wanted is what the history put there, never what the advice says.
func All() []Case {
	var all []Case
	for _, family := range []func() []Case{deletions, severalRemovals, trees, overwrittenShorter, olderSynced, damagedForWeeks,
		encrypted, truncated, encryptedRenamed, worse, withoutRecord, bulkCopied, renamedDeleted,
		acrossMachines, redirected, wrongExtension, wrongClocks, daylight, thinned, excludedFolder, expired, misplaced, unsaved,
		hinted, contradictions, leftoversForEveryLoss, damageThatHides, twoMachines, becameAnother, renamed, thinnedTorn, springForward,
		recordsAlone, leftoversByName, calledAnother, contradicted} {
		all = append(all, family()...)
	}
	return all
}

func docs(name string) string { return Home + "/Documents/" + name }

// each makes a case for every format.
func each(family string, make func(k kind, n int) Case) []Case {
	var all []Case
	for n, k := range kinds {
		c := make(k, n)
		c.Family = family
		if c.Variant == "" {
			c.Variant = k.name
		}
		all = append(all, c)
	}
	return all
}

func deletions() []Case {
	const family = "plain deletion"
	all := each(family, func(k kind, n int) Case {
		path := docs("plan" + k.ext)
		old, last := k.of(prose(1, 0, 20)), k.of(prose(1, 0, 25))
		return Case{
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    last,
			Variant: k.name + ", in the trash",
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(path, old)
				h.Days(ago(8*day), ago(4*day))
				h.At(ago(3*day + 2*hour))
				h.Save(path, last)
				h.At(ago(3 * day))
				h.Discard(path)
				h.Days(ago(3*day-hour), ago(hour))
			},
		}
	})
	text := kinds[0]
	path := docs("list.txt")
	a, b, c := text.of(prose(2, 0, 30)), text.of(prose(2, 0, 34)), text.of(prose(3, 0, 12))
	all = append(
		all,
		Case{
			Family:  family,
			Variant: "no trash, only snapshots",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    b,
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
				h.Days(ago(19*day), ago(12*day))
				h.Save(path, b)
				h.Days(ago(11*day), ago(6*day))
				h.Remove(path)
				h.Days(ago(5*day), ago(hour))
			},
		},
		Case{
			Family:  family,
			Variant: "deleted, and something else saved under its name",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    b,
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(path, b)
				h.Days(ago(8*day), ago(4*day))
				h.Discard(path)
				h.Days(ago(3*day), ago(2*day))
				h.At(ago(day))
				h.Save(path, c)
				h.At(ago(hour))
				h.Snap()
			},
		},
		Case{
			Family:  family,
			Variant: "saved once more right before, which only the trash has",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Good: ago(4 * day)},
			Want:    b,
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(path, a)
				h.Days(ago(8*day), ago(3*day))
				h.At(ago(2*day + hour))
				h.Save(path, b)
				h.At(ago(2 * day))
				h.Discard(path)
			},
		},
		Case{
			Family:  family,
			Variant: "deleted, and a folder made under its name",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    b,
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(path, b)
				h.Days(ago(8*day), ago(4*day))
				h.Remove(path)
				h.Save(path+"/other.txt", c)
				h.Days(ago(3*day), ago(hour))
			},
		},
		Case{
			Family:  family,
			Variant: "never in any source",
			Path:    docs("nowhere.txt"),
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    nil,
			Play: func(h *History) {
				h.At(ago(day))
				h.Save(path, a)
				h.Snap()
			},
		},
	)
	return all
}

func severalRemovals() []Case {
	const family = "two trashed items of one name"
	path, other := docs("offer.odt"), docs("Old/offer.odt")
	k := kinds[1]
	a, b, c := k.of(prose(4, 0, 20)), k.of(prose(5, 0, 20)), k.of(prose(6, 0, 20))
	play := func(h *History) {
		h.At(ago(12 * day))
		h.Save(path, a)
		h.Save(other, c)
		h.At(ago(10 * day))
		h.Discard(path)
		h.At(ago(9 * day))
		h.Save(path, b)
		h.At(ago(7 * day))
		h.Discard(path)
		h.At(ago(6 * day))
		h.Discard(other)
	}
	return []Case{
		{Family: family, Variant: "the last of two", Path: path, Ask: advice.Question{Loss: advice.Deleted}, Want: b, Play: play},
		{
			Family:  family,
			Variant: "noticed before the second",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Noticed: ago(9*day + 12*hour)},
			Want:    a,
			Play:    play,
		},
		{Family: family, Variant: "from another folder", Path: other, Ask: advice.Question{Loss: advice.Deleted}, Want: c, Play: play},
		{
			Family:  family,
			Variant: "words that only the first has",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted, Hints: advice.Hints{Words: []string{"4-3 "}}},
			Want:    a,
			Play:    play,
		},
	}
}

func trees() []Case {
	const family = "a tree deleted whole"
	var all []Case
	for n, k := range kinds[:3] {
		folder, path := docs("Regatta"), docs("Regatta/2025/Entries"+k.ext)
		content := k.of(prose(uint64(10+n), 0, 22))
		play := func(trash bool) func(h *History) {
			return func(h *History) {
				h.At(ago(30 * day))
				h.Save(path, content)
				h.Save(folder+"/Results.csv", table(prose(9, 0, 5)))
				h.Days(ago(29*day), ago(5*day))
				if trash {
					h.Discard(folder)
				} else {
					h.Remove(folder)
				}
				h.Days(ago(4*day), ago(day))
			}
		}
		all = append(
			all,
			Case{
				Family:  family,
				Variant: k.name + ", into the trash",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Deleted},
				Want:    content,
				Play:    play(true),
			},
			Case{
				Family:  family,
				Variant: k.name + ", for good",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Deleted},
				Want:    content,
				Play:    play(false),
			},
		)
	}
	return all
}

func overwrittenShorter() []Case {
	const family = "overwritten by a shorter draft"
	var all []Case
	for n, k := range kinds {
		path := docs("report" + k.ext)
		seed := uint64(20 + n)
		v := func(lines int) []byte { return k.of(prose(seed, 0, lines)) }
		good := v(44)
		draft := k.of(prose(seed+50, 0, 9))
		after := k.of(append(prose(seed+50, 0, 9), prose(seed+51, 0, 1)...))
		play := func(h *History) {
			for i := range 5 {
				h.At(ago(time.Duration(20-i) * day))
				h.Save(path, v(40+i))
				h.At(h.clock.Add(2 * hour))
				h.Snap()
			}
			h.At(ago(6 * day))
			h.Save(path, draft)
			h.Days(ago(6*day-2*hour), ago(4*day))
			h.At(ago(3 * day))
			h.Save(path, after)
			h.Days(ago(3*day-hour), ago(hour))
		}
		all = append(
			all,
			Case{
				Family:  family,
				Variant: k.name + ", by when it was good",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(7 * day)},
				Want:    good,
				Play:    play,
			},
			Case{
				Family:  family,
				Variant: k.name + ", by the break",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Overwritten},
				Want:    good,
				Play:    play,
			},
		)
		if k.words {
			all = append(
				all,
				Case{
					Family:  family,
					Variant: k.name + ", by words",
					Path:    path,
					Ask:     advice.Question{Loss: advice.Overwritten, Hints: advice.Hints{Words: []string{fmt.Sprintf("%d-41", seed)}}},
					Want:    good,
					Play:    play,
				},
			)
		}
	}
	return all
}

func olderSynced() []Case {
	return each("an older version synced over a newer", func(k kind, n int) Case {
		path := docs("minutes" + k.ext)
		a, b, c := k.of(prose(30, 0, 20)), k.of(prose(30, 0, 26)), k.of(prose(30, 0, 33))
		ask := advice.Question{Loss: advice.Overwritten}
		if n%2 == 0 {
			ask.Good = ago(5 * day)
		}
		return Case{Path: path, Ask: ask, Want: c, Play: func(h *History) {
			h.At(ago(20 * day))
			h.Save(path, a)
			h.Days(ago(20*day-hour), ago(15*day))
			h.At(ago(14 * day))
			h.Save(path, b)
			h.Days(ago(14*day-hour), ago(10*day))
			h.At(ago(9 * day))
			h.Save(path, c)
			h.Days(ago(9*day-hour), ago(5*day))
			h.At(ago(4 * day))
			h.Bring(path, a, ago(20*day))
			h.Days(ago(4*day-hour), ago(hour))
		}}
	})
}

func damagedForWeeks() []Case {
	const family = "damaged for weeks"
	var all []Case
	for n, k := range kinds {
		harms := map[string]func([]byte) []byte{"cut off": cut, "end never written": zeroed, "bytes changed": bitten}
		for _, harm := range []string{"cut off", "end never written", "bytes changed"} {
			if !k.exact && harm == "bytes changed" {
				continue
			}
			path := docs("ledger" + k.ext)
			seed := uint64(40 + n)
			sound := k.of(prose(seed, 0, 60))
			all = append(
				all,
				Case{
					Family:  family,
					Variant: k.name + ", " + harm,
					Path:    path,
					Ask:     advice.Question{Loss: advice.Damaged},
					Want:    sound,
					Play: func(h *History) {
						h.At(ago(60 * day))
						h.Save(path, k.of(prose(seed, 0, 50)))
						h.Days(ago(59*day), ago(50*day))
						h.Save(path, sound)
						h.Days(ago(49*day), ago(42*day))
						for i := range 40 { // saved again and again, and broken each time
							h.At(ago(time.Duration(41-i) * day))
							h.Save(path, harms[harm](k.of(prose(seed, 0, 61+i))))
							h.At(h.clock.Add(hour))
							h.Snap()
						}
					},
				},
			)
		}
	}
	list := kinds[3].of(prose(69, 0, 30))
	all = append(
		all,
		Case{
			Family:  family,
			Variant: "a page in the place of a table",
			Path:    docs("list.csv"),
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    list,
			Play: func(h *History) {
				h.At(ago(30 * day))
				h.Save(docs("list.csv"), list)
				h.Days(ago(29*day), ago(20*day))
				h.Save(
					docs("list.csv"),
					[]byte("<!DOCTYPE html>\n<html><head><title>Sign in</title></head><body>Please sign in first.</body></html>\n"),
				)
				h.Days(ago(19*day), ago(day))
			},
		},
	)
	for n, k := range kinds[:3] { // also where no format tells
		path := docs("quiet" + k.ext)
		sound := k.of(prose(uint64(60+n), 0, 50))
		all = append(
			all,
			Case{
				Family:  family,
				Variant: k.name + ", size and time kept",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Damaged},
				Want:    sound,
				Play: func(h *History) {
					h.At(ago(30 * day))
					h.Save(path, sound)
					h.Days(ago(29*day), ago(5*day))
					h.At(ago(4 * day))
					h.Survey()
					harmed := []byte(string(sound))
					harmed[len(harmed)/2] ^= 1
					h.Sneak(path, harmed)
					h.At(ago(day))
					h.Snap()
				},
			},
		)
	}
	return all
}

func encrypted() []Case {
	all := each("encrypted in bulk", func(k kind, n int) Case {
		path := docs("Orders/order" + k.ext)
		good := k.of(prose(uint64(70+n), 0, 40))
		loss := advice.Damaged
		if n%2 == 1 {
			loss = advice.Overwritten
		}
		return Case{
			Path:    path,
			Ask:     advice.Question{Loss: loss},
			Want:    good,
			Variant: fmt.Sprintf("%s, %s", k.name, loss),
			Play: func(h *History) {
				h.At(ago(40 * day))
				h.Save(path, good)
				for i := range 12 {
					h.Save(docs(fmt.Sprintf("Orders/other %d.txt", i)), kinds[0].of(prose(uint64(100+i), 0, 10)))
				}
				h.Days(ago(39*day), ago(3*day))
				h.At(ago(2 * day))
				for i := range 12 {
					h.At(h.clock.Add(time.Second))
					h.Save(docs(fmt.Sprintf("Orders/other %d.txt", i)), noise(uint64(i), 700))
				}
				h.Save(path, noise(99, len(good)))
				h.Days(ago(2*day-hour), ago(hour))
			},
		}
	})
	return all
}

func truncated() []Case {
	return each("emptied by a crash", func(k kind, n int) Case {
		path := docs("notes" + k.ext)
		good := k.of(prose(uint64(80+n), 0, 30))
		loss := []advice.Loss{advice.Damaged, advice.Overwritten, advice.Damaged, advice.Deleted}[n%4]
		return Case{
			Path:    path,
			Ask:     advice.Question{Loss: loss},
			Want:    good,
			Variant: fmt.Sprintf("%s, %s", k.name, loss),
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, k.of(prose(uint64(80+n), 0, 25)))
				h.Days(ago(19*day), ago(10*day))
				h.Save(path, good)
				h.Days(ago(9*day), ago(4*day))
				h.At(ago(3 * day))
				if n%2 == 0 {
					h.Save(path, nil)
				} else {
					h.Save(path, make([]byte, len(good)))
				}
				h.Days(ago(3*day-hour), ago(day))
				if loss == advice.Deleted {
					h.Discard(path)
				}
			},
		}
	})
}

func renamedDeleted() []Case {
	const family = "renamed, then deleted"
	var all []Case
	for n, k := range kinds[:4] {
		old, now := docs("draft"+k.ext), docs("final version"+k.ext)
		content, edited := k.of(prose(uint64(90+n), 0, 30)), k.of(prose(uint64(90+n), 0, 32))
		play := func(h *History) {
			h.At(ago(30 * day))
			h.Save(old, content)
			h.Days(ago(29*day), ago(20*day))
			h.Move(old, now)
			h.Days(ago(19*day), ago(10*day))
			h.Save(now, edited)
			h.Days(ago(9*day), ago(5*day))
			h.Discard(now)
			h.Days(ago(4*day), ago(day))
		}
		all = append(
			all,
			Case{
				Family:  family,
				Variant: k.name + ", asked by the old name",
				Path:    old,
				Ask:     advice.Question{Loss: advice.Deleted},
				Want:    edited,
				Play:    play,
			},
			Case{
				Family:  family,
				Variant: k.name + ", asked by the new name",
				Path:    now,
				Ask:     advice.Question{Loss: advice.Deleted},
				Want:    edited,
				Play:    play,
			},
			Case{
				Family:  family,
				Variant: k.name + ", good before the renaming",
				Path:    now,
				Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(25 * day)},
				Want:    content,
				Play:    play,
			},
		)
	}
	return all
}

// encryptedRenamed are asked under the old name, whatever the user calls it.
func encryptedRenamed() []Case {
	var all []Case
	for n, k := range kinds {
		path := docs("Orders/due" + k.ext)
		older, good := k.of(prose(uint64(400+n), 0, 40)), k.of(prose(uint64(400+n), 0, 44))
		for _, loss := range []advice.Loss{advice.Damaged, advice.Deleted, advice.Overwritten} {
			all = append(
				all,
				Case{
					Family:  "encrypted under another name",
					Variant: fmt.Sprintf("%s, %s", k.name, loss),
					Path:    path,
					Ask:     advice.Question{Loss: loss},
					Want:    good,
					Play: func(h *History) {
						h.At(ago(40 * day))
						h.Save(path, older)
						h.Days(ago(39*day), ago(30*day))
						h.Save(path, good)
						h.Days(ago(29*day), ago(20*day))
						h.Save(path+".sealed", noise(uint64(n), len(good)+16))
						h.Remove(path)
						h.Days(ago(19*day), ago(day))
					},
				},
			)
		}
	}
	return all
}

// worse are files that went on being worked on after the loss, or were mended and broken again.
func worse() []Case {
	var all []Case
	for n, k := range kinds {
		path := docs("estimate" + k.ext)
		of := func(lines int) []byte { return k.of(prose(uint64(420+n), 0, lines)) }
		all = append(
			all,
			Case{
				Family:  "another content in its place, and worked on since",
				Variant: k.name,
				Path:    path,
				Ask:     advice.Question{Loss: advice.Overwritten},
				Want:    of(52),
				Play: func(h *History) {
					for i := range 7 {
						h.At(ago(time.Duration(40-3*i) * day))
						h.Save(path, of(40+2*i))
						h.At(h.clock.Add(3 * hour))
						h.Snap()
					}
					for i := range 4 {
						h.At(ago(time.Duration(12-2*i) * day))
						h.Save(path, k.of(prose(uint64(440+n), 0, 30+i)))
						h.At(h.clock.Add(3 * hour))
						h.Snap()
					}
				},
			},
		)
		play := func(h *History) {
			h.At(ago(30 * day))
			h.Save(path, of(40))
			h.Days(ago(29*day), ago(25*day))
			h.Save(path, noise(4, 4000))
			h.Days(ago(24*day), ago(20*day))
			h.Save(path, of(46))
			h.Days(ago(19*day), ago(15*day))
			h.Save(path, noise(5, 4000))
			h.Days(ago(14*day), ago(day))
		}
		all = append(
			all,
			Case{
				Family:  "broken, mended, and broken again",
				Variant: k.name,
				Path:    path,
				Ask:     advice.Question{Loss: advice.Damaged},
				Want:    of(46),
				Play:    play,
			},
			Case{
				Family:  "broken, mended, and broken again",
				Variant: k.name + ", noticed the first time",
				Path:    path,
				Ask:     advice.Question{Loss: advice.Damaged, Noticed: ago(22 * day)},
				Want:    of(40),
				Play:    play,
			},
		)
	}
	return all
}

// withoutRecord are items of a trash whose record is lost: never taken for the file by their name alone.
func withoutRecord() []Case {
	const family = "a trash without records"
	k := kinds[1]
	path := docs("berths.odt")
	a, b := k.of(prose(460, 0, 20)), k.of(prose(460, 0, 26))
	unrecorded := func(h *History) {
		h.Discard(path)
		h.Remove(Home + "/.local/share/Trash/info/berths.odt.trashinfo")
	}
	return []Case{
		{
			Family:  family,
			Variant: "the last version is known",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    b,
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, b)
				h.Days(ago(19*day), ago(10*day))
				unrecorded(h)
				h.Days(ago(9*day), ago(day))
			},
		},
		{
			Family:  family,
			Variant: "saved once more before, which no record proves",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    a,
			Other:   "trash",
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
				h.Days(ago(19*day), ago(10*day))
				h.Save(path, b)
				unrecorded(h)
				h.Days(ago(9*day), ago(day))
			},
		},
		{
			Family:  family,
			Variant: "nothing else",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    nil,
			Other:   "trash",
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
				unrecorded(h)
			},
		},
		{
			Family:  family,
			Variant: "the content is known, and its snapshots are gone",
			Path:    path,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    a,
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
				h.Days(ago(19*day), ago(15*day))
				h.Survey()
				h.Digest()
				unrecorded(h)
				h.Thin(func(time.Time) bool { return false })
				h.At(ago(day))
				h.Snap()
			},
		},
		{
			Family:  family,
			Variant: "the user names a folder in which it never was",
			Path:    docs("Elsewhere/berths.odt"),
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    nil,
			Other:   "trash",
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
				h.Discard(path)
			},
		},
		{
			Family:  family,
			Variant: "the same, and it stands in another",
			Path:    docs("Elsewhere/berths.odt"),
			Ask:     advice.Question{Loss: advice.Misplaced},
			Want:    nil,
			Other:   "live",
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(path, a)
			},
		},
	}
}

// bulkCopied are snapshots whose files all carry the time at which they were copied.
func bulkCopied() []Case {
	return each("write times of a bulk copy", func(k kind, n int) Case {
		path := docs("log" + k.ext)
		a, b := k.of(prose(uint64(480+n), 0, 30)), k.of(prose(uint64(480+n), 0, 34))
		want, good := a, ago(22*day)
		if n%2 == 1 {
			want, good = b, ago(12*day)
		}
		return Case{Path: path, Ask: advice.Question{Loss: advice.Overwritten, Good: good}, Want: want, Play: func(h *History) {
			h.untimed = true
			h.At(ago(30 * day))
			h.Save(path, a)
			h.Days(ago(29*day), ago(20*day))
			h.At(ago(19*day + 5*hour))
			h.Save(path, b)
			h.Days(ago(19*day), ago(10*day))
			h.At(ago(9 * day))
			h.Save(path, k.of(prose(uint64(490+n), 0, 8)))
			h.Days(ago(8*day), ago(day))
		}}
	})
}
