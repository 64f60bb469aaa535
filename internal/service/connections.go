package service

import (
	linked "container/list"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"syscall"
	"time"
)

// How long a client may take. A request's head and body have to come within these times, and an answer has to be taken piece by
// piece; streams of events live as long as they like, because each event is a piece.
const (
	headTime  = 10 * time.Second
	bodyTime  = 20 * time.Second
	pieceTime = time.Minute
	idleTime  = time.Minute
)

// connections bounds how many connections there are at once. Nobody is refused: where there are too many, the one of nobody
// signed in that has been there longest is closed, so that a flood of connections displaces itself and not those who work.
type connections struct {
	most int

	mu       sync.Mutex
	strange  *linked.List // of *connection without a sign-in, the oldest first
	familiar *linked.List // of those with one
}

// connection is one of them.
type connection struct {
	net.Conn
	of *connections

	at      *linked.Element
	in      *linked.List
	closing sync.Once
}

// For a connection some of the process's descriptors are left for work: machines' folders, the catalogue, safekeeping.
const (
	mostConnections  = 512
	leastConnections = 32
)

func newConnections() *connections {
	most := mostConnections
	var limit syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &limit); err == nil && limit.Cur/4 < mostConnections {
		most = max(leastConnections, int(limit.Cur/4))
	}
	return &connections{most: most, strange: linked.New(), familiar: linked.New()}
}

// bounded is a listener whose connections are counted.
type bounded struct {
	net.Listener
	*connections
}

func (b bounded) Accept() (net.Conn, error) {
	conn, err := b.Listener.Accept()
	if err != nil {
		return nil, err
	}
	c := &connection{Conn: conn, of: b.connections}
	if oldest := b.admit(c); oldest != nil {
		oldest.Close()
	}
	return c, nil
}

// admit takes up a connection, and returns the one that has to give way to it, if one has to.
func (b *connections) admit(c *connection) (oldest *connection) {
	b.mu.Lock()
	defer b.mu.Unlock()
	c.in, c.at = b.strange, b.strange.PushBack(c)
	if b.strange.Len()+b.familiar.Len() <= b.most {
		return nil
	}
	for _, all := range []*linked.List{b.strange, b.familiar} {
		if front := all.Front(); front != nil && front.Value != any(c) {
			return front.Value.(*connection)
		}
	}
	return nil
}

func (c *connection) Close() error {
	c.closing.Do(func() {
		c.of.mu.Lock()
		defer c.of.mu.Unlock()
		c.in.Remove(c.at)
	})
	return c.Conn.Close()
}

// signedIn moves a connection to those of technicians.
func (c *connection) signedIn() {
	c.of.mu.Lock()
	defer c.of.mu.Unlock()
	if c.in == c.of.strange && c.at.Value == any(c) {
		c.in.Remove(c.at)
		c.in, c.at = c.of.familiar, c.of.familiar.PushBack(c)
	}
}

type connectionKey struct{}

// withConnection lets handlers find the connection of a request.
func withConnection(ctx context.Context, conn net.Conn) context.Context {
	return context.WithValue(ctx, connectionKey{}, conn)
}

// familiar says that a request's connection is a technician's.
func familiar(ctx context.Context) {
	if c, ok := ctx.Value(connectionKey{}).(*connection); ok {
		c.signedIn()
	}
}

// timely gives each request its times, answers HEAD as GET without the body, and nothing else.
func timely(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		control := http.NewResponseController(w)
		if r.Body != http.NoBody {
			_ = control.SetReadDeadline(time.Now().Add(bodyTime)) // of a test's recorder there is none
			r.Body = &timedBody{r.Body, control}
		}
		if r.Method == http.MethodHead { // whose body the server leaves out
			r = r.Clone(r.Context())
			r.Method = http.MethodGet
		}
		answer := &timedAnswer{ResponseWriter: w, control: control}
		next.ServeHTTP(answer, r.WithContext(context.WithValue(r.Context(), answerKey{}, answer)))
	})
}

// timedBody takes the deadline away once the whole body has come, because reading goes on to notice that the client leaves. Of one that did
// not come it stays, so that the server does not wait for the rest.
type timedBody struct {
	body    interface{ Read([]byte) (int, error) }
	control *http.ResponseController
}

func (b *timedBody) Read(p []byte) (int, error) {
	n, err := b.body.Read(p)
	if err == io.EOF {
		_ = b.control.SetReadDeadline(time.Time{})
	}
	return n, err
}

func (b *timedBody) Close() error { return nil } // the server closes its own

// timedAnswer gives each piece of an answer its time.
type timedAnswer struct {
	http.ResponseWriter
	control *http.ResponseController
	until   time.Time
	over    atomic.Bool // nothing more of it may be sent
}

type answerKey struct{}

// answerOf returns the answer to a request.
func answerOf(ctx context.Context) *timedAnswer {
	a, _ := ctx.Value(answerKey{}).(*timedAnswer)
	return a
}

// cut ends an answer where it is: nobody takes it for a whole one.
func (a *timedAnswer) cut() {
	if a != nil {
		a.over.Store(true)
	}
}

func (a *timedAnswer) Write(p []byte) (int, error) {
	if a.over.Load() {
		_ = a.control.SetWriteDeadline(time.Unix(1, 0)) // so that its end is not sent either
		return 0, errOver
	}
	if now := time.Now(); a.until.Sub(now) < pieceTime*3/4 { // not for each of many small pieces
		a.until = now.Add(pieceTime)
		_ = a.control.SetWriteDeadline(a.until)
	}
	return a.ResponseWriter.Write(p)
}

// errOver says that who reads may read no more.
var errOver = errors.New("who asked for it may no longer read it")

// Unwrap is for http.ResponseController.
func (a *timedAnswer) Unwrap() http.ResponseWriter { return a.ResponseWriter }
