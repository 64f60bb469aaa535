package corpus

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"math"
	"os"
	"strings"
	"time"

	"humble-rewind/internal/core/advice"
)

// photo is a JPEG of soft shapes with some grain.
func photo(lines []string) []byte {
	const wide, high = 240, 180
	img := image.NewRGBA(image.Rect(0, 0, wide, high))
	seed := float64(len(lines))
	for _, c := range []byte(lines[0]) {
		seed = seed*1.3 + float64(c)
	}
	seed = math.Mod(seed, 97)
	for y := range high {
		for x := range wide {
			grain := float64((x*7919+y*104729+int(seed)*31)%17) - 8
			light := 125 + 55*math.Sin(seed+float64(x)/(20+math.Mod(seed, 13))) + 50*math.Cos(seed+float64(y*x)/4000) + grain
			img.Set(x, y, color.RGBA{byte(light), byte(light * 0.8), byte(250 - light), 255})
		}
	}
	for i := range lines { // each line leaves a mark
		for k := range 12 {
			img.Set((i*13+k)%wide, (i*29+k/3)%high, color.RGBA{250, 10, 10, 255})
		}
	}
	var b bytes.Buffer
	_ = jpeg.Encode(&b, img, &jpeg.Options{Quality: 88}) // into memory
	return b.Bytes()
}

// holed has some bytes in its middle overwritten with others.
func holed(content, with []byte) []byte {
	b := bytes.Clone(content)
	copy(b[len(b)*3/5:], with)
	return b
}

// greyed is a picture whose lower part was never written, saved anew by a program that did not mind.
func greyed(content []byte) []byte {
	img, err := jpeg.Decode(bytes.NewReader(content))
	if err != nil {
		panic(err)
	}
	b := img.Bounds()
	cut := image.NewRGBA(b)
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if y < b.Max.Y*3/5/16*16 {
				cut.Set(x, y, img.At(x, y))
			} else {
				cut.Set(x, y, color.RGBA{128, 128, 128, 255})
			}
		}
	}
	var out bytes.Buffer
	_ = jpeg.Encode(&out, cut, &jpeg.Options{Quality: 88}) // into memory
	return out.Bytes()
}

// rich is a rich text.
func rich(lines []string) []byte {
	return []byte(`{\rtf1\ansi\deff0 {\fonttbl {\f0 Serif;}}` + "\n" + strings.Join(lines, "\\par\n") + "\n}\n")
}

func damageThatHides() []Case {
	const family = "damage that hides"
	path := func(ext string) string { return docs("bench" + ext) }
	text := kinds[0]
	var all []Case
	for name, c := range map[string]struct {
		ext    string
		of     func(lines []string) []byte
		damage func([]byte) []byte
	}{
		"zero bytes in a photograph":          {".jpg", photo, func(b []byte) []byte { return holed(b, make([]byte, 80)) }},
		"noise in a photograph":               {".jpg", photo, func(b []byte) []byte { return holed(b, noise(9, 80)) }},
		"another file's bytes in one":         {".jpg", photo, func(b []byte) []byte { return holed(b, text.of(prose(1, 0, 2))) }},
		"a photograph with a lower part gone": {".jpg", photo, greyed},
		"a stripe of noise in a text":         {".txt", text.of, func(b []byte) []byte { return holed(b, noise(3, 48)) }},
		"a stripe of noise in a table":        {".csv", table, func(b []byte) []byte { return holed(b, noise(4, 48)) }},
		"zero bytes in a PDF's stream":        {".pdf", pdf, func(b []byte) []byte { return holed(b[:len(b)*3/4], make([]byte, 40)) }},
		"changed bytes in a PDF's stream": {".pdf", pdf, func(b []byte) []byte {
			at := bytes.Index(b, []byte("stream\n")) + 60
			c := bytes.Clone(b)
			copy(c[at:], noise(6, 30))
			return c
		}},
		"a part of a document overwritten": {".odt", odt, func(b []byte) []byte { return holed(b, noise(5, 30)) }},
		"a rich text cut off":              {".rtf", rich, func(b []byte) []byte { return b[:len(b)*4/5] }},
		"a sign-in page in its place": {".txt", text.of, func([]byte) []byte {
			return []byte("<!DOCTYPE html>\n<html><title>Sign in</title><p>The session has expired.</p></html>\n")
		}},
		"a database that became noise": {".db", database, func(b []byte) []byte { return noise(8, len(b)) }},
	} {
		revisions := [][]byte{c.of(prose(4600, 0, 30)), c.of(prose(4600, 0, 34)), c.of(prose(4600, 0, 38))}
		play := func(hidden bool) func(h *History) {
			return func(h *History) {
				for i, content := range revisions {
					h.At(ago(time.Duration(20-3*i) * day))
					h.Save(path(c.ext), content)
					h.Days(h.clock.Add(hour), h.clock.Add(2*day))
				}
				h.At(ago(9 * day))
				if hidden {
					h.Save(path(c.ext), c.damage(revisions[2]))
				}
				h.Days(ago(9*day-hour), ago(day))
			}
		}
		ask := advice.Question{Loss: advice.Damaged}
		all = append(all, Case{Family: family, Variant: name, Path: path(c.ext), Ask: ask, Want: revisions[2], Play: play(true)},
			Case{Family: "sound, and doubted by its user", Variant: name, Path: path(c.ext), Ask: ask, Want: revisions[2], Play: play(false)})
	}
	return all
}

