package corpus

import (
	"strings"
	"time"

	"humble-rewind/internal/core/advice"
)

// draft is a document that was worked on for some weeks: its contents grow from revision to revision.
type draft struct {
	k    kind
	name string
	seed uint64
}

func (d draft) path() string           { return docs(d.name + d.k.ext) }
func (d draft) of(revision int) []byte { return d.k.of(prose(d.seed, 0, 30+4*revision)) }

// begin saves the first revisions, with a snapshot a day; the last is from 30 hours ago.
func (d draft) begin(h *History) {
	for i := range 4 {
		h.At(ago(time.Duration(20-4*i) * day))
		h.Save(d.path(), d.of(i))
		h.At(h.clock.Add(hour))
		h.Snap()
	}
	h.Days(ago(7*day), ago(30*hour))
}

// drafts makes a case for the formats that can be compared and those that can only be decoded.
func drafts(family string, make func(d draft) Case) (all []Case) {
	for n, k := range []kind{kinds[0], kinds[1], kinds[2], kinds[5]} {
		d := draft{k, "survey", uint64(3000 + 10*n)}
		c := make(d)
		c.Family, c.Path = family, d.path()
		c.Variant = strings.TrimSpace(c.Variant + " " + k.name)
		all = append(all, c)
	}
	return all
}

// fresh is after the last snapshot of a draft.
func fresh(minutes int) time.Time { return ago(20*hour - time.Duration(minutes)*time.Minute) }

func leftoversForEveryLoss() []Case {
	var all []Case
	add := func(family string, make func(d draft) Case) { all = append(all, drafts(family, make)...) }
	damaged := advice.Question{Loss: advice.Damaged}
	for name, at := range map[string]func(d draft) string{
		"a temporary": func(d draft) string { return d.path() + ".tmp" },
		"a backup":    func(d draft) string { return d.path() + "~" },
		"an autosave": func(d draft) string { return Home + "/.local/share/writer/autosave/" + d.name + "_0" + d.k.ext },
		"a recovery":  func(d draft) string { return docs("." + d.name + d.k.ext + ".swp") },
	} {
		add("damaged, with a whole leftover", func(d draft) Case {
			return Case{Variant: name + ", ", Ask: damaged, Want: d.of(5), Play: func(h *History) {
				d.begin(h)
				h.At(fresh(0))
				h.Save(at(d), d.of(5))
				h.At(fresh(0).Add(2 * time.Second))
				h.Save(d.path(), cut(d.of(5))[:200])
			}}
		})
	}
	add("damaged, with a leftover that is no better", func(d draft) Case {
		return Case{Variant: "cut off,", Ask: damaged, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path()+".tmp", cut(d.of(5)))
			h.Save(d.path(), make([]byte, 700))
		}}
	})
	add("damaged, with a leftover that is no better", func(d draft) Case {
		return Case{Variant: "older,", Ask: damaged, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(ago(9 * day))
			h.Save(d.path()+"~", d.of(2))
			h.At(fresh(0))
			h.Save(d.path(), make([]byte, 700))
		}}
	})
	add("damaged, with a leftover that is no better", func(d draft) Case {
		return Case{Variant: "of another document,", Ask: damaged, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path()+".tmp", d.k.of(prose(9999, 0, 40)))
			h.Save(d.path(), make([]byte, 700))
		}}
	})
	add("damaged, with a leftover that is no better", func(d draft) Case {
		return Case{Variant: "empty,", Ask: damaged, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path()+"~", nil)
			h.Save(d.path(), make([]byte, 700))
		}}
	})
	add("overwritten, with a leftover newer than the last snapshot", func(d draft) Case {
		return Case{Variant: "a backup made by the bad save,", Ask: advice.Question{Loss: advice.Overwritten}, Want: d.of(5), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path(), d.of(5))
			h.At(fresh(50))
			h.Bring(d.path()+"~", d.of(5), fresh(0))
			h.Save(d.path(), d.k.of(prose(7777, 0, 12)))
		}}
	})
	add("overwritten, with a leftover newer than the last snapshot", func(d draft) Case {
		ask := advice.Question{Loss: advice.Overwritten, Good: fresh(40)}
		return Case{Variant: "known when it was right,", Ask: ask, Want: d.of(5), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(30))
			h.Save(docs("#"+d.name+d.k.ext+"#"), d.of(5))
			h.At(fresh(50))
			h.Save(d.path(), d.k.of(prose(7777, 0, 12)))
			h.At(fresh(60))
			h.Snap()
		}}
	})
	add("overwritten, with a leftover of what overwrote it", func(d draft) Case {
		return Case{Ask: advice.Question{Loss: advice.Overwritten}, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(40))
			h.Save(d.path(), d.k.of(prose(7777, 0, 12)))
			h.At(fresh(50))
			h.Snap()
			h.At(fresh(55))
			h.Save(docs("#"+d.name+d.k.ext+"#"), d.k.of(prose(7777, 0, 15)))
		}}
	})
	add("deleted, with a backup newer than the last snapshot", func(d draft) Case {
		return Case{Ask: advice.Question{Loss: advice.Deleted}, Want: d.of(4), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path()+"~", d.of(4))
			h.Save(d.path(), d.of(5))
			h.At(fresh(30))
			h.Remove(d.path())
			h.At(fresh(90))
			h.Snap()
		}}
	})
	add("deleted, and the trash has it", func(d draft) Case {
		return Case{Ask: advice.Question{Loss: advice.Deleted}, Want: d.of(5), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(d.path()+"~", d.of(4))
			h.Save(d.path(), d.of(5))
			h.At(fresh(30))
			h.Discard(d.path())
			h.At(fresh(90))
			h.Snap()
		}}
	})
	add("deleted, and only a backup is left", func(d draft) Case {
		return Case{Ask: advice.Question{Loss: advice.Deleted}, Want: d.of(5), Play: func(h *History) {
			h.At(fresh(0))
			h.Save(d.path()+"~", d.of(5))
			h.Save(d.path(), d.of(5))
			h.Survey()
			h.At(fresh(30))
			h.Remove(d.path())
			h.At(fresh(90))
			h.Snap()
		}}
	})
	return append(all, nameless()...)
}

