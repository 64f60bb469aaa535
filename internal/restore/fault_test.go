package restore_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/core/digest"
	"humble-rewind/internal/core/entry"
	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/plan"
	"humble-rewind/internal/reach"
	"humble-rewind/internal/reach/local"
	"humble-rewind/internal/reach/reachtest"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

// faults makes the writing operation that countdown reaches zero at fail, and none after it. With otherDevice every
// rename between folders fails as between file systems, so that items are copied.
type faults struct {
	countdown   int
	err         error
	otherDevice bool
	poor        bool   // the way can tell little: neither which file it is nor when it changed, nor whose it is
	corrupt     bool   // what is written is not what was meant
	synced      func() // called when what was written is made to last
	created     func() // called when a file is made to be written
}

var striking sync.Mutex // files are written side by side

func (f *faults) strike() error {
	striking.Lock()
	defer striking.Unlock()
	f.countdown--
	if f.countdown == 0 {
		return f.err
	}
	return nil
}

func (f *faults) way() reach.Way {
	return reach.Way{Open: func(_ context.Context, at reach.Address) (reach.Session, error) {
		files, err := local.Open(at.Path)
		if f.poor && err == nil {
			return reachtest.Poor(faultyFiles{files, f}, 0), nil
		}
		return faultyFiles{files, f}, err
	}}
}

type faultyFiles struct {
	reach.Session
	f *faults
}

func (x faultyFiles) Tree(ctx context.Context, path string) (reach.Tree, error) {
	return x.Folder(ctx, path)
}

func (x faultyFiles) Folder(ctx context.Context, path string) (reach.Folder, error) {
	folder, err := x.Session.Folder(ctx, path)
	if err != nil {
		return nil, err
	}
	return x.f.device(path, folder), nil
}

// device gives what lies under /other another device number, as if a drive were mounted there.
func (f *faults) device(path string, folder reach.Folder) reach.Folder {
	return faultyFolder{folder, f, f.otherDevice && strings.HasPrefix(path, "/other")}
}

type faultyFolder struct {
	reach.Folder
	f     *faults
	other bool
}

func (x faultyFolder) shift(i reach.Info, err error) (reach.Info, error) {
	if x.other {
		i.Device += 1000
	}
	return i, err
}

func (x faultyFolder) Info(ctx context.Context) (reach.Info, error) {
	return x.shift(x.Folder.Info(ctx))
}
func (x faultyFolder) Look(ctx context.Context, name string) (reach.Info, error) {
	return x.shift(x.Folder.Look(ctx, name))
}
func (x faultyFolder) Enter(ctx context.Context, name string) (reach.Tree, error) {
	return x.Into(ctx, name)
}
func (x faultyFolder) Into(ctx context.Context, name string) (reach.Folder, error) {
	folder, err := x.Folder.Into(ctx, name)
	if err != nil {
		return nil, err
	}
	return faultyFolder{folder, x.f, x.other}, nil
}

func (x faultyFolder) Rename(ctx context.Context, oldName string, to reach.Folder, newName string) error {
	if err := x.f.strike(); err != nil {
		return err
	}
	return x.Folder.Rename(ctx, oldName, to.(faultyFolder).Folder, newName)
}

func (x faultyFolder) Create(ctx context.Context, name string) (reach.NewFile, error) {
	if err := x.f.strike(); err != nil {
		return nil, err
	}
	if x.f.created != nil {
		x.f.created()
	}
	file, err := x.Folder.Create(ctx, name)
	return faultyFile{file, x.f}, err
}

