package document_test

import (
	"bytes"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"

	"humble-rewind/internal/core/document"
)

// database makes a database by statements.
func database(t testing.TB, statements ...string) []byte {
	path := filepath.Join(t.TempDir(), "a.db")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	defer db.Close()
	db.SetMaxOpenConns(1)
	_, err = db.Exec("PRAGMA synchronous=OFF")
	require.NoError(t, err)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	return content
}

func read(content []byte) (document.Document, error) {
	return document.Read(bytes.NewReader(content), int64(len(content)))
}

func TestTheTablesOfADatabaseAreSheets(t *testing.T) {
	long := strings.Repeat("larch ", 9000)
	for _, pragma := range []string{"page_size=512", "page_size=4096", "page_size=65536", "encoding='UTF-16le'", "encoding='UTF-16be'"} {
		statements := []string{"PRAGMA " + pragma, "CREATE TABLE boats (id INTEGER PRIMARY KEY, name TEXT, length REAL, note BLOB, UNIQUE (name))",
			"CREATE TABLE \"long ones\" (text TEXT CHECK (text <> ''))", "CREATE VIEW v AS SELECT 1", "CREATE INDEX by_length ON boats (length)"}
		for i := range 400 {
			statements = append(statements, fmt.Sprintf("INSERT INTO boats VALUES (%d, 'Möwe %d', %d.5, NULL)", 3*i, i, i))
		}
		statements = append(statements, "DELETE FROM boats WHERE id = 6", "INSERT INTO boats VALUES (-9000000000, 'Curlew', -1, x'00ff')",
			"INSERT INTO \"long ones\" VALUES ('"+long+"')")
		d, err := read(database(t, statements...))
		require.NoError(t, err, pragma)
		assert.False(t, d.Cut, pragma)
		require.Len(t, d.Sheets, 2, pragma)
		boats := d.Sheets[0]
		assert.Equal(t, "boats", boats.Name)
		require.Len(t, boats.Rows, 1+400, pragma)
		assert.Equal(t, []string{"id", "name", "length", "note"}, boats.Rows[0])
		assert.Equal(t, []string{"-9000000000", "Curlew", "-1", "2 bytes, checksum 6cdbfd72"}, boats.Rows[1], pragma)
		assert.Equal(t, []string{"3", "Möwe 1", "1.5", ""}, boats.Rows[3], pragma)
		assert.Equal(t, []string{"1197", "Möwe 399", "399.5", ""}, boats.Rows[400], "the last, and what was deleted is not among them: %s", pragma)
		assert.Equal(t, [][]string{{"text"}, {long}}, d.Sheets[1].Rows, "a row that runs over many pages: %s", pragma)
	}
}

// Whatever is done to a database, reading it ends, within its bounds, and says what is wrong or what it could read.
func TestADamagedDatabaseIsReadAsFarAsItGoes(t *testing.T) {
	statements := []string{"PRAGMA page_size=512", "CREATE TABLE a (b TEXT)"}
	for i := range 200 {
		statements = append(statements, fmt.Sprintf("INSERT INTO a VALUES ('plank %d of larch and oak')", i))
	}
	whole := database(t, statements...)
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		content := bytes.Clone(whole)
		for range 1 + r.IntN(4) {
			content[100+r.IntN(len(content)-100)] = byte(r.Uint32())
		}
		d, err := read(content[:len(content)-r.IntN(2)*r.IntN(len(content)-100)])
		if err != nil {
			assert.True(t, document.Damaged(err), err)
			continue
		}
		for _, s := range d.Sheets {
			assert.LessOrEqual(t, len(s.Rows), 2000)
		}
	}
	// A tree that leads back into itself.
	content := bytes.Clone(whole)
	copy(content[512+8:], content[512:512+8])
	_, _ = read(content)
	_, err := read(whole[:50])
	assert.ErrorIs(t, err, document.ErrUnknown)
}

func FuzzRead(f *testing.F) {
	f.Add(database(f, "PRAGMA page_size=512", "CREATE TABLE a (b TEXT, c REAL)", "INSERT INTO a VALUES ('x', 1.5)"))
	f.Fuzz(func(t *testing.T, content []byte) {
		d, err := read(content)
		if err == nil {
			_ = d.Text()
		}
	})
}
