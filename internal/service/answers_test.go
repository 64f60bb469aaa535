package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/demo"
	"humble-rewind/internal/service"
	"humble-rewind/internal/servicetest"
)

var update = flag.Bool("update", false, "record the answers anew")

// named are the fields that answers have been given since they were recorded. Whatever else differs is a change that somebody
// who reads the answers would see.
var named = []string{"code", "options", "lies", "path", "sealed", "session"}

// asked are the questions whose answers are recorded: some of each that the API answers, on the sample world.
var asked = []string{
	"GET /machines", "GET /sources", "GET /receipts", "GET /cases", "GET /machines/front-office/suggestions",
	"GET /copies?words=quote", "GET /copies?state=gone&sort=gone", "GET /copies?state=changed&limit=20",
	"GET /copies?type=pictures&sort=size",
	"GET /copies?source=trash&records=true", "GET /copies?source=strays", "GET /copies?source=snapshots&words=ledger",
	"GET /copies?words=turnstone",
	"GET /copies?person=ines&under=/home/ines/Documents/Quotes", "GET /copies?whole=true&limit=10",
	"GET /trail?machine=front-office&path=/home/ines/Documents/Quotes/Quote 116 Little Tern.odt",
	"GET /trail?machine=front-office&path=/home/ines/Documents/Quotes/Quote 127 Sea Campion.odt",
	"GET /trail?machine=front-office&path=/home/ines/Documents/Accounts/Ledger 09.ods",
	"GET /trail?machine=drawing-loft&path=/home/tomas/Offsets/Turnstone fairing notes.odt",
	"GET /folder?machine=front-office&path=/home/ines/Documents/Quotes",
	"GET /folder?machine=front-office&path=/home/oda/Rigging&as_of=2026-11-20T12:00:00Z",
	"GET /folder?machine=front-office&path=/home/ines&as_of=2026-11-10T00:00:00Z&against=2026-11-21T00:00:00Z",
	"GET /folder?machine=front-office&path=/home/ines/Documents&deep=true&as_of=2026-11-18T00:00:00Z",
	"GET /condition?machine=front-office&path=/home/ines/Documents/Accounts/Ledger 09.ods",
	"GET /condition?machine=front-office&path=/home/ines/Documents",
	"GET /cases/k1", "GET /cases/k1/advice", "GET /cases/k2/advice", "GET /cases/k3/advice", "GET /cases/k4/advice",
	"GET /cases/k5/advice", "GET /cases/k6/advice",
	"GET /cases/k2/report?zone=Europe/Lisbon", "GET /cases/k3/report?reader=file",
	`POST /advice {"place":{"machine":"front-office","path":"/home/ines/Documents/Quotes"},"loss":"deleted"}`,
	`POST /bring-backs {"dry_run":true,"place":{"machine":"front-office","path":"/home/oda/Rigging"},"as_of":"2026-11-20T12:00:00Z",` +
		`"only":"changed","clash":"set-aside"}`,
	"GET /trail?machine=front-office&path=/nowhere", "GET /trail?machine=nobody&path=/x", "GET /copies/c999999",
	"GET /folder?machine=front-office&path=nowhere",
	`POST /sources {"machine":"front-office","kind":"trash","at":"/home/nobody"}`,
	`POST /sources {"machine":"front-office","kind":"fog","at":"/home"}`,
	`POST /bring-backs {"copies":["c999999"]}`, `POST /receipts/r9/undo`,
}

// ofCopies are what is asked of some copies.
var ofCopies = []string{
	"GET /copies/%s",
	"GET /copies/%s/preview",
	"GET /copies/%s/condition",
	"GET /copies/%s/origins",
	"GET /comparison?left=%s&right=now",
	`POST /bring-backs {"dry_run":true,"copies":[%q],"clash":"keep-both"}`,
	`POST /bring-backs {"dry_run":true,"copies":[%q],"to":{"machine":"store","path":"/srv/yard"}}`,
}

