package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"humble-rewind/api"
	"humble-rewind/internal/core/principal"
	"humble-rewind/internal/servicetest"
)

// theirs is in everything that is of the machine that a technician may not know of: in its name, its people, its files and what is in them.
const theirs = "qz7"

// halves is a site of machines of which a technician may know one alone.
type halves struct {
	t     *testing.T
	s     *servicetest.Service
	token string          // of the technician
	ids   map[string]bool // of what is not of his machine
	own   map[string]string
	other map[string]string // of each letter one number, such as c: c12
}

const (
	ownMachine   = "loft"
	otherMachine = "slip-" + theirs
)

func lay(t *testing.T, root string, files map[string]string) {
	for path, content := range files {
		at := filepath.Join(root, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(content), 0o644))
	}
}

func twoMachines(t *testing.T) *halves {
	h := &halves{t: t, s: servicetest.Start(t, t.TempDir(), servicetest.Page), ids: map[string]bool{}, own: map[string]string{}, other: map[string]string{}}
	same := strings.Repeat("oak for the keel, planed twice\n", 200)
	trash := ".local/share/Trash/"
	info := "[Trash Info]\nPath=%s\nDeletionDate=2026-11-20T12:00:00\n"
	roots := map[string]string{}
	for machine, person := range map[string]string{ownMachine: "ines", otherMachine: "quentin-" + theirs} {
		root := filepath.Join(t.TempDir(), machine)
		mark := ""
		if machine == otherMachine {
			mark = theirs
		}
		home := "home/" + person + "/"
		lay(t, root, map[string]string{"etc/timezone": "Europe/Lisbon\n",
			"etc/passwd":                                          person + ":x:1001:1001:" + person + ":/" + strings.TrimSuffix(home, "/") + ":/bin/sh\n",
			home + "Keel.txt":                                     same, // the same bytes under the same name on both
			home + "Ribs " + mark + ".txt":                        "ribs of larch " + mark + "\n",
			home + "Plans " + mark + "/Deck.txt":                  "deck " + mark + "\n",
			home + trash + "files/Mast " + mark + ".txt":          same + "mast " + mark,
			home + trash + "info/Mast " + mark + ".txt.trashinfo": fmt.Sprintf(info, "/"+home+"Mast%20"+mark+".txt")})
		roots[machine] = root
	}
	suggested := true
	for machine, root := range roots {
		added, err := h.s.Client.AddMachineWithResponse(t.Context(), api.NewMachine{Name: machine, At: root, WithSuggested: &suggested})
		require.NoError(t, err)
		require.NotNil(t, added.JSON201, string(added.Body))
		for _, src := range added.JSON201.Sources {
			h.is(machine, src.Id)
		}
	}
	for machine := range roots {
		survey, err := h.s.Client.StartSurveyWithResponse(t.Context(), api.NewSurvey{Machines: &[]string{machine}, ReadAll: new(true)})
		require.NoError(t, err)
		require.NotNil(t, survey.JSON202, string(survey.Body))
		h.s.Wait(survey.JSON202.Id)
		h.is(machine, survey.JSON202.Id)
	}
	h.ids[h.s.Survey().Id] = true // it speaks of both
	all, err := h.s.Client.FindCopiesWithResponse(t.Context(), &api.FindCopiesParams{Limit: new(1000), Records: new(true)})
	require.NoError(t, err)
	for _, c := range all.JSON200.Copies {
		h.is(c.Place.Machine, c.Id)
	}
	for machine, mark := range map[string]string{ownMachine: "", otherMachine: theirs} {
		h.is(machine, h.named(machine, "live", "keel"))
		opened, err := h.s.Client.OpenCaseWithResponse(t.Context(), api.NewCase{Machine: new(machine), Words: new("mast " + mark), Loss: "deleted"})
		require.NoError(t, err)
		require.NotNil(t, opened.JSON201, string(opened.Body))
		h.is(machine, opened.JSON201.Id)
		brought, err := h.s.Client.BringBackWithResponse(t.Context(), api.NewBringBack{Copies: &[]string{h.named(machine, "trash", "mast")}, Clash: new(api.ClashRuleKeepBoth)})
		require.NoError(t, err)
		require.NotNil(t, brought.JSON202, string(brought.Body))
		job := h.s.Wait(brought.JSON202.Id)
		h.is(machine, job.Id)
		h.is(machine, *job.Receipt)
	}
	// In a case of his machine somebody else noted a copy of the other: he is not told.
	noted, err := h.s.Client.AddToCaseWithResponse(t.Context(), h.own["k"], api.NewCaseEntry{Kind: "copy", Ref: new(h.other["c"])})
	require.NoError(t, err)
	require.NotNil(t, noted.JSON201, string(noted.Body))
	h.token, err = h.s.Service.Allow(t.Context(), "jonas", []string{ownMachine}, principal.Rights...)
	require.NoError(t, err)
	return h
}

