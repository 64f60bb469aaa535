package e2e

import (
	"bytes"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"humble-rewind/api"
)

// user is who attacks: an unprivileged account with a home on the machine.
const user = 1001

// The test program is the user's process too: started with these, it gives up its rights and does what the mode says.
const (
	userMode   = "HUMBLE_REWIND_USER_MODE"
	userFolder = "HUMBLE_REWIND_USER_FOLDER"
	userLog    = "HUMBLE_REWIND_USER_LOG"
)

func init() {
	mode := os.Getenv(userMode)
	if mode == "" {
		return
	}
	log, err := os.OpenFile(os.Getenv(userLog), os.O_WRONLY|os.O_APPEND|os.O_CREATE, 0o644)
	if err == nil {
		err = dropTo(user)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	switch mode {
	case "swap":
		swap(os.Getenv(userFolder))
	case "work":
		work(os.Getenv(userFolder), log)
	}
	os.Exit(0)
}

func dropTo(uid int) error {
	if err := syscall.Setgroups(nil); err != nil {
		return err
	}
	if err := syscall.Setresgid(uid, uid, uid); err != nil {
		return err
	}
	return syscall.Setresuid(uid, uid, uid)
}

// swap puts root's files in the place of whatever comes up in a folder, and of folders that can be entered, for ever.
func swap(folder string) {
	for n := 0; ; n++ {
		entries, _ := os.ReadDir(folder)
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), "secret") {
				continue
			}
			at := filepath.Join(folder, e.Name())
			secret := filepath.Join(folder, fmt.Sprintf("secret%d", n%40))
			_ = os.Rename(filepath.Join(at, "0.part"), filepath.Join(folder, "taken")) // were it to be entered
			if n%3 == 0 && e.IsDir() {
				_ = unix.Renameat2(unix.AT_FDCWD, at, unix.AT_FDCWD, filepath.Join(folder, "secret folder"), unix.RENAME_EXCHANGE)
				continue
			}
			_ = unix.Renameat2(unix.AT_FDCWD, at, unix.AT_FDCWD, secret, unix.RENAME_EXCHANGE)
			_ = unix.Renameat2(unix.AT_FDCWD, at, unix.AT_FDCWD, secret, unix.RENAME_EXCHANGE)
		}
	}
}

// work is what somebody does in her own folder, all the time: new files, also under names that are about to come, lines added to
// what came, files renamed and removed. What she removes she says in the log first.
func work(folder string, log *os.File) {
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 1))
	for k := 0; ; k++ {
		time.Sleep(time.Duration(r.IntN(600)) * time.Microsecond)
		name := filepath.Join(folder, fmt.Sprintf("n%d.txt", r.IntN(killFiles())))
		switch r.IntN(5) {
		case 0:
			own := filepath.Join(folder, fmt.Sprintf("own%d.txt", k))
			if os.WriteFile(own, fmt.Appendf(nil, "own %d\n", k), 0o644) == nil {
				fmt.Fprintf(log, "wrote own %d\n", k)
			}
		case 1: // under a name that is to come, perhaps
			if f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644); err == nil {
				if _, err := fmt.Fprintf(f, "own %d\n", k); err == nil {
					fmt.Fprintf(log, "wrote own %d\n", k)
				}
				f.Close()
			}
		case 2:
			if f, err := os.OpenFile(name, os.O_WRONLY|os.O_APPEND, 0); err == nil {
				if _, err := fmt.Fprintf(f, "own %d\n", k); err == nil {
					fmt.Fprintf(log, "wrote own %d\n", k)
				}
				f.Close()
			}
		case 3:
			_ = os.Rename(name, filepath.Join(folder, fmt.Sprintf("moved%d.txt", k)))
		case 4: // removed, once it is known what is in it
			aside := filepath.Join(folder, fmt.Sprintf("removing%d.txt", k))
			if os.Rename(name, aside) == nil {
				if content, err := os.ReadFile(aside); err == nil {
					fmt.Fprintf(log, "removed\n%s", content)
					_ = os.Remove(aside)
				}
			}
		}
	}
}

