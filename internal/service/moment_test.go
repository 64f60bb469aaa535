package service_test

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/demo"
	"humble-rewind/internal/servicetest"
)

// A moment is opened by a real client, and by the public suite as far as what can only be read can be.
func TestAMomentIsOpenedByAnyFileManager(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	home := t.TempDir()
	netrc := fmt.Sprintf("machine 127.0.0.1\nlogin anybody\npassword %s\n", s.Token)
	require.NoError(t, os.WriteFile(filepath.Join(home, ".netrc"), []byte(netrc), 0o600))
	run := func(stdin, name string, args ...string) string {
		c := exec.CommandContext(t.Context(), name, args...)
		c.Env = []string{"HOME=" + home, "PATH=" + os.Getenv("PATH"), "TESTS=http basic"}
		c.Dir, c.Stdin = home, strings.NewReader(stdin)
		out, _ := c.CombinedOutput()
		return string(out)
	}
	said := run("cd home/ines/Documents/Quotes\nls\nget \"Quote 119 Sea Campion.odt\" brought.odt\nput brought.odt planted.odt\n"+
		"delete \"Quote 119 Sea Campion.odt\"\nquit\n", "cadaver", s.URL+"/as-of/now/front-office/")
	assert.Contains(t, said, "Quote 119 Sea Campion.odt")
	assert.Equal(t, 2, strings.Count(said, "405 Method Not Allowed"), "nothing can be written or removed:\n%s", said)
	brought, err := os.ReadFile(filepath.Join(home, "brought.odt"))
	require.NoError(t, err)
	i := slices.IndexFunc(s.World.Machines, func(m demo.Machine) bool { return m.Name == "front-office" })
	stands, err := os.ReadFile(filepath.Join(s.World.Machines[i].At, "home/ines/Documents/Quotes/Quote 119 Sea Campion.odt"))
	require.NoError(t, err)
	assert.Equal(t, stands, brought)

	litmus := run("", "litmus", s.URL+"/as-of/now/front-office/", "anybody", s.Token)
	assert.Contains(t, litmus, "init.................. pass")
	assert.Contains(t, litmus, "405 Method Not Allowed\nServer must allow `MKCOL", "it goes no further where nothing can be made")

	ask := func(method, path, user, password string, header ...string) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, nil)
		require.NoError(t, err)
		r.SetBasicAuth(user, password)
		for i := 0; i < len(header); i += 2 {
			r.Header.Set(header[i], header[i+1])
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer
	}
	one := "/as-of/now/front-office/home/ines/Documents/Quotes/Quote%20119%20Sea%20Campion.odt"
	for _, c := range []struct {
		method, path, password string
		want                   int
		header                 []string
	}{
		{"PROPFIND", "/as-of/", "wrong", 401, nil},
		{"GET", one, "", 401, nil},
		{"GET", one, s.Token, 200, nil},
		{"GET", one, s.Token, 206, []string{"Range", "bytes=2-5"}},
		{"PROPFIND", "/as-of/" + time.Now().AddDate(0, 0, -2).Format("2006-01-02T15:04") + "/front-office/home/", s.Token, 207, []string{"Depth", "1"}},
		{"PROPFIND", "/as-of/someday/front-office/", s.Token, 404, []string{"Depth", "1"}},
		{"PROPFIND", "/as-of/now/nobodys-machine/", s.Token, 404, []string{"Depth", "1"}},
		{"PROPFIND", "/as-of/now/", s.Token, 403, []string{"Depth", "infinity"}},
		{"PUT", one, s.Token, 405, nil},
		{"MOVE", one, s.Token, 405, []string{"Destination", s.URL + "/as-of/now/x"}},
		{"LOCK", one, s.Token, 405, nil},
	} {
		answer := ask(c.method, c.path, "anybody", c.password, c.header...)
		assert.Equal(t, c.want, answer.StatusCode, "%s %s", c.method, c.path)
		if c.want == 200 {
			assert.Equal(t, "application/octet-stream", answer.Header.Get("Content-Type"))
			assert.Contains(t, answer.Header.Get("Content-Disposition"), "attachment")
			assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "sandbox")
		}
	}
}