// The sample world as of one moment is asked everything, and brought back from, by a service whose clock stands still: what it
// answers is what it answered when the answers were recorded.
func TestAnswersAreThoseThatWereRecorded(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("owners in the sample world need root")
	}
	q := newQuestions(t)
	for _, question := range asked {
		q.ask(question)
		if strings.HasPrefix(question, "GET /trail?") {
			q.compareMarks(question)
		}
	}
	for _, words := range []string{"Sea Campion", "Ledger 09", "Turnstone fairing notes", "Rigging"} {
		var found api.CopyList
		q.decode("GET /copies?records=true&limit=4&words="+words, &found)
		require.NotEmpty(t, found.Copies, words)
		for _, c := range found.Copies {
			for _, question := range ofCopies {
				q.ask(fmt.Sprintf(question, c.Id))
			}
		}
	}
	var job api.Job
	q.decode(`POST /bring-backs {"copies":["`+q.firstOf("source=trash&words=Sea Campion")+`"]}`, &job)
	q.wait(job.Id)
	q.ask("GET /receipts")
	q.ask("GET /receipts/r1")
	q.decode("POST /receipts/r1/undo", &job)
	q.wait(job.Id)
	q.ask("GET /receipts/r1")
	q.compare(filepath.Join("testdata", "answers.json"))
}

// questions puts questions to a service and keeps the answers.
type questions struct {
	t       *testing.T
	url     string
	token   string
	world   string
	answers map[string]any
}

func newQuestions(t *testing.T) *questions {
	start := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	world, err := demo.Build(filepath.Join(t.TempDir(), "world"), start, false)
	require.NoError(t, err)
	s, err := servicetest.OpenAt(t.Context(), world.ServiceDir, func() time.Time { return start.Add(time.Hour) })
	require.NoError(t, err)
	server := httptest.NewServer(s.Handler()) // without what a service does in the background
	t.Cleanup(func() { server.Close(); require.NoError(t, s.Close()) })
	token, err := os.ReadFile(filepath.Join(world.ServiceDir, service.TokenFile))
	require.NoError(t, err)
	q := &questions{t: t, url: server.URL + "/api/v1", token: strings.TrimSpace(string(token)), world: world.Dir, answers: map[string]any{}}
	for _, m := range world.Machines {
		q.decode(`POST /machines {"name":"`+m.Name+`","at":"`+m.At+`","with_suggested":true}`, nil)
	}
	for _, src := range demo.Sources {
		if strings.HasPrefix(*src.At, demo.Drive) { // whose address is another one each time
			continue
		}
		body, err := json.Marshal(src)
		require.NoError(t, err)
		q.decode("POST /sources "+string(body), nil)
	}
	var sources api.SourceList
	q.decode("GET /sources", &sources)
	for _, src := range sources.Sources { // one after the other, so that copies have the same numbers each time
		var job api.Job
		q.decode(`POST /surveys {"sources":["`+src.Id+`"]}`, &job)
		q.wait(job.Id)
	}
	client, err := api.NewClientWithResponses(q.url, api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+q.token)
		return nil
	}))
	require.NoError(t, err)
	require.NoError(t, demo.OpenCases(t.Context(), world, client))
	return q
}

// send sends a question, written as method, path and body, and returns the answer.
func (q *questions) send(question string) (int, []byte) {
	q.t.Helper()
	method, rest, _ := strings.Cut(question, " ")
	at, body := rest, ""
	if method == http.MethodPost {
		at, body, _ = strings.Cut(rest, " ")
	}
	path, query, _ := strings.Cut(at, "?")
	values := url.Values{}
	for pair := range strings.SplitSeq(query, "&") {
		if key, value, ok := strings.Cut(pair, "="); ok {
			values.Set(key, value)
		}
	}
	r, err := http.NewRequestWithContext(q.t.Context(), method, q.url+path+"?"+values.Encode(), strings.NewReader(body))
	require.NoError(q.t, err)
	r.Header.Set("Authorization", "Bearer "+q.token)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	answer, err := http.DefaultClient.Do(r)
	require.NoError(q.t, err)
	defer answer.Body.Close()
	content, err := io.ReadAll(answer.Body)
	require.NoError(q.t, err)
	return answer.StatusCode, content
}