func (x faultyFolder) Mkdir(ctx context.Context, name string) error {
	return first(x.f.strike(), func() error { return x.Folder.Mkdir(ctx, name) })
}
func (x faultyFolder) Remove(ctx context.Context, name string) error {
	return first(x.f.strike(), func() error { return x.Folder.Remove(ctx, name) })
}
func (x faultyFolder) Replace(ctx context.Context, a, b string) error {
	return first(x.f.strike(), func() error { return x.Folder.Replace(ctx, a, b) })
}
func (x faultyFolder) SetMeta(ctx context.Context, m reach.Meta) error {
	return first(x.f.strike(), func() error { return x.Folder.SetMeta(ctx, m) })
}
func (x faultyFolder) List(ctx context.Context) ([]reach.Info, error) {
	all, err := x.Folder.List(ctx)
	for i := range all {
		all[i], _ = x.shift(all[i], nil)
	}
	return all, err
}
func (x faultyFolder) Sync(ctx context.Context) error {
	return first(x.f.strike(), func() error { return x.Folder.Sync(ctx) })
}
func (x faultyFolder) Settle(ctx context.Context) error {
	if x.f.synced != nil {
		x.f.synced()
	}
	return first(x.f.strike(), func() error { return x.Folder.Settle(ctx) })
}

func first(err error, do func() error) error {
	if err != nil {
		return err
	}
	return do()
}

type faultyFile struct {
	reach.NewFile
	f *faults
}

func (x faultyFile) Write(p []byte) (int, error) {
	if err := x.f.strike(); err != nil {
		n, _ := x.NewFile.Write(p[:len(p)/2])
		return n, err
	}
	if x.f.corrupt {
		p = append([]byte{p[0] ^ 1}, p[1:]...)
	}
	return x.NewFile.Write(p)
}

// ReadAt makes large files be read back while they are written.
func (x faultyFile) ReadAt(p []byte, at int64) (int, error) {
	return x.NewFile.(io.ReaderAt).ReadAt(p, at)
}

func TestWhatArrivesDifferentlyIsNotBroughtBack(t *testing.T) {
	for name, content := range map[string]string{"small": "from the trash", "large": strings.Repeat("lines of the hull\n", 3<<20)} {
		t.Run(name, func(t *testing.T) {
			f := &faults{otherDevice: true, corrupt: true}
			s := sitetest.NewWith(t, reach.Ways{f.way()})
			s.Discard("/home/ines/quote.odt", content)
			s.Lay(map[string]string{"/other/new/": ""})
			s.Survey(s.AddTrash("/home/ines"))
			before := s.Tree("/")
			r := s.BringBack(restore.Request{Copies: ids(s.Named("quote")), To: &place.Place{Machine: "loft", Path: "/other/new"}})
			assert.Equal(t, []catalogue.ItemOutcome{"failed"}, outcomes(r))
			assert.Contains(t, r.Items[0].Note, "reads back as something else")
			assert.Empty(t, r.Items[0].SHA256)
			assert.Equal(t, before, s.Tree("/"))
		})
	}
}

// Of whatever length a file is, around the sizes at which it is sent otherwise, it arrives byte for byte and is digested right; long runs
// of zeros come as holes.
func TestFilesOfAllLengthsArriveWhole(t *testing.T) {
	const piece, large, window = 256 << 10, 4 << 20, 32 << 20
	random := rand.New(rand.NewPCG(7, 7))
	f := &faults{otherDevice: true}
	s := sitetest.NewWith(t, reach.Ways{f.way()})
	lengths := []int{0, 1, piece - 1, piece, piece + 1, large, large + 1, window - 1, window, window + 1, window + large, 2*window + 3}
	for _, n := range lengths {
		content := make([]byte, n)
		for at := 0; at < n; at += piece {
			if random.IntN(3) > 0 { // else a hole
				for i := at; i < min(n, at+piece); i += 97 {
					content[i] = byte(random.Uint32())
				}
			}
		}
		s.Discard(fmt.Sprintf("/home/ines/%d.bin", n), string(content))
	}
	s.Lay(map[string]string{"/other/new/": ""})
	s.Survey(s.AddTrash("/home/ines"))
	want := map[string]digest.Sum{}
	for _, n := range lengths {
		content, err := os.ReadFile(s.Path(fmt.Sprintf("%s/files/%d.bin", sitetest.HomeTrash, n)))
		require.NoError(t, err)
		want[fmt.Sprintf("%d.bin", n)] = sha256.Sum256(content)
	}
	r := s.BringBack(restore.Request{Copies: ids(s.Find(catalogue.Query{Limit: 100})...),
		To: &place.Place{Machine: "loft", Path: "/other/new"}})
	require.Equal(t, catalogue.ReceiptDone, r.State)
	require.Len(t, r.Items, len(lengths))
	for _, item := range r.Items {
		content, err := os.ReadFile(s.Path(item.To.Path))
		require.NoError(t, err)
		assert.Equal(t, want[item.To.Name()], digest.Sum(sha256.Sum256(content)), item.To.Name())
		assert.Equal(t, want[item.To.Name()], item.SHA256)
	}
}

