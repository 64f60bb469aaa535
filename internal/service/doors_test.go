package service_test

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/servicetest"
)

// signIn begins a session and returns its cookie and its key.
func signIn(t *testing.T, s *servicetest.Service) (cookie, key string) {
	answer, body := ask(t, s, "POST", "/api/v1/session", `{"token":"`+s.Token+`"}`, "Authorization", "")
	require.Equal(t, http.StatusOK, answer.StatusCode, body)
	var session api.Session
	require.NoError(t, json.Unmarshal([]byte(body), &session))
	return answer.Cookies()[0].String(), *session.Key
}

func TestWhatAReplacedTokenBeganEndsWithIt(t *testing.T) {
	dir := t.TempDir()
	ctx, cancel := context.WithCancel(t.Context())
	t.Run("first", func(t *testing.T) {
		s := servicetest.Start(t, dir, servicetest.Page)
		cookie, key := signIn(t, s)
		for _, path := range []string{"/api/v1/session", "/api/v1/session?key=" + key} {
			header := key
			if strings.Contains(path, "?") {
				header = ""
			}
			answer, _ := ask(t, s, "GET", path, "", "Authorization", "", "Cookie", cookie, "X-Console-Key", header)
			assert.Equal(t, http.StatusOK, answer.StatusCode, path)
		}
		require.NoError(t, os.WriteFile(filepath.Join(dir, "cookie"), []byte(cookie+"\n"+key), 0o600))
	})
	cancel()
	<-ctx.Done()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "technician.token"), []byte("another token\n"), 0o600))
	s := servicetest.Start(t, dir, servicetest.Page)
	kept, err := os.ReadFile(filepath.Join(dir, "cookie"))
	require.NoError(t, err)
	cookie, key, _ := strings.Cut(string(kept), "\n")
	answer, _ := ask(t, s, "GET", "/api/v1/session", "", "Authorization", "", "Cookie", cookie, "X-Console-Key", key)
	assert.Equal(t, http.StatusUnauthorized, answer.StatusCode)
}

func TestRequestsInUnusualForms(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), fstest.MapFS{
		"index.html": servicetest.Page["index.html"], "assets/a.js": {Data: []byte("plain")}, "assets/a.js.br": {Data: []byte("brotli")},
		"assets/a.js.gz": {Data: []byte("gzip")}})
	for _, scheme := range []string{"bearer", "BEARER", "Bearer"} {
		answer, _ := ask(t, s, "GET", "/api/v1/machines", "", "Authorization", scheme+" "+s.Token)
		assert.Equal(t, http.StatusOK, answer.StatusCode, scheme)
	}
	for _, path := range []string{"/", "/healthz", "/api/v1/machines", "/assets/a.js"} {
		answer, body := ask(t, s, "HEAD", path, "")
		assert.Equal(t, http.StatusOK, answer.StatusCode, path)
		assert.Empty(t, body)
	}
	for accepted, want := range map[string]string{"": "plain", "br, gzip": "brotli", "gzip;q=0.5": "gzip", "br;q=0": "plain",
		"identity": "plain"} {
		answer, body := ask(t, s, "GET", "/assets/a.js", "", "Accept-Encoding", accepted+" ")
		assert.Equal(t, want, body, accepted)
		assert.Contains(t, answer.Header.Get("Content-Type"), "javascript")
	}
	for host, status := range map[string]int{"localhost:1": 200, "127.0.0.1": 200, "[::1]:80": 200, "192.0.2.7": 200,
		"planted.example":              421,
		"localhost.planted.example:80": 421} {
		r, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/healthz", nil)
		require.NoError(t, err)
		r.Host = host
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, status, answer.StatusCode, host)
	}
}

