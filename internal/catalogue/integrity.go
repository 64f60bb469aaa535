package catalogue

import (
	"context"
	"net/url"
)

// CheckDatabase runs SQLite's own integrity check on a database file that is not the catalogue's, without writing to it.
// The verdict is "ok" or the first thing that is wrong, which may be that it is no database at all.
func CheckDatabase(ctx context.Context, path string) (verdict string, err error) {
	dsn := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath()}).String()
	db, err := openWith(dsn + "?mode=ro&immutable=1&_pragma=trusted_schema(0)")
	if err != nil {
		return "", err
	}
	defer db.Close()
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check(1)").Scan(&verdict); err != nil {
		if ctx.Err() != nil {
			return "", ctx.Err()
		}
		return err.Error(), nil
	}
	return verdict, nil
}