// asUser starts the test program as the user's process; it is ended with the function returned.
func asUser(t *testing.T, mode, folder, log string) (stop func()) {
	program, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(program)
	cmd.Env = append(os.Environ(), userMode+"="+mode, userFolder+"="+folder, userLog+"="+log)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	ended := false
	stop = func() {
		if !ended {
			ended = true
			_ = cmd.Process.Kill()
			_ = cmd.Wait() // says that it was killed
		}
	}
	t.Cleanup(stop)
	return stop
}

// yard makes a machine on which the user lives, in a folder that she can reach, and skips the test where nobody can be made a user.
func yard(t *testing.T) (root, home string) {
	if os.Geteuid() != 0 {
		t.Skip("only root can act as an unprivileged user; the attacks are not tested here")
	}
	root = t.TempDir()
	for dir := root; dir != os.TempDir() && dir != "/"; dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	home = filepath.Join(root, "home/ines")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "Papers"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/passwd"), []byte("ines:x:1001:1001::/home/ines:/bin/sh\n"), 0o644))
	give(t, home)
	return root, home
}

// give makes everything below a folder the user's.
func give(t *testing.T, dir string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error {
		require.NoError(t, err)
		return os.Lchown(path, user, user)
	}))
}

// homeTrash lays the user's own trash with n files that came from her Papers.
func homeTrash(t *testing.T, home string, n int) {
	can := filepath.Join(home, ".local/share/Trash")
	for _, d := range []string{"files", "info"} {
		require.NoError(t, os.MkdirAll(filepath.Join(can, d), 0o700))
	}
	for i := range n {
		name := fmt.Sprintf("n%d.txt", i)
		require.NoError(t, os.WriteFile(filepath.Join(can, "files", name), []byte(content(i)), 0o644))
		require.NoError(t, os.WriteFile(filepath.Join(can, "info", name+".trashinfo"), fmt.Appendf(nil,
			"[Trash Info]\nPath=/home/ines/Papers/%s\nDeletionDate=2026-11-03T16:30:00\n", name), 0o600))
	}
	give(t, filepath.Join(home, ".local"))
}

// ids returns the copies of files.
func (p *process) ids() (ids []string) {
	for _, c := range p.all() {
		if c.Type == api.EntryTypeFile {
			ids = append(ids, c.Id)
		}
	}
	return ids
}

// A user who puts root's files in the place of everything that comes up in her folder, while root brings hundreds of files back
// there, gets none of them.
func TestSwappedFilesAreNotGivenAway(t *testing.T) {
	for name, across := range map[string]bool{"within a file system": false, "across file systems": true} {
		t.Run(name, func(t *testing.T) {
			root, home := yard(t)
			papers := filepath.Join(home, "Papers")
			trash := filepath.Join(home, ".local/share/Trash")
			homeTrash(t, home, 400)
			if across {
				require.NoError(t, os.MkdirAll(filepath.Join(root, "mnt"), 0o755))
				if err := unix.Mount("none", filepath.Join(root, "mnt"), "tmpfs", 0, ""); err != nil {
					t.Skipf("no tmpfs can be mounted here: %v", err)
				}
				t.Cleanup(func() { _ = unix.Unmount(filepath.Join(root, "mnt"), unix.MNT_DETACH) })
				papers = filepath.Join(root, "mnt/Papers")
				require.NoError(t, os.Mkdir(papers, 0o755))
				require.NoError(t, os.Chown(papers, user, user))
			}
			require.NoError(t, os.Mkdir(filepath.Join(papers, "secret folder"), 0o700))
			secrets := map[uint64]bool{}
			for n := range 40 {
				at := filepath.Join(papers, fmt.Sprintf("secret%d", n))
				require.NoError(t, os.WriteFile(at, fmt.Appendf(nil, "only root may read this, %d", n), 0o600))
				var st unix.Stat_t
				require.NoError(t, unix.Stat(at, &st))
				secrets[st.Ino] = true
			}
			p := start(t, filepath.Join(t.TempDir(), "data"))
			p.add("yard", root, "/home/ines")
			p.wait(p.beginSurvey())
			ids, rule := p.ids(), api.ClashRuleSetAside
			require.Len(t, ids, 400)
			stop := asUser(t, "swap", papers, filepath.Join(t.TempDir(), "log"))
			to := api.Destination{Machine: "yard", Path: strings.TrimPrefix(papers, root) + "/"}
			r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids, Clash: &rule, To: &to})
			require.NoError(t, err)
			require.NotNil(t, r.JSON202, string(r.Body))
			p.wait(r.JSON202.Id)
			undo, err := p.UndoReceiptWithResponse(t.Context(), *r.JSON202.Receipt)
			require.NoError(t, err)
			if undo.JSON202 != nil { // else it says what was changed, which is right as well
				p.wait(undo.JSON202.Id)
			}
			stop()
			seen := 0
			for _, dir := range []string{papers, trash} {
				require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
					require.NoError(t, err)
					if !d.Type().IsRegular() {
						return nil
					}
					var st unix.Stat_t
					require.NoError(t, unix.Lstat(path, &st))
					text, err := os.ReadFile(path)
					require.NoError(t, err)
					if !bytes.HasPrefix(text, []byte("only root")) {
						return nil
					}
					seen++
					assert.Zero(t, st.Uid, path)
					assert.EqualValues(t, 0o600, st.Mode&0o7777, path)
					return nil
				}))
			}
			t.Logf("%d of %d of root's files are still beside what came", seen, len(secrets))
			p.kill()
		})
	}
}

