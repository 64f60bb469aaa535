package service_test

import (
	"bufio"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/api"
	"humble-rewind/internal/servicetest"
)

func caseNamed(t *testing.T, s *servicetest.Service, words string) api.Case {
	t.Helper()
	r, err := s.Client.ListCasesWithResponse(t.Context(), &api.ListCasesParams{Words: &words})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	require.Len(t, r.JSON200.Cases, 1, words)
	return r.JSON200.Cases[0]
}

func adviseCase(t *testing.T, s *servicetest.Service, id string) api.Advice {
	t.Helper()
	zone := "Europe/Lisbon"
	r, err := s.Client.AdviseCaseWithResponse(t.Context(), id, &api.AdviseCaseParams{Zone: &zone})
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	return *r.JSON200
}

func add(t *testing.T, s *servicetest.Service, id string, kind api.CaseEntryKind, text, ref string) api.Case {
	t.Helper()
	r, err := s.Client.AddToCaseWithResponse(t.Context(), id, api.NewCaseEntry{Kind: kind, Text: &text, Ref: &ref})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
	return *r.JSON201
}

// A case from the first look to the report, and a second technician who watches and is in the way.
func TestACaseIsWorkedFromOpeningToReport(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	k := caseNamed(t, s, "tender little tern")
	events := watch(t, s)

	first := adviseCase(t, s, k.Id)
	require.NotNil(t, first.Recommended)
	wrong := first.Recommended.Copy.Id
	add(t, s, k.Id, api.CaseEntryKindWrong, "", wrong)
	select {
	case <-events:
	case <-time.After(time.Minute):
		t.Fatal("the other technician was not told")
	}
	second := adviseCase(t, s, k.Id)
	require.NotNil(t, second.Recommended)
	assert.NotEqual(t, *first.Recommended.Copy.Sha256, *second.Recommended.Copy.Sha256, "its like is not advised again")
	k = add(t, s, k.Id, api.CaseEntryKindRight, "", wrong)
	assert.Empty(t, k.Wrong)
	k = add(t, s, k.Id, api.CaseEntryKindNote, "Inês wants the tender as well.", "")
	k = add(t, s, k.Id, api.CaseEntryKindStep, "", "stop-saving")
	assert.Equal(t, k.Id, caseNamed(t, s, "wants tender as well").Id, "notes are searched")

	waiting, done := api.CaseStateWaiting, api.CaseStateDone
	changed, err := s.Client.ChangeCaseWithResponse(t.Context(), k.Id, api.CaseChanges{State: &waiting, Version: &k.Version})
	require.NoError(t, err)
	require.NotNil(t, changed.JSON200, string(changed.Body))
	late, err := s.Client.ChangeCaseWithResponse(t.Context(), k.Id, api.CaseChanges{State: &done, Version: &k.Version})
	require.NoError(t, err)
	assert.Equal(t, http.StatusConflict, late.StatusCode(), "who read it before the other's change does not undo it")

	dry := true
	planned, err := s.Client.BringBackWithResponse(t.Context(), api.NewBringBack{Case: &k.Id, DryRun: &dry})
	require.NoError(t, err)
	require.NotNil(t, planned.JSON200, string(planned.Body))
	assert.Contains(t, planned.JSON200.Items[0].To.Path, "/Quote 116 Little Tern (from ")
	begun, err := s.Client.BringBackWithResponse(t.Context(), api.NewBringBack{Case: &k.Id})
	require.NoError(t, err)
	require.NotNil(t, begun.JSON202, string(begun.Body))
	s.Wait(begun.JSON202.Id)
	shown, err := s.Client.GetCaseWithResponse(t.Context(), k.Id)
	require.NoError(t, err)
	assert.Equal(t, []string{*begun.JSON202.Receipt}, shown.JSON200.Receipts)

	for _, reader := range []api.ReportCaseParamsReader{api.ReportCaseParamsReaderUser, api.ReportCaseParamsReaderFile} {
		for _, format := range []api.ReportCaseParamsFormat{api.ReportCaseParamsFormatMarkdown, api.ReportCaseParamsFormatHtml} {
			r, err := s.Client.ReportCaseWithResponse(t.Context(), k.Id, &api.ReportCaseParams{Reader: &reader, Format: &format})
			require.NoError(t, err)
			require.Equal(t, http.StatusOK, r.StatusCode(), string(r.Body))
			assert.Contains(t, string(r.Body), "Quote 116 Little Tern")
			assert.Equal(
				t,
				reader == api.ReportCaseParamsReaderFile,
				strings.Contains(string(r.Body), "wants the tender"),
				"notes are for the file",
			)
			if reader == api.ReportCaseParamsReaderFile && format == api.ReportCaseParamsFormatMarkdown {
				assert.Contains(t, string(r.Body), "- [x] Please do not save this file again")
				assert.Contains(t, string(r.Body), "- [ ] Do not install anything")
			}
		}
	}
}

// watch follows the cases as another technician's console does.
func watch(t *testing.T, s *servicetest.Service) <-chan string {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+"/api/v1/cases/events", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+s.Token)
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	t.Cleanup(func() { answer.Body.Close() })
	lines := bufio.NewScanner(answer.Body)
	require.True(t, lines.Scan(), "it says at once that it follows")
	events := make(chan string, 20)
	go func() {
		for lines.Scan() {
			if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				events <- name
			}
		}
	}()
	return events
}

