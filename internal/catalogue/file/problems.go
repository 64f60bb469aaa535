package file

import (
	"errors"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"humble-rewind/internal/core/problem"
)

// codes are what SQLite's primary result codes mean here.
var codes = map[int]problem.Code{
	sqlite3.SQLITE_FULL: problem.CatalogueFull, sqlite3.SQLITE_IOERR: problem.CatalogueFault,
	sqlite3.SQLITE_READONLY: problem.CatalogueReadOnly, sqlite3.SQLITE_PERM: problem.CatalogueReadOnly,
	sqlite3.SQLITE_CANTOPEN: problem.CatalogueReadOnly,
	sqlite3.SQLITE_CORRUPT:  problem.CatalogueDamaged, sqlite3.SQLITE_NOTADB: problem.CatalogueDamaged,
	sqlite3.SQLITE_BUSY: problem.CatalogueBusy, sqlite3.SQLITE_LOCKED: problem.CatalogueBusy,
	sqlite3.SQLITE_NOMEM: problem.CatalogueNoMemory, sqlite3.SQLITE_CONSTRAINT: problem.CatalogueGone,
}

// Problem tells which problem of the catalogue an error is; false where it is not one of the database.
func Problem(err error) (problem.Code, bool) {
	fault, ok := errors.AsType[*sqlite.Error](err)
	if !ok {
		return "", false
	}
	if code, known := codes[fault.Code()&0xff]; known {
		return code, true
	}
	return problem.Catalogue, true
}