// Killed at any point while the user works in the very folder that files come back to, nothing of hers and nothing of what comes
// back is lost, once the receipt is settled.
func TestKilledWhileTheUserWorks(t *testing.T) {
	t.Parallel()
	for round := range killPoints(t, 3) {
		killWhileWorking(t, round%2 == 1)
	}
}

func killWhileWorking(t *testing.T, undo bool) {
	root, home := yard(t)
	papers := filepath.Join(home, "Papers")
	files := killFiles()
	homeTrash(t, home, files)
	data := filepath.Join(t.TempDir(), "data")
	log := filepath.Join(t.TempDir(), "log")
	p := start(t, data)
	p.add("yard", root, "/home/ines")
	p.wait(p.beginSurvey())
	ids, rule := p.ids(), api.ClashRuleSetAside
	require.Len(t, ids, files)
	stop := asUser(t, "work", papers, log)
	r, err := p.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids, Clash: &rule})
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	if undo {
		p.wait(r.JSON202.Id)
		u, err := p.UndoReceiptWithResponse(t.Context(), *r.JSON202.Receipt)
		require.NoError(t, err)
		if u.JSON202 == nil { // she has worked on something, and the undo refuses: ask for the rest of it by itself is not possible
			t.Logf("the undo is refused: %.200s", u.Body)
		}
	}
	time.Sleep(rand.N(time.Duration(files) * 500 * time.Microsecond))
	p.kill()
	p = start(t, data)
	var receipt *api.Receipt
	require.Eventually(t, func() bool {
		got, err := p.GetReceiptWithResponse(t.Context(), *r.JSON202.Receipt, nil)
		require.NoError(t, err)
		receipt = got.JSON200
		return receipt != nil && receipt.State != api.ReceiptStateOpen && receipt.State != api.ReceiptStateUndoing
	}, time.Minute, 50*time.Millisecond)
	stop()
	everything := readAllText(
		t,
		papers,
	) + readAllText(
		t,
		filepath.Join(home, ".local"),
	) + readAllText(
		t,
		filepath.Join(data, "safekeeping"),
	)
	said, err := os.ReadFile(log)
	require.NoError(t, err)
	var removed strings.Builder
	for _, part := range strings.SplitAfter(string(said), "removed\n")[1:] {
		removed.WriteString(part)
	}
	lost := 0
	for n := range files {
		line := fmt.Sprintf("plank %d\n", n)
		if !strings.Contains(everything, line) && !strings.Contains(removed.String(), line) {
			lost++
			t.Errorf("what was to come back as n%d.txt is lost", n)
		}
	}
	for line := range strings.Lines(string(said)) {
		number, ok := strings.CutPrefix(strings.TrimSpace(line), "wrote own ")
		if _, err := strconv.Atoi(number); !ok || err != nil {
			continue
		}
		own := "own " + number + "\n"
		if !strings.Contains(everything, own) && !strings.Contains(removed.String(), "\n"+own) &&
			!strings.HasPrefix(removed.String(), own) {
			lost++
			t.Errorf("her own %s is lost", number)
		}
		if lost > 10 {
			t.FailNow()
		}
	}
	for _, item := range receipt.Items {
		_, lies := os.Lstat(filepath.Join(root, item.From.Path))
		switch item.Outcome {
		case api.OutcomeDone:
			assert.Error(t, lies, "%s is done and still in the trash: %s", item.To.Path, item.Note)
		case api.OutcomeUndone, api.OutcomeFailed:
			if lies != nil {
				assert.NotEmpty(t, item.Note, "%s is %s", item.To.Path, item.Outcome)
			}
		default:
			t.Errorf("%s is %s", item.To.Path, item.Outcome)
		}
	}
	left, err := filepath.Glob(filepath.Join(papers, ".humble-rewind*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	t.Logf("%s, %d of %d done, her log has %d lines", receipt.State, receipt.Done, receipt.Count, strings.Count(string(said), "\n"))
	p.kill()
}

// readAllText returns the contents of all files below a folder, each with a line end before it.
func readAllText(t *testing.T, dir string) string {
	var all strings.Builder
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		text, err := os.ReadFile(path)
		all.WriteString("\n" + string(text) + "\n")
		return err
	}))
	return all.String()
}

