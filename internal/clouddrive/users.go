package clouddrive

import (
	"context"
	"crypto/pbkdf2"
	"crypto/sha256"
	"crypto/subtle"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Admit lets somebody sign in with a password or token, until it expires (zero: for ever). One may have several.
func (d *Drive) Admit(ctx context.Context, name, secret string, expires time.Time) error {
	salt := []byte(random())
	hash, err := derive(secret, salt)
	if err != nil {
		return err
	}
	var until any
	if !expires.IsZero() {
		until = expires.Unix()
	}
	_, err = d.db.ExecContext(ctx, "INSERT INTO users VALUES (?, ?, ?, ?)", name, salt, hash, until)
	return err
}

func derive(secret string, salt []byte) ([]byte, error) {
	return pbkdf2.Key(sha256.New, secret, salt, 20_000, sha256.Size)
}

// guesses slows those down who try one password after the other: after a few wrong ones each takes twice as long as the one before.
type guesses struct {
	mu  sync.Mutex
	all map[string]guess
}

type guess struct {
	wrong int
	until time.Time
}

const (
	freeGuesses = 5
	mostWait    = time.Minute
	maxGuessers = 10_000
)

// wait is how long somebody has to wait before another try.
func (g *guesses) wait(who string, now time.Time) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return max(0, g.all[who].until.Sub(now))
}

// tried notes how a try went.
func (g *guesses) tried(who string, right bool, now time.Time) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if right {
		delete(g.all, who)
		return
	}
	if g.all == nil || len(g.all) > maxGuessers {
		g.all = map[string]guess{}
	}
	of := g.all[who]
	if of.wrong++; of.wrong >= freeGuesses {
		of.until = now.Add(min(mostWait, time.Second<<min(of.wrong-freeGuesses, 10)))
	}
	g.all[who] = of
}

// knows tells whether a secret was found right lately.
func (d *Drive) knows(name, secret string) bool {
	known, ok := d.admitted.Load(sha256.Sum256([]byte(name + "\x00" + secret)))
	return ok && d.now().Before(known.(admission).until)
}

// signedIn tells who signs in with a secret; name may be left out with a token. An expired one is as good as none.
func (d *Drive) signedIn(ctx context.Context, name, secret string) (string, bool) {
	key := sha256.Sum256([]byte(name + "\x00" + secret))
	if known, ok := d.admitted.Load(key); ok && d.now().Before(known.(admission).until) {
		return known.(admission).who, true
	}
	rows, err := d.db.QueryContext(ctx, "SELECT name, salt, hash, coalesce(expires, 0) FROM users WHERE (?1 = '' OR name = ?1) AND "+
		"(expires IS NULL OR expires > ?2)", name, d.now().Unix())
	if err != nil {
		return "", false
	}
	defer rows.Close()
	for rows.Next() {
		var who string
		var salt, hash []byte
		var expires int64
		if rows.Scan(&who, &salt, &hash, &expires) != nil {
			return "", false
		}
		got, err := derive(secret, salt)
		if err != nil || subtle.ConstantTimeCompare(got, hash) != 1 {
			continue
		}
		until := d.now().Add(time.Minute)
		if expires != 0 && until.After(time.Unix(expires, 0)) {
			until = time.Unix(expires, 0)
		}
		d.admitted.Store(key, admission{who, until})
		return who, true
	}
	return "", false
}