// is notes whose a number is.
func (h *halves) is(machine, id string) {
	letter := strings.TrimRight(id, "0123456789")
	if machine == ownMachine {
		h.own[letter] = id
	} else {
		h.other[letter] = id
		h.ids[id] = true
	}
}

// named is a copy in a store of a machine.
func (h *halves) named(machine, kind, words string) string {
	found, err := h.s.Client.FindCopiesWithResponse(h.t.Context(), &api.FindCopiesParams{Machine: new(machine), Words: new(words), Source: new(kind)})
	require.NoError(h.t, err)
	require.NotEmpty(h.t, found.JSON200.Copies, string(found.Body))
	return found.JSON200.Copies[0].Id
}

// request is one question.
type request struct{ method, path, body string }

func (r request) String() string { return r.method + " " + r.path + " " + r.body }

// answer is all that comes back. Of what never ends what came within a while counts.
type answer struct {
	status  int
	headers string
	body    string
}

func (h *halves) ask(token string, r request) answer {
	h.t.Helper()
	ctx, done := context.WithTimeout(h.t.Context(), 20*time.Second)
	defer done()
	if strings.HasSuffix(strings.SplitN(r.path, "?", 2)[0], "/events") {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, 300*time.Millisecond)
		defer stop()
	}
	q, err := http.NewRequestWithContext(ctx, r.method, h.s.URL+r.path, strings.NewReader(r.body))
	require.NoError(h.t, err)
	q.Header.Set("Authorization", "Bearer "+token)
	if r.body != "" {
		q.Header.Set("Content-Type", "application/json")
	}
	if r.method == "PROPFIND" {
		q.Header.Set("Depth", "1")
	}
	a, err := http.DefaultClient.Do(q)
	if err != nil {
		require.ErrorIs(h.t, err, context.DeadlineExceeded, r.String())
		return answer{}
	}
	defer a.Body.Close()
	body, _ := io.ReadAll(a.Body)
	a.Header.Del("Date")
	return answer{a.StatusCode, fmt.Sprint(a.Header), string(body)}
}

var word = regexp.MustCompile(`[a-z][0-9]+`)

// closed fails where an answer holds anything of the other machine that was not in the question.
func (h *halves) closed(r request, a answer) {
	h.t.Helper()
	asked, _ := url.PathUnescape(strings.ReplaceAll(r.String(), "+", " "))
	said := a.headers + "\n" + a.body
	if !strings.Contains(asked, theirs) {
		assert.NotContains(h.t, said, theirs, "%s\n%d", r, a.status)
	} else {
		assert.Less(h.t, strings.Count(said, theirs), 1+strings.Count(asked, theirs)*3, "%s tells more than was asked:\n%d %s", r, a.status, said)
	}
	for _, id := range word.FindAllString(strings.ReplaceAll(a.body, `\"`, `"`), -1) {
		if h.ids[id] && !strings.Contains(asked, id) && strings.Contains(a.body, `"`+id+`"`) {
			h.t.Errorf("%s tells of %s:\n%s", r, id, a.body)
		}
	}
}

// operation is what the contract says of one.
type operation struct {
	ID         string `yaml:"operationId"`
	Whole      bool   `yaml:"x-whole"`
	Parameters []parameter
	Body       yaml.Node `yaml:"requestBody"`
}

type parameter struct {
	Ref      string `yaml:"$ref"`
	Name, In string
	Required bool
}

// operations reads the contract: all operations, by their methods and paths.
func operations(t *testing.T) map[string]operation {
	raw, err := os.ReadFile("../../api/openapi.yaml")
	require.NoError(t, err)
	var document struct {
		Paths      map[string]map[string]yaml.Node
		Components struct{ Parameters map[string]parameter }
	}
	require.NoError(t, yaml.Unmarshal(raw, &document))
	all := map[string]operation{}
	for path, methods := range document.Paths {
		for method, node := range methods {
			if method == "parameters" {
				continue
			}
			var o operation
			require.NoError(t, node.Decode(&o), path)
			for n, p := range o.Parameters {
				if name, ok := strings.CutPrefix(p.Ref, "#/components/parameters/"); ok {
					o.Parameters[n] = document.Components.Parameters[name]
				}
			}
			all[strings.ToUpper(method)+" "+path] = o
		}
	}
	require.Greater(t, len(all), 40)
	return all
}