// compareMarks asks for a trail with marks too: they say of each copy what it says whole.
func (q *questions) compareMarks(question string) {
	if status, _ := q.send(question); status != http.StatusOK {
		return
	}
	var whole, marked api.Trail
	q.decode(question, &whole)
	q.decode(question+"&copies=marks", &marked)
	require.Len(q.t, marked.Versions, len(whole.Versions), question)
	for i, v := range whole.Versions {
		require.Len(q.t, *marked.Versions[i].Marks, len(v.Copies), question)
		for k, c := range v.Copies {
			m := (*marked.Versions[i].Marks)[k]
			want := api.TrailMark{Id: c.Id, Lane: m.Lane, Readable: c.Readable, CapturedAt: c.CapturedAt, LastSeenAt: c.LastSeenAt,
				GoneAt: c.GoneAt, ExpiresAt: c.ExpiresAt}
			if c.Condition.State != api.ConditionStateUnread {
				want.Condition = &c.Condition.State
			}
			assert.Equal(q.t, want, m, question)
			assert.Equal(q.t, c.Source, marked.Lanes[m.Lane].Source, question)
		}
	}
}

func (q *questions) ask(question string) {
	q.t.Helper()
	status, content := q.send(question)
	content = bytes.ReplaceAll(content, []byte(q.world), []byte("/world"))
	var answer any
	if json.Unmarshal(content, &answer) != nil {
		answer = string(content)
	}
	q.answers[fmt.Sprintf("%03d %s", len(q.answers), question)] = map[string]any{"status": float64(status), "answer": answer}
}

func (q *questions) decode(question string, into any) {
	q.t.Helper()
	status, content := q.send(question)
	require.Less(q.t, status, 300, "%s: %s", question, content)
	if into != nil {
		require.NoError(q.t, json.Unmarshal(content, into))
	}
}

func (q *questions) firstOf(query string) string {
	var found api.CopyList
	q.decode("GET /copies?"+query, &found)
	require.NotEmpty(q.t, found.Copies)
	return found.Copies[0].Id
}

func (q *questions) wait(job string) {
	q.t.Helper()
	var j api.Job
	require.Eventually(q.t, func() bool {
		q.decode("GET /jobs/"+job, &j)
		return j.EndedAt != nil
	}, time.Minute, 20*time.Millisecond)
	require.Equal(q.t, api.JobStateDone, j.State, "%v", j)
}

func (q *questions) compare(file string) {
	if *update {
		lines := []string{}
		for _, question := range slices.Sorted(maps.Keys(q.answers)) {
			name, err := json.Marshal(question)
			require.NoError(q.t, err)
			answer, err := json.Marshal(q.answers[question])
			require.NoError(q.t, err)
			lines = append(lines, string(name)+":"+string(answer))
		}
		require.NoError(q.t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(q.t, os.WriteFile(file, []byte("{\n"+strings.Join(lines, ",\n")+"\n}\n"), 0o644))
		return
	}
	content, err := os.ReadFile(file)
	require.NoError(q.t, err)
	var recorded map[string]any
	require.NoError(q.t, json.Unmarshal(content, &recorded))
	for question := range recorded {
		if differences := differ(question, recorded[question], q.answers[question]); len(differences) > 0 {
			assert.Fail(q.t, "an answer changed", strings.Join(differences[:min(len(differences), 5)], "\n"))
		}
	}
}

// differ lists where an answer is not what was recorded.
func differ(at string, recorded, now any) (all []string) {
	switch was := recorded.(type) {
	case map[string]any:
		is, ok := now.(map[string]any)
		if !ok {
			return []string{fmt.Sprintf("%s: recorded %v, now %v", at, recorded, now)}
		}
		for key := range is {
			if _, known := was[key]; !known && !slices.Contains(named, key) {
				all = append(all, fmt.Sprintf("%s.%s: was not there, now %v", at, key, is[key]))
			}
		}
		for key := range was {
			all = append(all, differ(at+"."+key, was[key], is[key])...)
		}
	case []any:
		is, ok := now.([]any)
		if !ok || len(is) != len(was) {
			return []string{fmt.Sprintf("%s: recorded %v, now %v", at, recorded, now)}
		}
		for n := range was {
			all = append(all, differ(fmt.Sprintf("%s[%d]", at, n), was[n], is[n])...)
		}
	default:
		if recorded != now {
			all = append(all, fmt.Sprintf("%s: recorded %v, now %v", at, recorded, now))
		}
	}
	return all
}
