package disk_test

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/disk"
	"humble-rewind/internal/core/disk/exfat"
	"humble-rewind/internal/core/disk/ext4"
	"humble-rewind/internal/core/disk/fat"
	"humble-rewind/internal/core/intact"
)

// drive is an image with a real file system, made and written by the system's own tools.
type drive struct {
	t      *testing.T
	image  string
	dir    string // where it is mounted; "" for mtools and debugfs
	ext    bool
	device string // a loop device that it is; "" for none
}

func run(t *testing.T, name string, args ...string) {
	t.Helper()
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %s: %s", name, strings.Join(args, " "), out)
}

// made makes a file system of so many MiB, or skips the test in words.
func made(t *testing.T, mib int64, mkfs ...string) *drive {
	t.Helper()
	if _, err := exec.LookPath(mkfs[0]); err != nil {
		t.Skipf("%s is not installed: make deps installs it", mkfs[0])
	}
	d := &drive{t: t, image: filepath.Join(t.TempDir(), "card.img"), ext: strings.HasPrefix(mkfs[0], "mkfs.ext2")}
	f, err := os.Create(d.image)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(mib<<20))
	require.NoError(t, f.Close())
	run(t, mkfs[0], append(mkfs[1:], d.image)...)
	return d
}

// mount mounts it, or skips the test in words.
func (d *drive) mount(how ...string) {
	d.t.Helper()
	d.dir = d.t.TempDir()
	if os.Geteuid() != 0 {
		d.t.Skip("mounting an image takes root")
	}
	device := d.image
	if how[0] != "mount" { // FUSE wants a device
		out, err := exec.Command("losetup", "--find", "--show", d.image).Output()
		if err != nil {
			d.t.Skipf("this system has no loop devices: %s", err)
		}
		device = strings.TrimSpace(string(out))
		d.device = device
		d.t.Cleanup(d.detach)
	}
	args := append(append([]string{}, how[1:]...), device, d.dir)
	if out, err := exec.Command(how[0], args...).CombinedOutput(); err != nil {
		d.t.Skipf("this system does not mount it: %s: %s", err, out)
	}
	d.t.Cleanup(d.unmount)
}

func (d *drive) unmount() {
	if d.dir != "" {
		run(d.t, "sync")
		for range 50 {
			if exec.Command("umount", d.dir).Run() == nil {
				break
			}
			time.Sleep(100 * time.Millisecond)
		}
		d.dir = ""
		d.detach()
	}
}

// detach lets go of a device that the image is, with all that was written to it.
func (d *drive) detach() {
	if d.device == "" {
		return
	}
	time.Sleep(200 * time.Millisecond) // FUSE writes on after it was unmounted
	run(d.t, "sync")
	_ = exec.Command("losetup", "--detach", d.device).Run() // at the latest once nobody has it open
	run(d.t, "sync")
	d.device = ""
}