func nameless() []Case {
	var all []Case
	for name, at := range map[string]string{
		"beside it":                    docs("tmp430b.tmp"),
		"beside it, with a tilde":      docs("~WRD0003.tmp"),
		"in the cache of a program":    Home + "/.cache/writer/7/83920113",
		"in a folder of the session's": Home + "/tmp/tmpx7a1",
	} {
		for _, loss := range []advice.Loss{advice.Damaged, advice.Deleted, advice.Unsaved} {
			all = append(all, drafts("a temporary without a name", func(d draft) Case {
				return Case{Variant: name + ", " + string(loss) + ",", Ask: advice.Question{Loss: loss}, Want: d.of(5), Play: func(h *History) {
					d.begin(h)
					h.At(fresh(0))
					h.Save(at, d.of(5))
					h.Save(docs("other"+d.k.ext), d.k.of(prose(d.seed+5, 0, 30)))
					h.At(fresh(0).Add(3 * time.Second))
					switch loss {
					case advice.Damaged:
						h.Save(d.path(), make([]byte, 300))
					case advice.Deleted:
						h.Remove(d.path())
					}
				}}
			})...)
		}
	}
	all = append(all, drafts("a temporary of another document", func(d draft) Case {
		return Case{Variant: "beside it,", Ask: advice.Question{Loss: advice.Damaged}, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(fresh(0))
			h.Save(docs("other"+d.k.ext), d.k.of(prose(d.seed+5, 0, 50)))
			h.Save(docs("tmp77"), d.k.of(prose(d.seed+5, 0, 52)))
			h.Save(d.path(), make([]byte, 300))
		}}
	})...)
	all = append(all, drafts("a temporary of another document", func(d draft) Case {
		copied := docs("Other/" + d.name + " for the yard" + d.k.ext)
		of := func(n int) []byte { // goes on from the same beginning, on its own
			return d.k.of(append(prose(d.seed, 0, 34), prose(d.seed+7, 0, 20+n)...))
		}
		return Case{Variant: "that descends from it,", Ask: advice.Question{Loss: advice.Damaged}, Want: d.of(3), Play: func(h *History) {
			d.begin(h)
			h.At(ago(6 * day))
			h.Save(copied, of(0))
			h.Days(ago(5*day), ago(30*hour))
			h.At(fresh(0))
			h.Save(Home+"/.cache/writer/tmp99", of(4))
			h.Save(d.path(), make([]byte, 300))
		}}
	})...)
	return append(all, drafts("a temporary of documents that are all alike", func(d draft) Case {
		form := func(n int) []byte { return d.k.of(append(prose(5, 0, 40), prose(d.seed+uint64(n), 0, 1)...)) }
		return Case{Ask: advice.Question{Loss: advice.Damaged}, Want: form(0), Play: func(h *History) {
			h.At(ago(9 * day))
			h.Save(d.path(), form(0))
			for i := range 5 {
				h.Save(docs("survey "+string(rune('a'+i))+d.k.ext), form(i+1))
			}
			h.Days(ago(8*day), ago(30*hour))
			h.At(fresh(0))
			h.Save(docs("tmp12"), form(9))
			h.Save(d.path(), make([]byte, 300))
		}}
	})...)
}