// extDrive mounts a new ext4 file system as a user's own drive, without set-id, and skips the test where that cannot be done.
func extDrive(t *testing.T, at string) {
	image := filepath.Join(t.TempDir(), "drive.img")
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 32<<20))
	for _, command := range [][]string{{"mkfs.ext4", "-q", image}, {"mount", "-o", "loop,nosuid", image, at}} {
		if out, err := exec.Command(command[0], command[1:]...).CombinedOutput(); err != nil {
			t.Skipf("ext4 cannot be mounted here, so a user's own drive is not tested: %v: %v %s", command, err, out)
		}
	}
	t.Cleanup(func() { _ = unix.Unmount(at, unix.MNT_DETACH) })
}

// A shell with the set-id bit of root, made on a drive of the user's own, comes back into her home as a plain file of hers.
func TestASetuidShellOnAUsersDriveComesBackPlain(t *testing.T) {
	root, home := yard(t)
	card := filepath.Join(root, "media/ines/CARD")
	require.NoError(t, os.MkdirAll(card, 0o755))
	extDrive(t, card)
	shell := filepath.Join(card, ".Trash-1001/files/shell")
	for _, d := range []string{"files", "info"} {
		require.NoError(t, os.MkdirAll(filepath.Join(card, ".Trash-1001", d), 0o700))
	}
	sh, err := os.ReadFile("/bin/sh")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(shell, sh, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(card, ".Trash-1001/info/shell.trashinfo"),
		[]byte("[Trash Info]\nPath=shell\nDeletionDate=2026-11-03T16:30:00\n"), 0o600))
	give(t, card)
	require.NoError(t, os.Chown(shell, 0, 0))
	require.NoError(t, os.Chmod(shell, 0o755|fs.ModeSetuid))
	p := start(t, filepath.Join(t.TempDir(), "data"))
	p.add("yard", root, "/media/ines/CARD")
	p.wait(p.beginSurvey())
	ids, dry := p.ids(), true
	require.Len(t, ids, 1)
	request := api.NewBringBack{Copies: &ids, To: &api.Destination{Machine: "yard", Path: "/home/ines/"}, DryRun: &dry}
	plan, err := p.BringBackWithResponse(t.Context(), request)
	require.NoError(t, err)
	require.NotNil(t, plan.JSON200, string(plan.Body))
	assert.Contains(t, plan.JSON200.Items[0].Note, "set-id bits are dropped")
	dry = false
	r, err := p.BringBackWithResponse(t.Context(), request)
	require.NoError(t, err)
	require.NotNil(t, r.JSON202, string(r.Body))
	require.Equal(t, api.JobStateDone, p.wait(r.JSON202.Id).State)
	var st unix.Stat_t
	require.NoError(t, unix.Lstat(filepath.Join(home, "shell"), &st))
	assert.EqualValues(t, user, st.Uid)
	assert.EqualValues(t, 0o755, st.Mode&0o7777)
	p.kill()
}