// parameters are what is asked in the query, of both machines. A required one that is not here fails the test, as one has to be thought of.
func (h *halves) parameters() map[string][]string {
	return map[string][]string{
		"words": {"mast", "keel", theirs}, "machine": {ownMachine, otherMachine}, "person": {"ines", "quentin-" + theirs},
		"under": {"/", "/home", otherMachine + ":/home", ownMachine + ":/home/ines"}, "path": {"/home/ines/Keel.txt", "/home", "/",
			"/home/quentin-" + theirs + "/Keel.txt"},
		"left": {h.own["c"], h.other["c"]}, "right": {"now", h.other["c"], h.own["c"]}, "item_of": {h.own["c"], h.other["c"]},
		"text": {"yesterday"}, "copies": {"whole", "marks"}, "reader": {"user", "file"}, "format": {"html"}, "deep": {"true"},
		"sort": {"name", "size", "gone", "written", "expires"}, "limit": {"1", "1000"}, "records": {"true"}, "state": {"present", "gone", "open"},
		"source": {"trash", "live"}, "type": {"documents"}, "kind": {"survey", "bring-back"}, "condition": {"unread"},
		"as_of": {"2026-12-01T00:00:00Z"},
	}
}

// bodies are what is sent, by operation: each speaks of the other machine, or of both.
func (h *halves) bodies() map[string][]string {
	place := func(machine, path string) string { return fmt.Sprintf(`{"machine":%q,"path":%q}`, machine, path) }
	theirKeel, ownKeel := place(otherMachine, "/home/quentin-"+theirs+"/Keel.txt"), place(ownMachine, "/home/ines/Keel.txt")
	return map[string][]string{
		"addMachine": {`{"name":"quay","at":"/x"}`, fmt.Sprintf(`{"name":%q,"at":"/x"}`, otherMachine)}, "changeMachine": {`{"retention_days":3}`},
		"tryMachine":    {`{"at":"/"}`},
		"unlockMachine": {`{"password":"x"}`}, "unlockSource": {`{"password":"x"}`},
		"addSource": {fmt.Sprintf(`{"machine":%q,"kind":"live","at":"/etc"}`, otherMachine),
			fmt.Sprintf(`{"machine":%q,"kind":"live","at":%q}`, ownMachine, otherMachine+":/home")},
		"changeSource": {`{"retention_days":3}`, fmt.Sprintf(`{"at":%q}`, otherMachine+":/home")},
		"joinPersons":  {fmt.Sprintf(`{"accounts":[{"machine":%q,"name":"ines"},{"machine":%q,"name":%q}]}`, ownMachine, otherMachine, "quentin-"+theirs)},
		"partPersons": {fmt.Sprintf(`{"accounts":[{"machine":%q,"name":%q}]}`, otherMachine, "quentin-"+theirs),
			fmt.Sprintf(`{"accounts":[{"machine":%q,"name":"ines"},{"machine":%q,"name":%q}]}`, ownMachine, otherMachine, "quentin-"+theirs)},
		"startSurvey": {`{}`, fmt.Sprintf(`{"machines":[%q]}`, otherMachine), fmt.Sprintf(`{"source":%q}`, h.other["s"])},
		"signIn":      {`{"token":"x"}`},
		"bringBack": {fmt.Sprintf(`{"dry_run":true,"copies":[%q]}`, h.other["c"]), fmt.Sprintf(`{"dry_run":true,"copies":[%q,%q]}`, h.own["c"], h.other["c"]),
			fmt.Sprintf(`{"dry_run":true,"copies":[%q],"to":%s}`, h.own["c"], place(otherMachine, "/home")),
			fmt.Sprintf(`{"dry_run":true,"place":%s,"as_of":"2026-12-02T00:00:00Z"}`, theirKeel),
			fmt.Sprintf(`{"dry_run":true,"case":%q}`, h.other["k"]), fmt.Sprintf(`{"dry_run":true,"case":%q}`, h.own["k"])},
		"advise": {fmt.Sprintf(`{"place":%s,"loss":"deleted"}`, theirKeel), fmt.Sprintf(`{"place":%s,"loss":"deleted"}`, ownKeel),
			fmt.Sprintf(`{"place":%s,"loss":"misplaced"}`, ownKeel), fmt.Sprintf(`{"place":%s,"loss":"misplaced"}`, place(ownMachine, "/home/ines/Mast .txt")),
			fmt.Sprintf(`{"place":%s,"loss":"deleted"}`, place(ownMachine, "/home/ines"))},
		"openCase":   {fmt.Sprintf(`{"place":%s,"loss":"deleted"}`, theirKeel), `{"words":"mast","loss":"deleted"}`, `{"words":"keel","person":"ines","loss":"misplaced"}`},
		"changeCase": {fmt.Sprintf(`{"place":%s}`, theirKeel), `{"happened":"at noon"}`},
		"addToCase":  {fmt.Sprintf(`{"kind":"copy","ref":%q}`, h.other["c"]), `{"kind":"note","text":"at noon"}`},
	}
}