// Names in a report are text, whatever they look like.
func TestReportsAreInert(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	happened := `<script>alert(1)</script> | **bold** [x](http://y)`
	opened, err := s.Client.OpenCaseWithResponse(
		t.Context(),
		api.NewCase{
			Loss:     api.LossDeleted,
			Happened: &happened,
			Place:    &api.Destination{Machine: "front-office", Path: "/home/ines/<b>x</b>.odt"},
		},
	)
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, string(opened.Body))
	answer, body := ask(t, s, "GET", "/api/v1/cases/"+opened.JSON201.Id+"/report?format=html&reader=file", "")
	assert.Equal(t, http.StatusOK, answer.StatusCode)
	assert.NotContains(t, body, "<script>")
	assert.NotContains(t, body, "<b>x")
	assert.Contains(t, answer.Header.Get("Content-Security-Policy"), "default-src 'none'")
	_, body = ask(t, s, "GET", "/api/v1/cases/"+opened.JSON201.Id+"/report?reader=file", "")
	assert.Contains(t, body, `\*\*bold\*\* \[x\](http://y)`)
}

func TestACaseThatMakesNoSenseIsRefusedWithWhatToDo(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	text := func(s string) *string { return &s }
	for name, body := range map[string]api.NewCase{
		"no loss":        {Words: text("quote")},
		"unknown loss":   {Loss: "stolen", Words: text("quote")},
		"nothing at all": {Loss: api.LossDeleted},
		"no such place":  {Loss: api.LossDeleted, Place: &api.Destination{Machine: "attic", Path: "/x"}},
		"no path":        {Loss: api.LossDeleted, Place: &api.Destination{Machine: "front-office", Path: "x/../y"}},
	} {
		r, err := s.Client.OpenCaseWithResponse(t.Context(), body)
		require.NoError(t, err)
		require.NotNil(t, r.ApplicationproblemJSONDefault, name)
		assert.Less(t, r.StatusCode(), 500, name)
		assert.NotEmpty(t, *r.ApplicationproblemJSONDefault.Next, name)
	}
	opened, err := s.Client.OpenCaseWithResponse(t.Context(), api.NewCase{Loss: api.LossDeleted, Words: text("launching day")})
	require.NoError(t, err)
	require.NotNil(t, opened.JSON201, string(opened.Body))
	many, err := s.Client.AdviseCaseWithResponse(t.Context(), opened.JSON201.Id, &api.AdviseCaseParams{})
	require.NoError(t, err)
	assert.Equal(t, http.StatusUnprocessableEntity, many.StatusCode())
	assert.Contains(t, string(many.Body), "places fit the words")
	shown, err := s.Client.GetCaseWithResponse(t.Context(), opened.JSON201.Id)
	require.NoError(t, err)
	assert.NotEmpty(t, *shown.JSON200.Candidates)
}

// The folder whose files became noise comes back, and what was worked on since stays.
func TestTheEncryptedFolderComesBackAndNewerWorkStays(t *testing.T) {
	s := servicetest.StartDemo(t, servicetest.Page)
	k := caseNamed(t, s, "rigging")
	a := adviseCase(t, s, k.Id)
	require.NotNil(t, a.Folder)
	require.NotNil(t, a.Folder.MassChange)
	assert.Equal(t, 24, a.Folder.MassChange.Rewritten)
	assert.Equal(t, 23, a.Folder.Certain+a.Folder.Assumed)
	assert.Equal(t, 1, a.Folder.Kept)
	entry := func(a api.Advice, name string) api.FolderAdviceEntry {
		i := slices.IndexFunc(a.Folder.Entries, func(e api.FolderAdviceEntry) bool { return e.Name == name })
		require.GreaterOrEqual(t, i, 0, name)
		return a.Folder.Entries[i]
	}
	const list = "Sanderling/Spar list.ods"
	wrong := *entry(a, list).Copy
	add(t, s, k.Id, api.CaseEntryKindWrong, "", wrong)
	without := entry(adviseCase(t, s, k.Id), list)
	assert.Nil(t, without.Copy, "it has no other version")
	assert.Contains(t, without.Note, "said that it is not this one")
	add(t, s, k.Id, api.CaseEntryKindRight, "", wrong)
	assert.Equal(t, wrong, *entry(adviseCase(t, s, k.Id), list).Copy)
	aside := api.ClashRuleSetAside
	begun, err := s.Client.BringBackWithResponse(t.Context(), api.NewBringBack{Case: &k.Id, Clash: &aside})
	require.NoError(t, err)
	require.NotNil(t, begun.JSON202, string(begun.Body))
	s.Wait(begun.JSON202.Id)
	folder := filepath.Join(s.World.Dir, "machines/front-office/home/oda/Rigging")
	drawing, err := os.ReadFile(filepath.Join(folder, "Sanderling/Sail plan.svg"))
	require.NoError(t, err)
	assert.Contains(t, string(drawing), "<svg")
	s.Survey()
	again := adviseCase(t, s, k.Id)
	assert.Zero(t, again.Folder.Certain+again.Folder.Assumed, "nothing is left to bring back: %v", again.Because)
	assert.FileExists(t, filepath.Join(folder, "Ordered today.csv"))
	report, err := s.Client.ReportCaseWithResponse(t.Context(), k.Id, &api.ReportCaseParams{})
	require.NoError(t, err)
	assert.Contains(t, string(report.Body), "24 files were rewritten", "the report keeps the reasons of then")
	undone, err := s.Client.UndoReceiptWithResponse(t.Context(), *begun.JSON202.Receipt)
	require.NoError(t, err)
	require.NotNil(t, undone.JSON202, string(undone.Body))
	s.Wait(undone.JSON202.Id)
	drawing, err = os.ReadFile(filepath.Join(folder, "Sanderling/Sail plan.svg"))
	require.NoError(t, err)
	assert.NotContains(t, string(drawing), "<svg")
	report, err = s.Client.ReportCaseWithResponse(t.Context(), k.Id, &api.ReportCaseParams{})
	require.NoError(t, err)
	assert.Contains(t, string(report.Body), "What was brought back was put back again")
}
