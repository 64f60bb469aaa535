package dav

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A server that sends next to nothing, or takes nothing, ends the call that it answers; one that thinks for a while before it answers
// does not.
func TestAServerHasToKeepAPace(t *testing.T) {
	done := make(chan struct{})
	wait := func(r *http.Request, d time.Duration) bool {
		select {
		case <-done:
		case <-r.Context().Done():
		case <-time.After(d):
			return true
		}
		return false
	}
	office := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/dripping":
			for n := 0; n < 10_000 && wait(r, 20*time.Millisecond); n++ {
				_, _ = w.Write([]byte("x"))
				_ = http.NewResponseController(w).Flush()
			}
		case "/deaf":
			wait(r, time.Hour)
		case "/thinking":
			_, _ = io.Copy(io.Discard, r.Body)
			wait(r, time.Second)
			_, _ = io.WriteString(w, "done")
		}
	}))
	defer office.Close()
	defer close(done) // before, as the server waits for whom it answers
	base, err := url.Parse(office.URL)
	require.NoError(t, err)
	s := &server{client: office.Client(), base: base, paces: 200 * time.Millisecond}
	ask := func(path, body string) (string, error) {
		u := *base
		u.Path = path
		answer, err := s.request(context.Background(), "PUT", &u, nil, strings.NewReader(body), int64(len(body)), http.StatusOK)
		if err != nil {
			return "", err
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		return string(text), err
	}
	_, err = ask("/dripping", "x")
	assert.ErrorIs(t, err, errSlow)
	_, err = ask("/deaf", strings.Repeat("x", 64<<20))
	assert.ErrorIs(t, err, errSlow)
	text, err := ask("/thinking", "x")
	require.NoError(t, err)
	assert.Equal(t, "done", text)
}