// Every writing operation of a bring-back fails once, each in a world of its own. Whatever fails, each content is in the
// trash or at its destination, whole; what stood there is there or in safekeeping; and the receipt says how it went.
func TestWhateverFailsNothingIsLost(t *testing.T) {
	for name, f := range map[string]faults{"by renaming": {}, "by copying": {otherDevice: true}, "by a poor way": {poor: true}} {
		t.Run(name, func(t *testing.T) {
			for n := 1; ; n++ {
				if !failAt(t, n, f) {
					require.Greater(t, n, 8, "there are more operations than that to fail")
					t.Logf("%d operations failed in turn", n-1)
					return
				}
			}
		})
	}
}

// failAt lets the nth operation fail and tells whether there was one.
func failAt(t *testing.T, n int, faults faults) bool {
	f, across := &faults, faults.otherDevice
	f.err = syscall.ENOSPC
	s := sitetest.NewWith(t, reach.Ways{f.way()})
	s.Discard("/home/ines/quote.odt", "from the trash")
	s.Discard("/home/ines/Moulds/", "one.svg\nfull size/two.svg\n")
	top := "/home/ines"
	request := restore.Request{Rule: plan.SetAside}
	if across {
		top = "/other/new"
		request.To, request.ToFolder = &place.Place{Machine: "loft", Path: "/other/new"}, true
		s.Lay(map[string]string{"/other/": ""})
	}
	s.Lay(map[string]string{top + "/quote.odt": "stood there"})
	s.Survey(s.AddTrash("/home/ines"))
	request.Copies = ids(s.Named("quote"), s.Find(catalogue.Query{Words: "moulds", Class: "folders"})[0])
	receipt := s.Begin(request)
	f.countdown = n
	_ = s.Restorer.Carry(t.Context(), receipt.ID, func(int64, int64, string) {})
	struck := f.countdown <= 0
	f.countdown = 0

	receipt = s.Receipt(receipt.ID)
	what := fmt.Sprintf("operation %d, across %t: %+v", n, across, outcomes(receipt))
	assert.NotEqual(t, catalogue.ReceiptOpen, receipt.State, what)
	for _, item := range receipt.Items {
		inside, content := "", "from the trash"
		if item.Type == entry.Folder {
			inside, content = "/full size/two.svg", "content of full size/two.svg\n"
		}
		lies, liesErr := os.ReadFile(s.Path(item.From.Path) + inside)
		there, thereErr := os.ReadFile(s.Path(item.To.Path) + inside)
		switch item.Outcome {
		case catalogue.ItemDone:
			require.NoError(t, thereErr, what)
			assert.Equal(t, content, string(there), what)
			assert.True(t, liesErr != nil || item.Note != "", "%s: it is in both places, and the receipt does not say so", what)
		case catalogue.ItemFailed:
			require.NoError(t, liesErr, what)
			assert.Equal(t, content, string(lies), what)
			assert.Contains(t, item.Note, "full", what)
			if item.Type == entry.File {
				require.NoError(t, thereErr, what)
				assert.Equal(t, "stood there", string(there), what)
			}
		default:
			t.Errorf("%s: outcome %s", what, item.Outcome)
		}
	}
	parts, err := filepath.Glob(s.Path(top) + "/.humble-rewind-*.part")
	require.NoError(t, err)
	assert.Empty(t, parts, what)
	return struck
}
