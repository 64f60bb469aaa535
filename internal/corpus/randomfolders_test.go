package corpus

import (
	"fmt"
	"math/rand/v2"
	"time"

	"humble-rewind/internal/core/advice"
)

// randomFolders are histories put together by chance: files of all formats, each saved a few times on days of its own, one thing that
// happens to all or some of them, and work that goes on on the others.
func randomFolders() []FolderCase {
	const scenes = 20
	var all []FolderCase
	for seed := range uint64(scenes) {
		all = append(all, randomFolder(seed))
	}
	return all
}

// mishap is one thing that happens to a folder: to a file, with its last content and the one before, which is nil where there was none; it
// returns false where it leaves the file alone.
type mishap struct {
	name string
	loss advice.Loss
	all  bool // to all files, else to three
	do   func(h *History, path string, last, before []byte, k kind) bool
	// whole happens to the folder instead.
	whole func(h *History, folder string)
}

var mishaps = []mishap{
	{name: "removed", loss: advice.Deleted, all: true, do: func(h *History, path string, _, _ []byte, _ kind) bool { h.Remove(path); return true }},
	{name: "some removed", loss: advice.Deleted, do: func(h *History, path string, _, _ []byte, _ kind) bool { h.Remove(path); return true }},
	{name: "some thrown away", loss: advice.Deleted, do: func(h *History, path string, _, _ []byte, _ kind) bool { h.Discard(path); return true }},
	{name: "thrown away whole", loss: advice.Deleted, all: true, whole: func(h *History, folder string) { h.Discard(folder) }},
	{name: "encrypted", loss: advice.Damaged, all: true, do: func(h *History, path string, last, _ []byte, _ kind) bool {
		h.Save(path, noise(uint64(len(path)*31+len(last)), len(last)+40))
		return true
	}},
	{name: "some encrypted", loss: advice.Damaged, do: func(h *History, path string, last, _ []byte, _ kind) bool {
		h.Save(path, noise(uint64(len(path)*37+len(last)), len(last)+40))
		return true
	}},
	{name: "some emptied", loss: advice.Damaged, do: func(h *History, path string, _, _ []byte, _ kind) bool { h.Save(path, nil); return true }},
	{name: "put back by a sync", loss: advice.Overwritten, all: true, do: func(h *History, path string, _, before []byte, _ kind) bool {
		if before != nil {
			h.Bring(path, before, ago(45*day))
		}
		return before != nil
	}},
	{name: "some put back, with a new date", loss: advice.Overwritten, do: func(h *History, path string, _, before []byte, _ kind) bool {
		if before != nil {
			h.Save(path, before)
		}
		return before != nil
	}},
	{name: "some replaced", loss: advice.Overwritten, do: func(h *History, path string, last, _ []byte, k kind) bool {
		h.Save(path, k.of(prose(uint64(90_000+len(last)+len(path)), 0, 15)))
		return true
	}},
}

func randomFolder(seed uint64) FolderCase {
	r := rand.New(rand.NewPCG(seed, 11))
	m := mishaps[seed%uint64(len(mishaps))]
	folder := docs(fmt.Sprintf("Random %d", seed))
	n := 9 + r.IntN(12)
	type file struct {
		name  string
		k     kind
		saves []int // days before now, oldest first
		hit   bool
		goes  bool // work goes on
	}
	files := make([]file, n)
	for i := range files {
		k := kinds[r.IntN(6)]
		files[i] = file{name: fmt.Sprintf("sheet %d%s", i, k.ext), k: k, saves: []int{40}, goes: r.IntN(4) == 0}
		for d := 37 - r.IntN(9); d > 11; d -= 4 + r.IntN(14) {
			files[i].saves = append(files[i].saves, d)
		}
	}
	for _, i := range r.Perm(n)[:3] {
		files[i].hit = true
	}
	of := func(i, revision int) []byte { return files[i].k.of(prose(7000+seed*100+uint64(i), 0, 14+3*revision)) }
	want := map[string][]byte{}
	for i := range files {
		last := len(files[i].saves) - 1
		touched := m.all || files[i].hit
		if m.loss == advice.Overwritten && m.name != "some replaced" && last == 0 {
			touched = false
		}
		if touched {
			want[files[i].name] = of(i, last)
		}
	}
	play := func(h *History) {
		for d := 40; d > 10; d-- {
			for i := range files {
				for revision, at := range files[i].saves {
					if at == d {
						h.At(ago(time.Duration(d)*day - time.Duration(i+2)*11*time.Minute))
						h.Save(folder+"/"+files[i].name, of(i, revision))
					}
				}
			}
			h.At(ago(time.Duration(d)*day - 9*hour))
			h.Snap()
		}
		at := ago(8*day + 3*hour)
		h.At(at)
		if m.whole != nil {
			m.whole(h, folder)
		} else {
			for i := range files {
				if !m.all && !files[i].hit {
					continue
				}
				h.At(at.Add(time.Duration(i) * 2 * time.Second))
				last := len(files[i].saves) - 1
				var before []byte
				if last > 0 {
					before = of(i, last-1)
				}
				m.do(h, folder+"/"+files[i].name, of(i, last), before, files[i].k)
			}
		}
		h.Days(ago(8*day), ago(6*day))
		for i := range files {
			if files[i].goes && !m.all && !files[i].hit {
				h.At(ago(5*day - time.Duration(i)*hour))
				h.Save(folder+"/"+files[i].name, of(i, len(files[i].saves)))
			}
		}
		h.Days(ago(4*day), ago(day))
	}
	return FolderCase{Family: "put together by chance", Variant: fmt.Sprintf("%s, %d", m.name, seed), Path: folder,
		Ask: advice.Question{Loss: m.loss}, Want: want, Play: play}
}