// becameAnother are files that were moved, renamed and worked on between two looks, and databases of which one cannot say by their bytes what
// they lost.
func becameAnother() []Case {
	var all []Case
	for n, k := range []kind{kinds[0], kinds[1], kinds[2], kinds[3], {"database", ".db", database, true, false}} {
		seed := uint64(7600 + 10*n)
		path, other := docs("slip"+k.ext), docs("Yard/ways 2"+k.ext)
		whole, more := k.of(prose(seed, 0, 30)), k.of(append(prose(seed, 0, 30), prose(seed+1, 0, 4)...))
		begin := func(h *History) {
			h.At(ago(20 * day))
			h.Save(path, whole)
			h.Save(docs("Yard/quay"+k.ext), k.of(prose(seed+2, 0, 30)))
			h.Days(ago(19*day), ago(6*day))
		}
		all = append(all,
			Case{Family: "moved, renamed and worked on between two looks", Variant: k.name, Path: path, Ask: advice.Question{Loss: advice.Misplaced},
				Want: more, Found: First + ":" + other, Play: func(h *History) {
					begin(h)
					h.At(ago(5*day + 9*hour))
					h.Move(path, other)
					h.At(ago(5*day + 8*hour))
					h.Save(other, more)
					h.Days(ago(5*day), ago(day))
				}},
			Case{Family: "gutted, then worked on", Variant: k.name, Path: path, Ask: advice.Question{Loss: advice.Overwritten}, Want: more,
				Play: func(h *History) {
					begin(h)
					h.Save(path, more)
					h.Days(ago(5*day), ago(4*day))
					h.At(ago(4*day - 9*hour))
					h.Save(path, k.of(prose(seed, 0, 5)))
					h.Days(ago(3*day), ago(2*day))
					h.Save(path, k.of(append(prose(seed, 0, 5), prose(seed+3, 0, 1)...)))
					h.Days(ago(2*day), ago(day))
				}})
	}
	return all
}

func twoMachines() []Case {
	const family = "gone on in two places"
	var all []Case
	for n, k := range kinds[:3] {
		one, two := docs("boat"+k.ext), Home+"/Work/boat"+k.ext
		seed := uint64(5000 + 10*n)
		base := k.of(prose(seed, 0, 30))
		here := k.of(append(prose(seed, 0, 30), prose(seed+1, 0, 8)...))
		there := k.of(append(prose(seed, 0, 30), prose(seed+2, 0, 9)...))
		bad := k.of(prose(seed+3, 0, 9))
		play := func(where int) func(h *History) {
			return func(h *History) {
				h.machine(Second)
				h.At(ago(20 * day))
				h.Save(one, base)
				h.At(ago(18 * day))
				h.SaveOn(Second, two, base)
				h.Days(ago(17*day), ago(12*day))
				h.Save(one, here)
				h.SaveOn(Second, two, there)
				h.Days(ago(11*day), ago(6*day))
				switch where {
				case 1:
					h.Save(one, bad)
				case 2:
					h.SaveOn(Second, two, bad)
				case 3:
					h.Discard(one)
				}
				h.Days(ago(5*day), ago(day))
			}
		}
		overwritten := advice.Question{Loss: advice.Overwritten}
		all = append(all,
			Case{Family: family, Variant: k.name + ", the first", Path: one, Ask: overwritten, Want: here, Play: play(1)},
			Case{Family: family, Variant: k.name + ", the second", Path: two, Machine: Second, Ask: overwritten, Want: there, Play: play(2)},
			Case{Family: family, Variant: k.name + ", the first deleted", Path: one, Ask: advice.Question{Loss: advice.Deleted}, Want: here, Play: play(3)})
	}
	return all
}