// requests makes questions of an operation: with each number and name in the path, each parameter by itself beside those that are required,
// and each body.
func (h *halves) requests(method, path string, o operation) (all []request) {
	paths := []string{"/api/v1" + path}
	put := func(name string, values ...string) {
		var more []string
		for _, p := range paths {
			for _, v := range values {
				more = append(more, strings.ReplaceAll(p, "{"+name+"}", v))
			}
		}
		if strings.Contains(path, "{"+name+"}") {
			paths = more
		}
	}
	put("name", ownMachine, otherMachine)
	letter := map[string]string{"/sources": "s", "/jobs": "j", "/copies": "c", "/receipts": "r", "/cases": "k"}
	for under, l := range letter {
		if strings.HasPrefix(path, under+"/") {
			put("id", h.own[l], h.other[l])
		}
	}
	queries := []url.Values{{}}
	values := h.parameters()
	for _, p := range o.Parameters {
		if p.In != "query" {
			continue
		}
		if p.Required {
			require.NotEmpty(h.t, values[p.Name], "%s asks for %s: give parameters some of it", o.ID, p.Name)
			var more []url.Values
			for _, q := range queries {
				for _, v := range values[p.Name] {
					with := maps.Clone(q)
					with.Set(p.Name, v)
					more = append(more, with)
				}
			}
			queries = more
		}
	}
	for _, q := range slices.Clone(queries) {
		for _, p := range o.Parameters {
			for _, v := range values[p.Name] {
				if p.In == "query" && !p.Required {
					with := maps.Clone(q)
					with.Set(p.Name, v)
					queries = append(queries, with)
				}
			}
		}
	}
	bodies := []string{""}
	if !o.Body.IsZero() {
		bodies = h.bodies()[o.ID]
		require.NotEmpty(h.t, bodies, "%s takes a body: give bodies some", o.ID)
	}
	for _, p := range paths {
		for _, q := range queries {
			for _, body := range bodies {
				at := p
				if len(q) > 0 {
					at += "?" + q.Encode()
				}
				all = append(all, request{method, at, body})
			}
		}
	}
	return all
}

// Every operation, every stream and every moment is asked by somebody who may know of one machine of two: no answer holds a byte of the
// other, and what is the other's is answered as what is not there.
func TestNothingOutOfScopeIsInAnyAnswer(t *testing.T) {
	h := twoMachines(t)
	asked := 0
	all := operations(t)
	keys := slices.SortedFunc(maps.Keys(all), func(a, b string) int { // what takes away comes last
		return strings.Compare(strings.Replace(a, "DELETE", "ZZZ", 1), strings.Replace(b, "DELETE", "ZZZ", 1))
	})
	for _, key := range keys {
		method, path, _ := strings.Cut(key, " ")
		if all[key].ID == "signOut" {
			continue
		}
		for _, r := range h.requests(method, path, all[key]) {
			a := h.ask(h.token, r)
			asked++
			h.closed(r, a)
			if all[key].Whole {
				assert.Equal(t, http.StatusForbidden, a.status, "%s: %s", r, a.body)
			}
			h.asUnknown(r, a)
		}
	}
	for _, r := range h.moments() {
		asked++
		h.closed(r, h.ask(h.token, r))
	}
	assert.Greater(t, asked, 250)
	whole := h.ask(h.s.Token, request{"GET", "/api/v1/copies?words=" + theirs, ""})
	assert.Contains(t, whole.body, otherMachine, "who may know of everything is told")
}

// asUnknown compares the answer about a number of the other machine with that about one that nobody gave out.
func (h *halves) asUnknown(r request, a answer) {
	for letter, id := range h.other {
		if at := "/" + id; strings.Contains(r.path, at) && r.method == http.MethodGet {
			unknown := r
			never := letter + "999999"
			unknown.path = strings.Replace(r.path, at, "/"+never, 1)
			b := h.ask(h.token, unknown)
			assert.Equal(h.t, b.status, a.status, "%s", r)
			assert.Equal(h.t, strings.ReplaceAll(b.body, never, id), a.body, "%s", r)
		}
	}
}

