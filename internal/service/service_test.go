package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/servicetest"
)

// ask sends a request by hand; headers come in pairs.
func ask(t *testing.T, s *servicetest.Service, method, path, body string, headers ...string) (*http.Response, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, s.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
		if headers[i+1] == "" {
			r.Header.Del(headers[i])
		}
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return answer, string(content)
}

func TestNobodyWithoutATokenReadsOrWritesAnything(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	for _, at := range []string{"GET /api/v1/session", "GET /api/v1/machines", "GET /api/v1/copies", "GET /api/v1/copies/c1/content",
		"GET /api/v1/copies/c1/picture",
		"GET /api/v1/jobs/j1/events", "POST /api/v1/surveys", "POST /api/v1/bring-backs", "POST /api/v1/receipts/r1/undo",
		"DELETE /api/v1/machines/x",
		"GET /metrics", "GET /api/v1/nothing"} {
		method, path, _ := strings.Cut(at, " ")
		for _, token := range []string{"", "Bearer wrong", "Bearer ", "Basic " + s.Token} {
			answer, body := ask(t, s, method, path, "", "Authorization", token)
			assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "%s with %q", at, token)
			assert.Equal(t, "application/problem+json", answer.Header.Get("Content-Type"))
			var p api.Problem
			require.NoError(t, json.Unmarshal([]byte(body), &p), body)
			assert.NotEmpty(t, p.Next, "a problem says what to do next")
		}
	}
	answer, _ := ask(t, s, "GET", "/healthz", "", "Authorization", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	answer, body := ask(t, s, "GET", "/metrics", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.Contains(t, body, "humble_rewind_request_seconds")
	answer, _ = ask(t, s, "GET", "/api/v1/nothing", "")
	assert.Equal(t, http.StatusNotFound, answer.StatusCode)
}

func TestTheTokenFileIsTheOwnersAlone(t *testing.T) {
	dir := t.TempDir()
	servicetest.Start(t, dir, servicetest.Page)
	info, err := os.Stat(filepath.Join(dir, "technician.token"))
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
}

func TestAPageOfAnotherSiteCannotActInATechniciansName(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	key := ""
	post := func(path, body string, headers ...string) int {
		r, err := http.NewRequestWithContext(t.Context(), "POST", s.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("X-Console-Key", key)
		for i := 0; i < len(headers); i += 2 {
			r.Header.Set(headers[i], headers[i+1])
		}
		answer, err := browser.Do(r)
		require.NoError(t, err)
		var session api.Session
		if json.NewDecoder(answer.Body).Decode(&session) == nil && session.Key != nil {
			key = *session.Key
		}
		answer.Body.Close()
		for _, cookie := range answer.Cookies() {
			assert.True(t, cookie.HttpOnly)
			assert.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
		}
		return answer.StatusCode
	}
	assert.Equal(t, http.StatusUnauthorized, post("/api/v1/session", `{"token":"wrong"}`))
	assert.Equal(t, http.StatusOK, post("/api/v1/session", `{"token":"`+s.Token+`"}`, "Sec-Fetch-Site", "same-origin"))
	assert.Equal(t, http.StatusForbidden, post("/api/v1/surveys", `{}`, "Sec-Fetch-Site", "cross-site"))
	assert.Equal(t, http.StatusForbidden, post("/api/v1/surveys", `{}`, "Origin", "http://elsewhere.example"))
	assert.Equal(
		t,
		http.StatusNotFound,
		post("/api/v1/surveys", `{}`, "Sec-Fetch-Site", "same-origin"),
		"its own page may; there is just nothing to survey",
	)
	right := key
	for _, wrong := range []string{"", "guessed"} { // another port of the host gets the cookie, but not what the page holds
		key = wrong
		assert.Equal(t, http.StatusUnauthorized, post("/api/v1/surveys", `{}`, "Sec-Fetch-Site", "same-origin"))
	}
	r, err := http.NewRequestWithContext(t.Context(), "DELETE", s.URL+"/api/v1/session", nil)
	require.NoError(t, err)
	r.Header.Set("X-Console-Key", right)
	cookies := jar.Cookies(r.URL)
	answer, err := browser.Do(r)
	require.NoError(t, err)
	answer.Body.Close()
	for _, cookie := range cookies {
		answer, _ := ask(t, s, "GET", "/api/v1/session", "", "Authorization", "", "Cookie", cookie.String(), "X-Console-Key", right)
		assert.Equal(t, http.StatusUnauthorized, answer.StatusCode, "a session that was ended is over on the service too")
	}
}

func TestTheConsoleIsInert(t *testing.T) {
	s := servicetest.Start(t, t.TempDir(), servicetest.Page)
	first, body := ask(t, s, "GET", "/find?words=x", "", "Authorization", "")
	policy := first.Header.Get("Content-Security-Policy")
	assert.Contains(t, policy, "default-src 'none'")
	assert.Contains(t, policy, "script-src 'self';")
	assert.NotContains(t, body, "__CSP_NONCE__")
	second, _ := ask(t, s, "GET", "/", "", "Authorization", "")
	assert.NotEqual(t, policy, second.Header.Get("Content-Security-Policy"), "the nonce is fresh each time")
	asset, _ := ask(t, s, "GET", "/assets/index-x.js", "", "Authorization", "")
	assert.Contains(t, asset.Header.Get("Cache-Control"), "immutable")
	for _, path := range []string{"/assets/missing.js", "/assets/../index.html", "/assets"} {
		answer, _ := ask(t, s, "GET", path, "", "Authorization", "")
		assert.NotContains(t, answer.Header.Get("Cache-Control"), "immutable", path)
	}
}

func TestContentIsADownloadInRanges(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	c := s.Find("Marsh Wren offsets.csv")[0]
	whole, body := ask(t, s, "GET", "/api/v1/copies/"+c.Id+"/content", "")
	require.Equal(t, http.StatusOK, whole.StatusCode, body)
	assert.Contains(t, whole.Header.Get("Content-Disposition"), "attachment")
	assert.Contains(t, whole.Header.Get("Content-Security-Policy"), "sandbox")
	assert.True(t, strings.HasPrefix(body, "station,WL0"))
	part, some := ask(t, s, "GET", "/api/v1/copies/"+c.Id+"/content", "", "Range", "bytes=8-10")
	assert.Equal(t, http.StatusPartialContent, part.StatusCode)
	assert.Equal(t, body[8:11], some)
	tag := whole.Header.Get("ETag")
	again := s.Find("Marsh Wren offsets.csv")[0]
	require.NotNil(t, again.Sha256)
	assert.Equal(t, `"`+*again.Sha256+`"`, tag, "the tag is the digest, which is now known")
	cached, _ := ask(t, s, "GET", "/api/v1/copies/"+c.Id+"/content", "", "If-None-Match", tag)
	assert.Equal(t, http.StatusNotModified, cached.StatusCode)
	folder := s.Find("Sanderling moulds")[0]
	answer, _ := ask(t, s, "GET", "/api/v1/copies/"+folder.Id+"/content", "")
	assert.Equal(t, http.StatusConflict, answer.StatusCode)
}

func TestPreviewsShowWhatIsThereAndNothingActs(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	preview := func(words string) api.Preview {
		r, err := s.Client.GetPreviewWithResponse(t.Context(), s.Find(words)[0].Id)
		require.NoError(t, err)
		require.NotNil(t, r.JSON200, string(r.Body))
		return *r.JSON200
	}
	assert.Contains(t, (*preview("Quote 127").Lines)[0], "Quote 127: Sea Campion")
	assert.Equal(t, 640, *preview("Trial 045").Width)
	assert.Len(t, *preview("Sanderling moulds").Entries, 10)
	assert.Equal(t, "/home/tomas/Drawings", *preview("To the drawings").Target)
	drawing := s.Find("lines rev 0.svg")[0]
	answer, body := ask(t, s, "GET", "/api/v1/copies/"+drawing.Id+"/picture", "")
	assert.Equal(t, "image/svg+xml", answer.Header.Get("Content-Type"))
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'none'")
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "sandbox")
	assert.Contains(t, body, "<svg")
	photo, drawn := ask(t, s, "GET", "/api/v1/copies/"+s.Find("Trial 045")[0].Id+"/picture", "")
	assert.Equal(t, "image/png", photo.Header.Get("Content-Type"), "drawn anew, not passed on")
	assert.True(t, bytes.HasPrefix([]byte(drawn), []byte("\x89PNG")))
	answer, _ = ask(t, s, "GET", "/api/v1/copies/"+s.Find("Marsh Wren offsets.csv")[0].Id+"/picture", "")
	assert.Equal(t, http.StatusUnsupportedMediaType, answer.StatusCode)
}

func TestBadInputIsAClearProblem(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	for at, want := range map[string]int{
		"GET /api/v1/copies?limit=0":                                     400,
		"GET /api/v1/copies?limit=x":                                     400,
		"GET /api/v1/copies?state=lost":                                  400,
		"GET /api/v1/copies?type=boats":                                  400,
		"GET /api/v1/copies?sort=age":                                    400,
		"GET /api/v1/copies?cursor=zz":                                   400,
		"GET /api/v1/copies?gone_since=yesterday":                        400,
		"GET /api/v1/copies?under=../x":                                  400,
		"GET /api/v1/copies?machine=nowhere":                             404,
		"GET /api/v1/copies?person=nobody":                               404,
		"GET /api/v1/copies/c999999":                                     404,
		"GET /api/v1/copies/12":                                          404,
		"GET /api/v1/jobs/j999/events":                                   404,
		"GET /api/v1/receipts/r999":                                      404,
		"POST /api/v1/receipts/r999/undo":                                404,
		"DELETE /api/v1/jobs/j1":                                         409,
		"DELETE /api/v1/sources/s999":                                    404,
		"POST /api/v1/bring-backs {}":                                    400,
		"POST /api/v1/bring-backs {":                                     400,
		`POST /api/v1/bring-backs {"copies":["c999999"]}`:                404,
		`POST /api/v1/bring-backs {"copies":["c1"],"clash":"overwrite"}`: 400,
		`POST /api/v1/bring-backs {"copies":["c1"],"to":{"machine":"store","path":"/a/../b"}}`: 400,
		`POST /api/v1/machines {"name":"../x","at":"/"}`:                                       422,
		`POST /api/v1/machines {"name":"x","at":"/no/such/dir"}`:                               422,
		`POST /api/v1/machines {"name":"x","at":"sftp://host/"}`:                               422,
		`POST /api/v1/machines {"name":"store","at":"/tmp"}`:                                   409,
		`POST /api/v1/sources {"machine":"nowhere","kind":"trash","at":"/"}`:                   404,
		`POST /api/v1/surveys {"machines":["nowhere"]}`:                                        404,
	} {
		parts := strings.SplitN(at, " ", 3)
		body := strings.Join(parts[2:], "")
		answer, text := ask(t, s, parts[0], parts[1], body)
		assert.Equal(t, want, answer.StatusCode, "%s: %s", at, text)
		var p api.Problem
		require.NoError(t, json.Unmarshal([]byte(text), &p), at)
		assert.NotEmpty(t, p.Title, at)
		assert.NotNil(t, p.Next, at)
	}
	answer, _ := ask(t, s, "POST", "/api/v1/bring-backs", `{"copies":["`+strings.Repeat("c", 5<<20)+`"]}`)
	assert.Equal(t, http.StatusRequestEntityTooLarge, answer.StatusCode)
}

func TestASecondServiceOnTheSameRecordsIsRefused(t *testing.T) {
	dir := t.TempDir()
	servicetest.Start(t, dir, servicetest.Page)
	_, err := servicetest.Open(t.Context(), dir)
	assert.ErrorContains(t, err, "another service is working on it")
}

func TestJobsTellTheirProgressAndAreListed(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	j := s.Survey()
	assert.Equal(t, api.JobStateDone, j.State)
	require.NotNil(t, j.Outcomes)
	for _, o := range *j.Outcomes {
		assert.Zero(t, o.Fresh, "nothing changed since the first survey")
		assert.Zero(t, o.Gone)
	}
	_, stream := ask(t, s, "GET", "/api/v1/jobs/"+j.Id+"/events", "")
	assert.True(t, strings.HasPrefix(stream, "event: job\ndata: {"), stream)
	list, err := s.Client.ListJobsWithResponse(t.Context(), &api.ListJobsParams{})
	require.NoError(t, err)
	assert.Equal(t, j.Id, list.JSON200.Jobs[0].Id, "newest first")
}

func TestAReceiptIsReadInPages(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	ids := []string{s.Find("Sanderling moulds")[0].Id, s.Find("Quote 127")[0].Id}
	brought, err := s.Client.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &ids})
	require.NoError(t, err)
	require.NotNil(t, brought.JSON202, string(brought.Body))
	s.Wait(brought.JSON202.Id)
	whole, err := s.Client.GetReceiptWithResponse(t.Context(), *brought.JSON202.Receipt, nil)
	require.NoError(t, err)
	require.Len(t, whole.JSON200.Items, 2)
	assert.Nil(t, whole.JSON200.Next)
	first, err := s.Client.GetReceiptWithResponse(t.Context(), *brought.JSON202.Receipt, &api.GetReceiptParams{Limit: new(1)})
	require.NoError(t, err)
	require.NotNil(t, first.JSON200.Next, string(first.Body))
	second, err := s.Client.GetReceiptWithResponse(t.Context(), *brought.JSON202.Receipt, &api.GetReceiptParams{Limit: new(1),
		Cursor: first.JSON200.Next})
	require.NoError(t, err)
	assert.Nil(t, second.JSON200.Next)
	assert.Equal(t, whole.JSON200.Items, append(first.JSON200.Items, second.JSON200.Items...))
	odd, err := s.Client.GetReceiptWithResponse(t.Context(), *brought.JSON202.Receipt, &api.GetReceiptParams{Cursor: new("r1")})
	require.NoError(t, err)
	assert.Equal(t, http.StatusBadRequest, odd.StatusCode())
}

func TestOneUndoIsBegunHoweverOftenItIsAskedFor(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	brought, err := s.Client.BringBackWithResponse(
		t.Context(),
		api.NewBringBack{Copies: &[]string{s.Find("Sanderling moulds")[0].Id, s.Find("Quote 127")[0].Id}},
	)
	require.NoError(t, err)
	require.NotNil(t, brought.JSON202, string(brought.Body))
	require.Equal(t, api.JobStateDone, s.Wait(brought.JSON202.Id).State)
	var begun, refused atomic.Int32
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			r, err := s.Client.UndoReceiptWithResponse(t.Context(), *brought.JSON202.Receipt)
			switch {
			case err == nil && r.JSON202 != nil:
				begun.Add(1)
				s.Wait(r.JSON202.Id)
			case err == nil && r.StatusCode() == http.StatusConflict:
				refused.Add(1)
			}
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, begun.Load())
	assert.EqualValues(t, 7, refused.Load())
	receipt, err := s.Client.GetReceiptWithResponse(t.Context(), *brought.JSON202.Receipt, nil)
	require.NoError(t, err)
	assert.Equal(t, api.ReceiptStateUndone, receipt.JSON200.State)
}