func renamed() []Case {
	const family = "renamed, and worked on or written otherwise"
	var all []Case
	for n, k := range kinds[:3] {
		from, to, upper := docs("sail plan"+k.ext), docs("sail plan final"+k.ext), docs("Sail Plan"+k.ext)
		seed := uint64(5200 + 10*n)
		a, b, c := k.of(prose(seed, 0, 40)), k.of(prose(seed, 0, 44)), k.of(prose(seed, 0, 48))
		begin := func(h *History) {
			h.At(ago(20 * day))
			h.Save(from, a)
			h.Days(ago(19*day), ago(12*day))
			h.Save(from, b)
			h.Days(ago(11*day), ago(9*day))
		}
		at := func(p string) string { return First + ":" + p }
		all = append(all,
			Case{Family: family, Variant: k.name + ", with an edit, misplaced", Path: from, Ask: advice.Question{Loss: advice.Misplaced}, Want: c, Found: at(to),
				Play: func(h *History) {
					begin(h)
					h.At(ago(8*day + hour))
					h.Move(from, to)
					h.Save(to, c)
					h.Days(ago(8*day), ago(day))
				}},
			Case{Family: family, Variant: k.name + ", with an edit, then broken", Path: to, Ask: advice.Question{Loss: advice.Damaged}, Want: c, Play: func(h *History) {
				begin(h)
				h.At(ago(8*day + hour))
				h.Move(from, to)
				h.Save(to, c)
				h.Days(ago(8*day), ago(4*day))
				h.Save(to, noise(uint64(n), 2000))
				h.Days(ago(3*day), ago(day))
			}},
			Case{Family: family, Variant: k.name + ", in its letters' case alone", Path: from, Ask: advice.Question{Loss: advice.Misplaced}, Want: b, Found: at(upper),
				Play: func(h *History) {
					begin(h)
					h.At(ago(8*day + hour))
					h.Move(from, upper)
					h.Days(ago(8*day), ago(day))
				}},
			Case{Family: family, Variant: k.name + ", in case, then deleted", Path: upper, Ask: advice.Question{Loss: advice.Deleted}, Want: b, Play: func(h *History) {
				begin(h)
				h.At(ago(8*day + hour))
				h.Move(from, upper)
				h.Days(ago(8*day), ago(4*day))
				h.Remove(upper)
				h.Days(ago(3*day), ago(day))
			}})
	}
	return all
}

// thinnedTorn keeps a snapshot an hour for a day, then one a day, then one a week; one of them was torn while it was taken.
func thinnedTorn() []Case {
	const family = "thinned by the hour, the day and the week, with a torn snapshot"
	var all []Case
	for n, k := range kinds[:3] {
		path := docs("log" + k.ext)
		seed := uint64(5400 + 10*n)
		of := func(revision int) []byte { return k.of(prose(seed, 0, 20+revision)) }
		play := func(h *History) {
			revision := 0
			for at := ago(30 * day); at.Before(ago(hour)); at = at.Add(hour) {
				since := Now.Sub(at)
				if at.Hour() == 9 && at.Weekday() == time.Tuesday {
					h.At(at.Add(-10 * time.Minute))
					h.Save(path, of(revision))
					revision++
				}
				if since > 7*day && (at.Weekday() != time.Wednesday || at.Hour() != 4) || since > day && at.Hour() != 4 {
					continue
				}
				h.At(at)
				h.Snap()
				if since > 14*day && since < 21*day { // torn: the file is cut off in it
					torn := h.on(First, "/srv/snapshots/"+at.UTC().Format("2006-01-02T150405")+path)
					content, err := os.ReadFile(torn)
					h.fail(err)
					info, err := os.Stat(torn)
					h.fail(err)
					h.write(torn, content[:len(content)*5/8], info.ModTime())
				}
			}
			h.At(ago(90 * time.Minute))
			h.Save(path, noise(seed, 700))
			h.At(ago(30 * time.Minute))
			h.Snap()
		}
		last := func(until time.Time) []byte {
			revision := -1
			for at := ago(30 * day); at.Before(until); at = at.Add(hour) {
				if at.Hour() == 9 && at.Weekday() == time.Tuesday {
					revision++
				}
			}
			return of(revision)
		}
		all = append(all,
			Case{Family: family, Variant: k.name + ", damaged now", Path: path, Ask: advice.Question{Loss: advice.Damaged}, Want: last(ago(hour)), Play: play},
			Case{Family: family, Variant: k.name + ", overwritten now", Path: path, Ask: advice.Question{Loss: advice.Overwritten}, Want: last(ago(hour)), Play: play},
			Case{Family: family, Variant: k.name + ", right ten days ago", Path: path, Ask: advice.Question{Loss: advice.Overwritten, Good: ago(9 * day)},
				Want: last(ago(9 * day)), Play: play})
	}
	return all
}

