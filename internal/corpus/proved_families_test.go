package corpus

import (
	"time"

	"humble-rewind/internal/core/advice"
)

// leftoversByName are leftovers whose names prove whose they are, beside contents that tell nothing of them: what stands there now is
// wrong.
func leftoversByName() []Case {
	var all []Case
	for n, k := range []kind{kinds[0], kinds[1], kinds[3]} {
		path := docs("rigging" + k.ext)
		old, lost, wrong := k.of(prose(uint64(4000+n), 0, 24)), k.of(prose(uint64(4010+n), 0, 30)), k.of(prose(uint64(4020+n), 0, 9))
		for name, at := range map[string]string{"a backup": path + "~", "a copy kept by a program": path + ".bak"} {
			unseen := func(h *History) { // no snapshot shows it before it was wrong
				h.At(ago(30 * hour))
				h.Save(at, lost)
				h.At(ago(10 * hour))
				h.Save(path, wrong)
			}
			all = append(all, Case{Family: "overwritten, only a leftover has it", Variant: k.name + ", " + name, Path: path, Want: lost,
				Ask: advice.Question{Loss: advice.Overwritten, Good: ago(20 * hour)},
				Play: func(h *History) { // rewritten from the ground up since the last snapshot, and again by somebody else
					h.At(ago(9 * day))
					h.Save(path, old)
					h.Days(ago(8*day), ago(2*day))
					h.At(ago(30 * hour))
					h.Save(at, lost)
					h.At(ago(10 * hour))
					h.Save(path, wrong)
				}}, Case{Family: "overwritten where nobody looked", Variant: k.name + ", " + name, Path: path, Want: lost,
				Ask:  advice.Question{Loss: advice.Overwritten, Good: ago(20 * hour)},
				Play: unseen}, Case{Family: "overwritten where nobody looked", Variant: k.name + ", " + name + ", nobody knows when", Path: path, Want: lost,
				Ask:  advice.Question{Loss: advice.Overwritten},
				Play: unseen}, Case{Family: "damaged, only a leftover is sound", Variant: k.name + ", " + name + ", of other content", Path: path, Want: lost,
				Ask: advice.Question{Loss: advice.Damaged},
				Play: func(h *History) {
					h.At(ago(9 * day))
					h.Save(path, old)
					h.Days(ago(8*day), ago(2*day))
					h.At(ago(30 * hour))
					h.Save(at, lost)
					h.At(ago(10 * hour))
					h.Save(path, noise(77, len(lost)))
				}})
		}
	}
	return all
}

// calledAnother are files whose content is sound and whose name says another type: they are the answer, under the name that they should
// have.
func calledAnother() []Case {
	const family = "renamed to another type"
	var all []Case
	for n, to := range []string{".pdf", ".jpg", ".docx", ".bin"} {
		k := kinds[0]
		from, now := docs("minutes"+k.ext), docs("minutes"+to)
		old, last := k.of(prose(uint64(4100+n), 0, 20)), k.of(prose(uint64(4100+n), 0, 26))
		called := from
		if to == ".bin" { // which promises nothing
			called = ""
		}
		for name, work := range map[string]bool{"as it was": false, "after another save": true} {
			all = append(all, Case{Family: family, Variant: to + ", " + name, Path: now, Want: last, Found: First + ":" + now, To: called,
				Ask: advice.Question{Loss: advice.Damaged},
				Play: func(h *History) {
					h.At(ago(9 * day))
					h.Save(from, old)
					h.Days(ago(8*day), ago(5*day))
					h.At(ago(4*day + 2*hour))
					h.Save(from, last)
					if !work {
						h.Days(ago(4*day), ago(2*day))
					}
					h.At(ago(30 * hour))
					h.Move(from, now)
					h.Days(ago(25*hour), ago(hour))
				}})
		}
	}
	return all
}

// contradicted are losses whose answer another copy speaks against: it may be given, but not as certain.
func contradicted() []Case {
	const family = "contradicted by a later item"
	var all []Case
	for n, k := range []kind{kinds[0], kinds[1]} {
		path := docs("survey" + k.ext)
		old, last, later := k.of(prose(uint64(4200+n), 0, 20)), k.of(prose(uint64(4200+n), 0, 24)), k.of(prose(uint64(4200+n), 0, 28))
		all = append(all, Case{Family: family, Variant: k.name + ", by an item whose record is only claimed", Path: path, Want: last, Unsure: true,
			Ask: advice.Question{Loss: advice.Deleted},
			Play: func(h *History) {
				h.At(ago(9 * day))
				h.Save(path, old)
				h.Days(ago(8*day), ago(5*day))
				h.At(ago(4*day + 2*hour))
				h.Save(path, last)
				h.Days(ago(4*day), ago(3*day))
				h.At(ago(3*day - 10*time.Minute))
				h.Remove(path)
				h.Days(ago(3*day-15*time.Minute), ago(day))
				h.Claim(path, later, ago(3*day-5*time.Minute))
			}})
	}
	return all
}
