package sealed_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"humble-rewind/internal/core/sealed"
)

func TestFoldersThatOnlyMakeSenseWholeAreKnown(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var encrypted, hex, scans, repository []string
	for n := range 12 {
		name := make([]byte, 24)
		for i := range name {
			name[i] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"[r.IntN(64)]
		}
		encrypted = append(encrypted, "Qm3xT/"+string(name))
		hex = append(hex, fmt.Sprintf("%016x%016x", r.Uint64(), r.Uint64()))
		scans = append(scans, fmt.Sprintf("Letter from the harbour office %02d.pdf", n))
		repository = append(repository, fmt.Sprintf("objects/%02x/%038x", n, r.Uint64()))
	}
	for why, paths := range map[string][]string{
		"":                            scans,
		"gocryptfs.conf":              {"gocryptfs.conf", "a", "b"},
		"names of 12 of its":          encrypted,
		"names of 12 of":              hex,
		"PG_VERSION and base":         {"PG_VERSION", "base/1/1255", "postmaster.opts"},
		"CURRENT and MANIFEST-000004": {"CURRENT", "MANIFEST-000004", "000003.log", "LOCK"},
		"repository":                  append(repository, "HEAD", "refs/heads/main", "config"),
	} {
		got := sealed.Of(paths)
		if why == "" {
			assert.Empty(t, got)
		} else {
			assert.Contains(t, got, why)
		}
	}
	for _, open := range [][]string{nil, {"HEAD", "notes.txt"}, {"base/a", "PG_NOTES"}, {"Inventory_of_the_loft_2026",
		"Measurements_Grey_Heron", "a"}, append(scans, encrypted[:3]...)} {
		assert.Empty(t, sealed.Of(open), "%v", open)
	}
	assert.Contains(t, sealed.Marks(), "gocryptfs.conf")
	assert.NotContains(t, sealed.Marks(), "MANIFEST-*")
}

func TestSealedFoldersAreFoundAmongPathsTheOutermostFirst(t *testing.T) {
	paths := []string{"Letters/To the harbour.odt", "Vault/gocryptfs.conf", "Vault/deep/CURRENT", "Vault/deep/MANIFEST-1", "Work/Lines/.git/HEAD",
		"Work/Lines/.git/objects", "Work/Lines/.git/refs", "Work/Lines/.git/objects/00", "HEAD", "objects", "refs"}
	found := sealed.Folders(slices.Values(paths))
	assert.Equal(t, []string{"Vault", "Work/Lines/.git"}, slices.Sorted(maps.Keys(found)), "not the folder itself, and none inside another")
	assert.Equal(t, "Vault", sealed.Over(found, "Vault/deep/CURRENT"))
	assert.Equal(t, "Vault", sealed.Over(found, "Vault"))
	assert.Empty(t, sealed.Over(found, "Vaults/x"))
	assert.Empty(t, sealed.Over(found, ""))
}