// Who has no token makes nothing grow: not the metrics by odd methods, not the memory by bodies that never end, nor does a flood of
// connections keep technicians out.
func TestNobodyWithoutATokenMakesTheServiceGrow(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	for n := range 60 {
		r, err := http.NewRequestWithContext(t.Context(), fmt.Sprintf("ODD%d", n), s.URL+"/api/v1/machines", nil)
		require.NoError(t, err)
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		answer.Body.Close()
	}
	_, metrics := ask(t, s, "GET", "/metrics", "")
	assert.NotContains(t, metrics, "ODD")
	assert.Contains(t, metrics, `method="other"`)

	address := strings.TrimPrefix(s.URL, "http://")
	sent := make([]byte, 2<<20) // once, as the senders' memory is this process's too
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	var strangers []net.Conn
	for path, body := range map[string]string{"/api/v1/bring-backs": `{"copies":["`, "/api/v1/session": `{"token":"`} {
		for range 60 {
			conn, err := net.Dial("tcp", address)
			require.NoError(t, err)
			defer conn.Close()
			// Most of a body that is announced as the largest allowed, and never ends.
			fmt.Fprintf(
				conn,
				"POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
				path,
				4<<20,
				body,
			)
			go func() { _, _ = io.Copy(conn, bytes.NewReader(sent)) }()
			strangers = append(strangers, conn)
		}
	}
	for _, conn := range strangers { // each was heard, and turned away
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(20*time.Second)))
		status, err := bufio.NewReader(conn).ReadString('\n')
		require.NoError(t, err)
		assert.Regexp(t, `^HTTP/1\.1 4\d\d `, status)
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	assert.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(60<<20))

	for range 1500 { // half-open, and more than there may be
		conn, err := net.Dial("tcp", address)
		if err != nil {
			break // the test itself may run out of descriptors
		}
		defer conn.Close()
		fmt.Fprint(conn, "GET / HT")
	}
	begun := time.Now()
	answer, _ := ask(t, s, "GET", "/api/v1/machines", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Less(t, time.Since(begun), 20*time.Second)
}

func TestADataFolderThatIsOpenToOthersIsRefused(t *testing.T) {
	dir := t.TempDir()
	s, err := servicetest.Open(t.Context(), dir)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	info, err := os.Stat(filepath.Join(dir, "catalogue.sqlite"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())

	require.NoError(t, os.Chmod(filepath.Join(dir, "technician.token"), 0o644))
	_, err = servicetest.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "open to others")
	require.NoError(t, os.Chmod(filepath.Join(dir, "technician.token"), 0o600))
	require.NoError(t, os.Truncate(filepath.Join(dir, "catalogue.sqlite"), 0))
	_, err = servicetest.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "--rebuild", "an empty catalogue beside a token is not a new one")
	if os.Geteuid() == 0 {
		require.NoError(t, os.Chown(dir, 1001, 1001))
		_, err = servicetest.Open(t.Context(), dir)
		assert.ErrorContains(t, err, "belongs to user 1001")
	}
}

// A body that stops in the middle ends its connection, whoever sends it.
func TestABodyThatNeverComesEndsItsConnection(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	var open []net.Conn
	for _, path := range []string{"/api/v1/session", "/api/v1/bring-backs", "/"} {
		conn, err := net.Dial("tcp", strings.TrimPrefix(s.URL, "http://"))
		require.NoError(t, err)
		defer conn.Close()
		fmt.Fprintf(conn, "POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: application/json\r\nContent-Length: 64\r\n\r\n{\"token\":", path)
		open = append(open, conn)
	}
	for _, conn := range open {
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
		_, err := io.Copy(io.Discard, conn)
		assert.NotErrorIs(t, err, os.ErrDeadlineExceeded, "it is still open")
	}
}

// A technician who looks at a moment with a file manager is no stranger: a flood of connections does not cut her off.
func TestAFloodDoesNotCutOffWhoLooksAtAMoment(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	address := strings.TrimPrefix(s.URL, "http://")
	conn, err := net.Dial("tcp", address)
	require.NoError(t, err)
	defer conn.Close()
	answers := bufio.NewReader(conn)
	look := func() (int, error) {
		r, err := http.NewRequestWithContext(t.Context(), "OPTIONS", s.URL+"/as-of/", nil)
		require.NoError(t, err)
		r.SetBasicAuth("anybody", s.Token)
		require.NoError(t, conn.SetDeadline(time.Now().Add(20*time.Second)))
		if err := r.Write(conn); err != nil {
			return 0, err
		}
		answer, err := http.ReadResponse(answers, r)
		if err != nil {
			return 0, err
		}
		_, _ = io.Copy(io.Discard, answer.Body)
		return answer.StatusCode, nil
	}
	status, err := look()
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, status)
	for range 700 {
		stranger, err := net.Dial("tcp", address)
		if err != nil {
			break
		}
		defer stranger.Close()
	}
	time.Sleep(200 * time.Millisecond)
	status, err = look()
	require.NoError(t, err)
	assert.Equal(t, http.StatusOK, status)
}
