package catalogue

import (
	"errors"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Explain says for a technician what keeps the catalogue from working; false where an error is not one of the database.
func Explain(err error) (string, bool) {
	fault, ok := errors.AsType[*sqlite.Error](err)
	if !ok {
		return "", false
	}
	switch fault.Code() & 0xff { // the primary code
	case sqlite3.SQLITE_FULL:
		return "the file system of the data folder is full; free some room, and the service goes on by itself", true
	case sqlite3.SQLITE_IOERR:
		return "the drive of the data folder reports a fault; look at it before anything else, and " +
			"keep the daily copy in the data folder safe", true
	case sqlite3.SQLITE_READONLY, sqlite3.SQLITE_PERM, sqlite3.SQLITE_CANTOPEN:
		return "the data folder cannot be written to; see whose it is and how its file system is mounted", true
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return "the catalogue is damaged; stop the service and start it with --rebuild", true
	case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED:
		return "the catalogue is busy; try again in a moment", true
	case sqlite3.SQLITE_NOMEM:
		return "the machine has no memory left", true
	case sqlite3.SQLITE_CONSTRAINT:
		return "what it is about was removed in the meantime", true
	}
	return "the catalogue cannot do that now; the service's log says why", true
}
