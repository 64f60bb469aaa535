package corpus

import (
	"fmt"
	"slices"
	"time"

	"humble-rewind/internal/core/advice"
)

// FolderCase is a loss of a whole folder with its answer: what must come back, file by file, and nothing else.
type FolderCase struct {
	Family, Variant string
	Play            func(h *History)
	Ask             advice.Question
	Path            string
	Want            map[string][]byte // by path relative to the folder; nil where the folder must be found elsewhere or whole
	Missing         []string          // files that must be named as missing
	Found           string
	Whole           bool      // it must come back as one item
	At              time.Time // of that: as its store had it then; zero where it is not asked
}

// Folders are the cases of whole folders.
func Folders() []FolderCase {
	all := basicFolders()
	for i := range all {
		all[i].Family = "folders"
	}
	return slices.Concat(all, removedFolders(), regressedFolders(), damagedFolders(), purposefulFolders(), randomFolders(), movedFolders(),
		nobodys())
}

func basicFolders() []FolderCase {
	folder := docs("Rigging")
	text := kinds[1]
	of := func(i, revision int) []byte { return text.of(prose(uint64(300+i), 0, 12+revision)) }
	name := func(i int) string { return fmt.Sprintf("sheet %02d.odt", i) }
	const files = 24
	begin := func(h *History) {
		h.At(ago(40 * day))
		for i := range files {
			h.Save(folder+"/"+name(i), of(i, 0))
		}
		h.Days(ago(39*day), ago(20*day))
		for i := range 6 { // now and then one is worked on
			h.At(ago(time.Duration(19-i) * day))
			h.Save(folder+"/"+name(i), of(i, 3))
			h.At(h.clock.Add(hour))
			h.Snap()
		}
	}
	before := func(but ...int) map[string][]byte {
		want := map[string][]byte{}
		for i := range files {
			want[name(i)] = of(i, map[bool]int{true: 3}[i < 6])
		}
		for _, i := range but {
			delete(want, name(i))
		}
		return want
	}
	encrypt := func(h *History) {
		h.At(ago(2 * day))
		for i := range files {
			h.At(h.clock.Add(time.Second))
			h.Save(folder+"/"+name(i), noise(uint64(i), len(of(i, 0))))
		}
	}
	return []FolderCase{
		{
			Variant: "encrypted within half a minute; one written anew since, one new, one saved harmlessly at the same time",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    before(7, 9),
			Play: func(h *History) {
				begin(h)
				h.Snap()
				encrypt(h)
				h.Save(folder+"/"+name(9), of(9, 2))
				h.Days(ago(2*day-hour), ago(day))
				h.Save(folder+"/"+name(7), of(7, 5))
				h.Save(folder+"/new.odt", of(90, 1))
				h.At(ago(hour))
				h.Snap()
			},
		},
		{
			Variant: "given other names while they were encrypted",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    before(),
			Play: func(h *History) {
				begin(h)
				encrypt(h)
				for i := range files {
					h.Move(folder+"/"+name(i), folder+"/"+name(i)+".locked")
				}
				h.Days(ago(2*day-hour), ago(hour))
			},
		},
		{Variant: "removed by a script", Path: folder, Ask: advice.Question{Loss: advice.Deleted}, Want: before(), Play: func(h *History) {
			begin(h)
			h.At(ago(2 * day))
			for i := range files {
				h.Remove(folder + "/" + name(i))
			}
			h.Days(ago(2*day-hour), ago(hour))
		}},
		{
			Variant: "set back by a sync, and it is known when it was right",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(5 * day)},
			Want: map[string][]byte{
				name(0): of(0, 3),
				name(1): of(1, 3),
				name(2): of(2, 3),
				name(3): of(3, 3),
				name(4): of(4, 3),
				name(5): of(5, 3),
			},
			Play: func(h *History) {
				begin(h)
				h.Days(ago(12*day), ago(4*day))
				for i := range 6 {
					h.Bring(folder+"/"+name(i), of(i, 0), ago(40*day))
				}
				h.Days(ago(3*day), ago(hour))
			},
		},
		{
			Variant: "set back by a sync, and nobody knows when",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Overwritten},
			Want:    rewritten(of),
			Play: func(h *History) {
				begin(h)
				for i := range files {
					h.At(ago(12*day - time.Duration(i)*time.Hour))
					h.Save(folder+"/"+name(i), of(i, 5))
				}
				h.Days(ago(10*day), ago(6*day))
				for i := range files {
					h.Bring(folder+"/"+name(i), of(i, 0), ago(40*day))
				}
				h.Days(ago(3*day), ago(hour))
			},
		},
		{
			Variant: "three files set back by a sync, and it is known when they were right",
			Path:    docs("Three"),
			Ask:     advice.Question{Loss: advice.Overwritten, Good: ago(5 * day)},
			Want:    map[string][]byte{"sheet 00.odt": of(0, 5), "sheet 01.odt": of(1, 5), "sheet 02.odt": of(2, 5)},
			Play: func(h *History) {
				h.At(ago(40 * day))
				for i := range 3 {
					h.Save(docs("Three/")+name(i), of(i, 0))
				}
				h.Days(ago(39*day), ago(30*day))
				for i := range 3 {
					h.Save(docs("Three/")+name(i), of(i, 5))
				}
				h.Days(ago(29*day), ago(6*day))
				for i := range 3 {
					h.Bring(docs("Three/")+name(i), of(i, 0), ago(40*day))
				}
				h.Days(ago(3*day), ago(hour))
			},
		},
		{
			Variant: "encrypted in two waves, with a snapshot between",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    before(),
			Play: func(h *History) {
				begin(h)
				for wave := range 2 {
					h.At(ago(time.Duration(4-wave) * day))
					for i := wave * files / 2; i < (wave+1)*files/2; i++ {
						h.At(h.clock.Add(time.Second))
						h.Save(folder+"/"+name(i), noise(uint64(i), 900))
					}
					h.At(h.clock.Add(hour))
					h.Snap()
				}
				h.Days(ago(2*day), ago(hour))
			},
		},
		{
			Variant: "four files encrypted, too few for a crowd",
			Path:    docs("Four"),
			Ask:     advice.Question{Loss: advice.Overwritten},
			Want:    map[string][]byte{"0.txt": plain(0), "1.txt": plain(1), "2.txt": plain(2), "3.txt": plain(3)},
			Play: func(h *History) {
				h.At(ago(20 * day))
				for i := range 4 {
					h.Save(docs(fmt.Sprintf("Four/%d.txt", i)), plain(i))
				}
				h.Days(ago(19*day), ago(5*day))
				for i := range 4 {
					h.Save(docs(fmt.Sprintf("Four/%d.txt", i)), noise(uint64(i), 900))
				}
				h.Days(ago(4*day), ago(day))
			},
		},
		{Variant: "thrown away whole", Path: folder, Ask: advice.Question{Loss: advice.Deleted}, Whole: true, Play: func(h *History) {
			begin(h)
			h.At(ago(2 * day))
			h.Discard(folder)
			h.Days(ago(2*day-hour), ago(hour))
		}},
		{
			Variant: "moved whole",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Misplaced},
			Found:   First + ":" + docs("Old/Rigging"),
			Play: func(h *History) {
				begin(h)
				h.At(ago(2 * day))
				h.Move(folder, docs("Old/Rigging"))
				h.Days(ago(2*day-hour), ago(hour))
			},
		},
		{
			Variant: "a few files, removed for good",
			Path:    docs("Keys"),
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    map[string][]byte{"a.odt": of(50, 1), "b/c.odt": of(51, 0)},
			Play: func(h *History) {
				h.At(ago(20 * day))
				h.Save(docs("Keys/a.odt"), of(50, 0))
				h.Save(docs("Keys/b/c.odt"), of(51, 0))
				h.Save(docs("Keys/old.odt"), of(52, 0))
				h.Days(ago(19*day), ago(15*day))
				h.Remove(docs("Keys/old.odt"))
				h.Save(docs("Keys/a.odt"), of(50, 1))
				h.Days(ago(14*day), ago(8*day))
				h.Remove(docs("Keys"))
				h.Days(ago(7*day), ago(day))
			},
		},
		{
			Variant: "two files removed, others worked on since, all of them written by a script before",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Deleted},
			Want:    map[string][]byte{name(4): of(4, 6), name(17): of(17, 6)},
			Play: func(h *History) {
				begin(h)
				h.At(ago(12 * day))
				for i := range files {
					h.Save(folder+"/"+name(i), of(i, 6))
				}
				h.Days(ago(11*day), ago(6*day))
				h.Remove(folder + "/" + name(4))
				h.Remove(folder + "/" + name(17))
				h.Days(ago(5*day), ago(4*day))
				h.Save(folder+"/"+name(5), of(5, 8))
				h.Days(ago(3*day), ago(hour))
			},
		},
		{
			Variant: "single files broken by a drive, others worked on since",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    map[string][]byte{name(3): of(3, 3), name(8): of(8, 0)},
			Play: func(h *History) {
				begin(h)
				for i, at := range map[int]time.Time{3: ago(8 * day), 8: ago(5 * day)} {
					h.At(at)
					h.Save(folder+"/"+name(i), bitten(of(i, map[bool]int{true: 3}[i < 6])))
				}
				h.At(ago(3 * day))
				h.Save(folder+"/"+name(12), of(12, 4))
				h.Days(ago(3*day-hour), ago(hour))
			},
		},
		{
			Variant: "encrypted, and one was broken before",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    before(),
			Play: func(h *History) {
				begin(h)
				h.At(ago(6 * day))
				h.Save(folder+"/"+name(9), bitten(of(9, 0)))
				h.Days(ago(6*day-hour), ago(3*day))
				encrypt(h)
				h.Days(ago(2*day-hour), ago(hour))
			},
		},
		{
			Variant: "a container of encrypted files, damaged",
			Path:    docs("Vault"),
			Ask:     advice.Question{Loss: advice.Damaged, Good: ago(6 * day)},
			Whole:   true,
			At:      ago(6*day + hour),
			Play:    func(h *History) { container(h, false) },
		},
		{
			Variant: "a container of encrypted files, removed",
			Path:    docs("Vault"),
			Ask:     advice.Question{Loss: advice.Deleted},
			Whole:   true,
			At:      ago(2*day + hour),
			Play:    func(h *History) { container(h, true) },
		},
		{
			Variant: "nothing happened",
			Path:    folder,
			Ask:     advice.Question{Loss: advice.Damaged},
			Want:    map[string][]byte{},
			Play: func(h *History) {
				begin(h)
				h.Days(ago(12*day), ago(hour))
			},
		},
	}
}