// moments are paths of file systems as of moments.
func (h *halves) moments() (all []request) {
	for _, at := range []string{"/", "/now/", "/now/" + ownMachine + "/home/ines/", "/now/" + otherMachine + "/", "/now/" + otherMachine + "/home/quentin-" + theirs + "/",
		"/now/" + otherMachine + "/home/quentin-" + theirs + "/Keel.txt", "/now/" + ownMachine + "/home/ines/Keel.txt", "/yesterday/", "/2026-12-01/" + otherMachine + "/"} {
		for _, method := range []string{"PROPFIND", "GET", "HEAD", "OPTIONS"} {
			all = append(all, request{method, "/as-of" + at, ""})
		}
	}
	return all
}

// What changes on the other machine is told to nobody who may not know of it, and what changes on his own is.
func TestChangesOutOfScopeAreNotTold(t *testing.T) {
	h := twoMachines(t)
	for path, heard := range map[string]string{"/events": `data: {"kind":"case","id":"%s"}`, "/cases/events": "event: cases"} {
		ctx, stop := context.WithCancel(t.Context())
		q, err := http.NewRequestWithContext(ctx, http.MethodGet, h.s.URL+"/api/v1"+path, nil)
		require.NoError(t, err)
		q.Header.Set("Authorization", "Bearer "+h.token)
		a, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		lines := make(chan string, 100)
		go func() {
			defer close(lines)
			for {
				b := make([]byte, 4096)
				n, err := a.Body.Read(b)
				if n > 0 {
					lines <- string(b[:n])
				}
				if err != nil {
					return
				}
			}
		}()
		<-lines // it follows
		for _, id := range []string{h.other["k"], h.own["k"]} {
			added, err := h.s.Client.AddToCaseWithResponse(t.Context(), id, api.NewCaseEntry{Kind: "note", Text: new("at noon")})
			require.NoError(t, err)
			require.NotNil(t, added.JSON201)
			_, err = h.s.Client.StartSurveyWithResponse(t.Context(), api.NewSurvey{Machines: &[]string{otherMachine}})
			require.NoError(t, err)
			time.Sleep(300 * time.Millisecond)
		}
		stop()
		said := ""
		for l := range lines {
			said += l
		}
		want := heard
		if strings.Contains(heard, "%s") {
			want = fmt.Sprintf(heard, h.own["k"])
		}
		assert.Equal(t, 1, strings.Count(said, want), "%s: %s", path, said)
		assert.Equal(t, 1, strings.Count(said, "event: "), "%s: %s", path, said)
	}
}

// What somebody had begun to read ends once he may no longer read it: a stream, a large content; so does what he had asked for.
func TestRightsThatAreTakenEndWhatWasBegun(t *testing.T) {
	h := twoMachines(t)
	q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, h.s.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	q.Header.Set("Authorization", "Bearer "+h.token)
	a, err := http.DefaultClient.Do(q)
	require.NoError(t, err)
	defer a.Body.Close()
	ended := make(chan struct{})
	go func() { _, _ = io.Copy(io.Discard, a.Body); close(ended) }()
	_, err = h.s.Service.Allow(t.Context(), "jonas", []string{}, principal.Rights...) // whose token is another now
	require.NoError(t, err)
	select {
	case <-ended:
	case <-time.After(20 * time.Second):
		t.Fatal("the stream goes on")
	}
	assert.Equal(t, http.StatusUnauthorized, h.ask(h.token, request{"GET", "/api/v1/machines", ""}).status)

	token, err := h.s.Service.Allow(t.Context(), "jonas", []string{ownMachine}, principal.Find)
	require.NoError(t, err)
	for r, status := range map[request]int{{"GET", "/api/v1/machines", ""}: 200, {"GET", "/api/v1/copies/" + h.own["c"] + "/content", ""}: 403,
		{"POST", "/api/v1/surveys", "{}"}: 403, {"DELETE", "/api/v1/machines/" + ownMachine, ""}: 403, {"GET", "/metrics", ""}: 403,
		{"GET", "/as-of/now/", ""}: 403} {
		got := h.ask(token, r)
		assert.Equal(t, status, got.status, "%s: %s", r, got.body)
		if status == 403 && strings.HasPrefix(r.path, "/api") {
			var p api.Problem
			require.NoError(t, json.Unmarshal([]byte(got.body), &p))
			assert.Equal(t, "not-allowed", *p.Code)
		}
	}
	gone, err := h.s.Client.ForgetMachineWithResponse(t.Context(), ownMachine)
	require.NoError(t, err)
	require.Equal(t, 204, gone.StatusCode(), string(gone.Body))
	list := h.ask(token, request{"GET", "/api/v1/machines", ""})
	assert.JSONEq(t, `{"machines":[]}`, list.body, "who may know of a machine that is gone knows of none")
}