// springForward is the switch in which an hour is missing: on 29 March 2026 at 01:00 UTC Lisbon's clocks went from 01:00 to 02:00.
func springForward() []Case {
	const family = "daylight-saving switch, in spring"
	change := time.Date(2026, 3, 29, 1, 0, 0, 0, time.UTC)
	k := kinds[0]
	path := docs("dawn.txt")
	of := func(n int) []byte { return k.of(prose(5600, 0, 20+4*n)) }
	play := func(h *History) {
		h.At(change.Add(-6 * hour))
		h.Save(path, of(0))
		for at := change.Add(-5 * hour); at.Before(change.Add(4 * hour)); at = at.Add(20 * time.Minute) {
			h.At(at)
			switch {
			case at.Equal(change.Add(-20 * time.Minute)):
				h.Save(path, of(1))
			case at.Equal(change.Add(20 * time.Minute)):
				h.Save(path, of(2))
			}
			h.At(at.Add(5 * time.Minute))
			h.Snap()
		}
	}
	var all []Case
	for n, minutes := range []int{-30, -5, 10, 40} {
		ask := advice.Question{Loss: advice.Overwritten, Good: change.Add(time.Duration(minutes) * time.Minute)}
		all = append(all, Case{Family: family, Variant: fmt.Sprintf("%d minutes from it", minutes), Path: path, Ask: ask,
			Want: of([]int{0, 1, 1, 2}[n]), Play: play})
	}
	return append(all, Case{Family: family, Variant: "deleted right after it", Path: path, Ask: advice.Question{Loss: advice.Deleted}, Want: of(2),
		Play: func(h *History) {
			play(h)
			h.At(change.Add(5 * hour))
			h.Discard(path)
		}})
}

func recordsAlone() []Case {
	const family = "a record in the trash without its item"
	var all []Case
	for n, k := range kinds[:3] {
		path := docs("keel" + k.ext)
		a := k.of(prose(uint64(5700+n), 0, 24))
		all = append(all, Case{Family: family, Variant: k.name, Path: path, Ask: advice.Question{Loss: advice.Deleted}, Want: a, Play: func(h *History) {
			h.At(ago(20 * day))
			h.Save(path, a)
			h.Days(ago(19*day), ago(9*day))
			h.At(ago(9*day - 5*hour))
			h.Discard(path)
			h.fail(os.RemoveAll(h.on(First, Home+"/.local/share/Trash/files")))
			h.fail(os.MkdirAll(h.on(First, Home+"/.local/share/Trash/files"), 0o755))
			h.Days(ago(8*day), ago(day))
		}})
	}
	tiny := docs("code.txt")
	return append(all, Case{Family: "a document of ten bytes", Variant: "damaged", Path: tiny, Ask: advice.Question{Loss: advice.Damaged}, Want: []byte("larch 12\n\n"),
		Play: func(h *History) {
			h.At(ago(20 * day))
			h.Save(tiny, []byte("larch 12\n\n"))
			h.Save(tiny+"~", []byte("oak 7, 8\n\n"))
			h.Days(ago(19*day), ago(9*day))
			h.Save(tiny, make([]byte, 10))
			h.Days(ago(8*day), ago(day))
		}})
}