// rewritten are all files as they were saved last.
func rewritten(of func(i, revision int) []byte) map[string][]byte {
	want := map[string][]byte{}
	for i := range 24 {
		want[fmt.Sprintf("sheet %02d.odt", i)] = of(i, 5)
	}
	return want
}

func plain(i int) []byte { return kinds[0].of(prose(uint64(600+i), 0, 12)) }

// container is a folder whose files are noise under names that mean nothing, written to every other day.
func container(h *History, remove bool) {
	names := []string{"gR4kX9mQ2vT7bN1zW8pL5c", "aB3dE6fG9hJ2kM5nP8qS1t", "zY7xW4vU1tS8rQ5pO2nM9l"}
	h.At(ago(20 * day))
	h.Save(docs("Vault/gocryptfs.conf"), []byte("{\"Version\": 2, \"KeySize\": 32}\n"))
	for i, n := range names {
		h.Save(docs("Vault/"+n), noise(uint64(500+i), 4000))
	}
	for at := ago(20*day + hour); !at.After(ago(2 * day)); at = at.Add(2 * day) {
		h.At(at.Add(-30 * time.Minute))
		h.Save(docs("Vault/"+names[0]), noise(uint64(at.Unix()), 4100))
		h.At(at)
		h.Snap()
	}
	h.At(ago(day))
	if remove {
		h.Remove(docs("Vault"))
	} else {
		h.Save(docs("Vault/"+names[1]), make([]byte, 4000))
	}
	h.At(ago(hour))
	h.Snap()
}
