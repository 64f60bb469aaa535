package registry_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/catalogue"
	"humble-rewind/internal/clouddrive"
	"humble-rewind/internal/core/copies"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/registry"
	"humble-rewind/internal/restore"
	"humble-rewind/internal/sitetest"
)

// served is a cloud drive that ines signs in to, and its address.
func served(t *testing.T, handler func(http.Handler) http.Handler) string {
	drive, err := clouddrive.Open(t.Context(), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { drive.Close() })
	require.NoError(t, drive.Admit(t.Context(), "ines", "oak", time.Time{}))
	_, _, err = drive.Put(t.Context(), "/Keel.txt", strings.NewReader("oak"), "ines", "", "")
	require.NoError(t, err)
	server := httptest.NewServer(handler(drive.Handler()))
	t.Cleanup(server.Close)
	return "dav://ines@" + server.Listener.Addr().String() + "/files"
}

// A password is for the server that it was given for. At another one it has to be given again, and where that fails all is as it was.
func TestAPasswordIsSentToNoOtherServer(t *testing.T) {
	s := sitetest.New(t)
	plain := func(h http.Handler) http.Handler { return h }
	first := served(t, plain)
	_, err := s.AddMachine(t.Context(), registry.NewMachine{Name: "drive", At: first, Secret: []byte("oak")})
	require.NoError(t, err)
	heard := 0
	second := served(t, func(h http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if _, password, _ := r.BasicAuth(); password == "oak" {
				heard++
			}
			h.ServeHTTP(w, r)
		})
	})
	bad := &problem.Input{}
	_, err = s.ChangeMachine(t.Context(), "drive", registry.MachineChanges{At: &second})
	require.ErrorAs(t, err, &bad)
	assert.Zero(t, heard, "nothing is sent that was given for another")
	_, err = s.ChangeMachine(t.Context(), "drive", registry.MachineChanges{At: &second, Secret: []byte("elm")})
	require.ErrorAs(t, err, &bad)
	m, err := s.Catalogue.Machines.Named(t.Context(), "drive")
	require.NoError(t, err)
	assert.Equal(t, first, m.At)
	_, err = s.Files(t.Context(), "drive")
	require.NoError(t, err, "and is reached as before")
	_, err = s.ChangeMachine(t.Context(), "drive", registry.MachineChanges{At: &second, Secret: []byte("oak")})
	require.NoError(t, err)
	assert.Positive(t, heard)
	elsewhere := strings.Replace(second, "/files", "/files?read-only=yes", 1)
	_, err = s.ChangeMachine(t.Context(), "drive", registry.MachineChanges{At: &elsewhere})
	require.ErrorAs(t, err, &bad, "an option that the way has not")
}

// What receipts name is undone exactly, although the machine is reached elsewhere and its stores are read anew meanwhile.
func TestWhatWasBroughtBackIsUndoneWhereTheMachineIsNow(t *testing.T) {
	s := sitetest.New(t)
	s.Discard("/home/ines/Keel.txt", "oak")
	s.Lay(map[string]string{"/srv/points/2026-03-04T1705/home/ines/Mast.txt": "ash"})
	s.Survey(s.AddTrash("/home/ines"))
	points, err := s.AddSource(t.Context(), registry.NewSource{Machine: "loft", Kind: "snapshots", At: "/srv/points"})
	require.NoError(t, err)
	s.Survey(points)
	before := s.Tree("/home/ines")
	receipt := s.BringBack(restore.Request{Copies: []copies.ID{s.Named("Keel").ID, s.Named("Mast").ID}})
	require.Equal(t, catalogue.ReceiptDone, receipt.State)

	moved := s.Root + "-moved"
	require.NoError(t, os.Rename(s.Root, moved))
	s.Root = moved
	_, err = s.ChangeMachine(t.Context(), "loft", registry.MachineChanges{At: &moved})
	require.NoError(t, err)
	_, err = s.ChangeSource(t.Context(), points.ID, registry.SourceChanges{Exclusions: &[]string{"*.tmp"}})
	require.NoError(t, err)
	again, err := s.Catalogue.Sources.ByID(t.Context(), points.ID)
	require.NoError(t, err)
	require.True(t, again.Renew)
	s.Survey(again)
	_, err = s.Catalogue.Everything().Copies.ByID(t.Context(), receipt.Items[1].Copy)
	require.NoError(t, err, "its number leads to what it is now")
	require.NoError(t, s.Undo(receipt.ID))
	assert.Equal(t, before, s.Tree("/home/ines"))
}