func (d *drive) write(path string, content []byte) {
	d.t.Helper()
	if d.dir != "" {
		to := filepath.Join(d.dir, path)
		require.NoError(d.t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(d.t, os.WriteFile(to, content, 0o644))
		return
	}
	from := filepath.Join(d.t.TempDir(), "from")
	require.NoError(d.t, os.WriteFile(from, content, 0o644))
	if d.ext { // the kernel's own driver leaves nothing of what it removes from an ext2
		if dir := filepath.Dir(path); dir != "/" {
			_ = exec.Command("debugfs", "-w", "-R", "mkdir "+dir, d.image).Run()
		}
		run(d.t, "debugfs", "-w", "-R", fmt.Sprintf("write %s %q", from, path), d.image)
		return
	}
	parts := strings.Split(strings.Trim(filepath.Dir(path), "/"), "/")
	for n := range parts {
		if parts[n] != "" {
			_ = exec.Command("mmd", "-D", "s", "-i", d.image, "::/"+strings.Join(parts[:n+1], "/")).Run() // it may be there
		}
	}
	run(d.t, "mcopy", "-m", "-i", d.image, from, "::"+path)
}

func (d *drive) remove(paths ...string) {
	d.t.Helper()
	for _, path := range paths {
		if d.dir != "" {
			require.NoError(d.t, os.RemoveAll(filepath.Join(d.dir, path)))
			continue
		}
		if d.ext {
			if path == "/Trials" {
				d.remove("/Trials/Offsets Kittiwake.csv", "/Trials/LOG.TXT")
				run(d.t, "debugfs", "-w", "-R", "rmdir /Trials", d.image)
				continue
			}
			run(d.t, "debugfs", "-w", "-R", fmt.Sprintf("rm %q", path), d.image)
			continue
		}
		if exec.Command("mdel", "-i", d.image, "::"+path).Run() != nil {
			run(d.t, "mdeltree", "-i", d.image, "::"+path)
		}
	}
}

// entries walks the image.
func (d *drive) entries() (volume disk.Volume, all map[string]disk.Entry, content func(disk.Entry) []byte) {
	d.t.Helper()
	f, err := os.Open(d.image)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(d.t, err)
	pages := disk.NewPages(f, info.Size())
	for _, open := range []func() (disk.Volume, error){
		func() (disk.Volume, error) { return fat.Open(pages, 0) },
		func() (disk.Volume, error) { return exfat.Open(pages, 0) },
		func() (disk.Volume, error) { return ext4.Open(pages, 0) },
	} {
		if v, err := open(); err == nil {
			volume = v
			break
		}
	}
	require.NotNil(d.t, volume)
	all = map[string]disk.Entry{}
	require.NoError(d.t, volume.Walk(func(e disk.Entry) error {
		all[fmt.Sprint(disk.Join(e.Dir, e.Name), map[bool]string{true: " (erased)"}[e.Erased])] = e
		return nil
	}, func(note disk.Note) { d.t.Log(note) }))
	return volume, all, func(e disk.Entry) []byte {
		var b bytes.Buffer
		for _, r := range e.Runs {
			if r.At == disk.Hole {
				b.Write(make([]byte, r.Size))
				continue
			}
			_, err := io.Copy(&b, io.NewSectionReader(f, r.At, r.Size))
			require.NoError(d.t, err)
		}
		return b.Bytes()
	}
}

func of(e disk.Entry) intact.State {
	return intact.Of(e.Size, e.Taken, 0, false, e.Known).State
}

func bytesOf(seed uint64, size int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// What was erased from real file systems comes back byte for byte, under its name, and nothing that was overwritten is called whole.
func TestErasedFilesOfRealFileSystems(t *testing.T) {
	for _, c := range []struct {
		name  string
		mib   int64
		mkfs  []string
		mount []string
		want  intact.State
		named bool // short names lose nothing
	}{
		{"FAT12", 4, []string{"mkfs.fat", "-F", "12"}, nil, intact.OnePiece, false},
		{"FAT16", 32, []string{"mkfs.fat", "-F", "16"}, nil, intact.OnePiece, false},
		{"FAT32", 64, []string{"mkfs.fat", "-F", "32", "-s", "1"}, nil, intact.OnePiece, false},
		{"exFAT", 64, []string{"mkfs.exfat"}, []string{"mount.exfat-fuse"}, intact.Whole, true},
		{"ext2", 64, []string{"mkfs.ext2", "-q"}, nil, intact.Whole, true},
		{"ext3", 64, []string{"mkfs.ext3", "-q"}, []string{"mount", "-o", "loop"}, intact.Whole, true},
		{"ext4", 64, []string{"mkfs.ext4", "-q"}, []string{"mount", "-o", "loop"}, intact.Whole, true},
		{"ext4 of small blocks", 64, []string{"mkfs.ext4", "-q", "-b", "1024", "-O", "^metadata_csum,^64bit"}, []string{"mount", "-o", "loop"}, intact.Whole, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			d := made(t, c.mib, c.mkfs...)
			if c.mount != nil {
				d.mount(c.mount...)
			}
			plank, offsets, log := bytesOf(1, 100_000), bytesOf(2, 31_000), bytesOf(3, 9_000)
			d.write("/Stays.txt", []byte("it stays"))
			d.write("/Plank list of the Marsh Wren.odt", plank)
			d.write("/Trials/Offsets Kittiwake.csv", offsets)
			d.write("/Trials/LOG.TXT", log)
			d.write("/Stays too.txt", []byte("it stays too"))
			if d.dir != "" { // so that the journal has them as they were
				run(t, "sync")
				time.Sleep(50 * time.Millisecond)
			}
			d.remove("/Plank list of the Marsh Wren.odt", "/Trials")
			d.unmount()

			v, all, content := d.entries()
			for path, want := range map[string][]byte{"/Stays.txt": []byte("it stays"), "/Stays too.txt": []byte("it stays too")} {
				e, ok := all[path]
				require.True(t, ok, "%s stands in %v", path, all)
				assert.Equal(t, want, content(e))
				assert.True(t, e.Known)
			}
			trials := "/Trials"
			for path, want := range map[string][]byte{"/Plank list of the Marsh Wren.odt": plank, trials + "/Offsets Kittiwake.csv": offsets,
				trials + "/LOG.TXT": log} {
				e, ok := all[path+" (erased)"]
				if !ok && strings.HasSuffix(path, "LOG.TXT") && !c.named {
					e, ok = all[trials+"/_OG.TXT (erased)"]
					assert.Equal(t, disk.FirstLetter, e.Lost)
				}
				if !assert.True(t, ok, "%s was erased, of %v", path, keys(all)) {
					continue
				}
				assert.Equal(t, c.want, of(e), path)
				assert.True(t, bytes.Equal(want, content(e)), "%s: %d bytes of %d", path, len(content(e)), len(want))
				assert.WithinDuration(t, time.Now(), e.Written, 26*time.Hour)
			}
			free := int64(0)
			require.NoError(t, v.Free(func(r disk.Run) error {
				assert.Zero(t, v.Taken(r))
				free += r.Size
				return nil
			}))
			assert.Greater(t, free, c.mib<<20/2)
		})
	}
}

func keys(all map[string]disk.Entry) (names []string) {
	for name := range all {
		names = append(names, name)
	}
	return names
}

// What was written over an erased file is never called whole, and what is left of one is told by its share.
func TestNothingOverwrittenIsCalledWhole(t *testing.T) {
	for _, c := range []struct {
		mkfs, mount []string
	}{
		{[]string{"mkfs.fat", "-F", "32", "-s", "1"}, nil},
		{[]string{"mkfs.exfat"}, []string{"mount.exfat-fuse"}},
		{[]string{"mkfs.ext4", "-q"}, []string{"mount", "-o", "loop"}},
	} {
		t.Run(c.mkfs[0], func(t *testing.T) {
			t.Parallel()
			d := made(t, 40, c.mkfs...)
			if c.mount != nil {
				d.mount(c.mount...)
			}
			written := map[string][]byte{}
			for n := range 60 {
				path := fmt.Sprintf("/Frame drawing %d of the Tern.jpg", n)
				written[path] = bytesOf(uint64(n), 400_000+n)
				d.write(path, written[path])
			}
			if d.dir != "" {
				run(t, "sync")
			}
			for path := range written {
				d.remove(path)
			}
			if d.dir != "" {
				run(t, "sync")
			}
			for n := range 27 {
				d.write(fmt.Sprintf("/New %d.bin", n), bytesOf(uint64(1000+n), 1_000_000))
			}
			d.unmount()
			_, all, content := d.entries()
			states := map[intact.State]int{}
			for path, want := range written {
				e, ok := all[path+" (erased)"]
				if !ok {
					continue // its entry was given to another
				}
				state := of(e)
				if states[state]++; state == intact.Whole || state == intact.OnePiece {
					assert.True(t, bytes.Equal(want, content(e)), "%s is called %s", path, state)
				}
			}
			t.Log(states)
			assert.NotZero(t, len(states))
		})
	}
}

// fuzzed changes anything in the beginning of a file system.
func fuzzed(f *testing.F, mkfs ...string) {
	if _, err := exec.LookPath(mkfs[0]); err == nil {
		image := filepath.Join(f.TempDir(), "seed.img")
		if os.WriteFile(image, make([]byte, 1<<20), 0o600) == nil && exec.Command(mkfs[0], append(mkfs[1:], image)...).Run() == nil {
			seed, _ := os.ReadFile(image)
			f.Add(seed[:256<<10], []byte{1, 2, 3})
		}
	}
	f.Add([]byte("EXFAT   "), []byte{0})
	f.Fuzz(func(t *testing.T, image, changes []byte) {
		for i := 0; i+2 < len(changes) && len(image) > 0; i += 3 {
			image[(int(changes[i])<<8|int(changes[i+1]))%len(image)] ^= changes[i+2]
		}
		pages := disk.NewPages(bytes.NewReader(image), int64(len(image)))
		var volumes []disk.Volume
		if v, err := fat.Open(pages, 0); err == nil {
			volumes = append(volumes, v)
		}
		if v, err := exfat.Open(pages, 0); err == nil {
			volumes = append(volumes, v)
		}
		if v, err := ext4.Open(pages, 0); err == nil {
			volumes = append(volumes, v)
		}
		enough := fmt.Errorf("enough")
		for _, v := range volumes {
			count := 0
			err := v.Walk(func(e disk.Entry) error {
				if e.Name == "" || strings.ContainsAny(e.Name, "/\x00") || e.Dir == "" || e.Taken < 0 || disk.Sum(e.Runs) > max(0, e.Size) {
					t.Fatalf("%+v", e)
				}
				if count++; count > 10_000 {
					return enough
				}
				return nil
			}, func(disk.Note) {})
			if err == nil {
				_ = v.Free(func(r disk.Run) error {
					if count++; r.Size <= 0 || count > 20_000 {
						return enough
					}
					return nil
				})
			}
		}
	})
}

func FuzzFAT(f *testing.F)   { fuzzed(f, "mkfs.fat", "-F", "12") }
func FuzzExFAT(f *testing.F) { fuzzed(f, "mkfs.exfat") }
func FuzzExt(f *testing.F) {
	fuzzed(f, "mkfs.ext4", "-q", "-b", "1024", "-N", "16", "-O", "^has_journal")
}
