// Package dav reaches a drive over the network by WebDAV (RFC 4918): a cloud drive, or any server that speaks it.
//
// Addresses are davs://[user@]host[:port]/path, and dav:// without encryption, which is taken for the service's own host alone. Their
// options are
//
//	secret-file   a file on the service's host with the password or token, readable by its owner alone; else it is given when the
//	              drive is added, and kept in memory
//	certificate   sha256: and the hexadecimal digest of the server's certificate (of its DER form), where no authority vouches for it
//	authority     a file on the service's host with the certificates, as PEM, of authorities that are believed for this drive alone
//
// What a server offers beyond that is used where it is there: versions by the version-tree report (RFC 3253), changes since a token
// (RFC 6578), room by quotas (RFC 4331), and the drive's own trash by the extension that docs/drive-trash.md describes.
//
// A server is not believed further than needed: no answer leads anywhere else (redirects are refused, names that are not below what was
// asked for are passed over), answers and the time that they take are bounded, a content is only taken for whole when its length is what
// was promised, and no file is ever written over: what is written is new (If-None-Match), and a name is given by a MOVE that may not replace.
package dav

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"humble-rewind/internal/core/place"
	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach"
)

// Ways reach drives with and without encryption. Addresses name files only in files; what servers answer is read by answers.
func Ways(files Files, answers Answers) reach.Ways {
	open := func(ctx context.Context, at reach.Address) (reach.Session, error) {
		return files.open(ctx, at, answers)
	}
	way := func(scheme string) reach.Way {
		return reach.Way{Scheme: scheme, Open: open, AtOnce: 8, Backoff: time.Second}
	}
	return reach.Ways{way("davs"), way("dav")}
}

// The options of an address.
const (
	optionSecret      = "secret-file"
	optionCertificate = "certificate"
	optionAuthority   = "authority"
)

// server is a Session of a cloud drive.
type server struct {
	answers Answers
	client  *http.Client
	paces   time.Duration // in which something has to come; 0: paceSpan
	base    *url.URL      // with a slash at its end
	user    string
	secret  string
}

// Step is what of reaching a drive failed.
type Step struct {
	Doing string
	Err   error
}

func (s *Step) Error() string { return s.Doing + ": " + s.Err.Error() }

// Unwrap returns the cause.
func (s *Step) Unwrap() error { return s.Err }

// open reaches a drive, step by step; an error says which did not succeed.
func (f Files) open(ctx context.Context, at reach.Address, answers Answers) (reach.Session, error) {
	refuse := func(doing string, err error, shown ...string) (reach.Session, error) {
		reach.Tell(ctx, doing, strings.Join(shown, ""), err)
		return nil, &Step{fmt.Sprintf("reach the drive at %s: %s", at.Host, doing), err}
	}
	if err := at.TakeOnly(optionSecret, optionCertificate, optionAuthority); err != nil {
		return nil, err
	}
	path, err := place.Clean("/" + strings.Trim(at.Path, "/"))
	if err != nil || at.Host == "" {
		return refuse("read its address", fmt.Errorf("give it like davs://ines@drive.example/files: %w", problem.NoWay))
	}
	s := &server{answers: answers, user: at.User, base: &url.URL{Scheme: "https", Host: at.Host, Path: strings.TrimSuffix(path, "/") + "/"}}
	if at.Scheme == "dav" {
		if host, _, _ := strings.Cut(at.Host, ":"); host != "localhost" && !net.ParseIP(strings.Trim(host, "[]")).IsLoopback() {
			return refuse("read its address", fmt.Errorf("without encryption its password could be read on the way; use davs://: %w", problem.NoWay))
		}
		s.base.Scheme = "http"
	}
	if s.secret, err = f.secret(ctx, at.Options[optionSecret]); err != nil {
		return refuse("read its password", err)
	}
	settings, err := f.trust(at.Options)
	if err != nil {
		return refuse("read whom to believe", err)
	}
	reach.Tell(ctx, "read its address", s.base.Host, nil)
	shown := ""
	settings = shows(settings, &shown)
	s.client = &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport: &http.Transport{TLSClientConfig: settings, TLSHandshakeTimeout: patience, ResponseHeaderTimeout: 2 * patience,
			MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute, MaxResponseHeaderBytes: 64 << 10, DisableCompression: true,
			DialContext: (&net.Dialer{Timeout: patience}).DialContext},
	}
	var root resource
	if err := s.find(ctx, "/", "0", nil, func(r resource) error {
		root = r
		return nil
	}); err != nil {
		s.Close()
		if unencrypted(err) {
			err = fmt.Errorf("%w (%w)", errEncryption, err)
		}
		tellUntil(ctx, s.base.Scheme, stepOf(err), shown)
		if refused, ok := errors.AsType[*tls.CertificateVerificationError](err); ok {
			shown = certificateOf(refused.UnverifiedCertificates)
		}
		return refuse(stepOf(err), err, shown)
	}
	tellUntil(ctx, s.base.Scheme, "", shown)
	if !root.Folder {
		s.Close()
		return refuse("look at its top folder", problem.NotFolder)
	}
	return s, nil
}

// steps are those of reaching a drive, in their order.
var steps = []string{"find its host by name", "connect to it", "agree on encryption with it", checking, "sign in", "look at its top folder"}

const checking = "check its certificate"

// tellUntil tells that the steps before one succeeded, all where it is "", and which certificate the server showed.
func tellUntil(ctx context.Context, scheme, failed, certificate string) {
	for _, step := range steps {
		if step == failed {
			return
		}
		of := ""
		if step == checking {
			of = certificate
		}
		if scheme == "https" || step != checking && step != "agree on encryption with it" {
			reach.Tell(ctx, step, of, nil)
		}
	}
}

// shows notes the certificate of a server that is believed, and changes nothing about whom that is.
func shows(settings *tls.Config, shown *string) *tls.Config {
	settings = settings.Clone()
	verify := settings.VerifyConnection
	settings.VerifyConnection = func(state tls.ConnectionState) error {
		*shown = certificateOf(state.PeerCertificates)
		if verify == nil {
			return nil
		}
		return verify(state)
	}
	return settings
}

// certificateOf says which certificate was shown, so that it can be compared and named in an address; "" where none was.
func certificateOf(shown []*x509.Certificate) string {
	if len(shown) == 0 {
		return ""
	}
	return fmt.Sprintf("sha256:%x, of %s, until %s", sha256.Sum256(shown[0].Raw), place.Quote(place.Readable(shown[0].Subject.CommonName)),
		shown[0].NotAfter.UTC().Format("2006-01-02"))
}

// patience is how long one step over the network may take.
const patience = 20 * time.Second

var errEncryption = fmt.Errorf("it offers no encryption that is safe today, which is TLS 1.2 or later: %w", problem.NoWay)

// unencrypted tells whether a first answer failed because no encryption could be agreed on: the server ended that, or spoke without.
func unencrypted(err error) bool {
	var refused *net.OpError
	var plain tls.RecordHeaderError
	return errors.As(err, &refused) && refused.Op == "remote error" || errors.As(err, &plain) || errors.Is(err, http.ErrSchemeMismatch)
}

// stepOf says which step an error is of.
func stepOf(err error) string {
	var named *net.DNSError
	switch {
	case errors.As(err, &named):
		return "find its host by name"
	case errors.Is(err, problem.NoWay):
		return "agree on encryption with it"
	case errors.Is(err, problem.Untrusted):
		return checking
	case errors.Is(err, problem.NotSignedIn):
		return "sign in"
	case errors.Is(err, problem.Unreachable), errors.Is(err, problem.Lost):
		return "connect to it"
	}
	return "look at its top folder"
}

// secret is the password: that of the context, else what the file holds.
func (f Files) secret(ctx context.Context, file string) (string, error) {
	if given := reach.SecretOf(ctx); given != nil {
		return string(given), nil
	}
	if file == "" {
		return "", nil
	}
	text, err := f.read(file, 0o600)
	if err != nil {
		return "", err
	}
	return strings.TrimRight(string(text), "\r\n"), nil
}

var errCertificate = fmt.Errorf("the server's certificate is another one than was given: %w", problem.Untrusted)

// trust says which certificates are believed.
func (f Files) trust(options map[string]string) (*tls.Config, error) {
	settings := &tls.Config{MinVersion: tls.VersionTLS12}
	if file := options[optionAuthority]; file != "" {
		text, err := f.read(file, 0o644)
		if err != nil {
			return nil, err
		}
		settings.RootCAs = x509.NewCertPool()
		if !settings.RootCAs.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("the file %s holds no certificate", place.Quote(file))
		}
	}
	pinned := options[optionCertificate]
	if pinned == "" {
		return settings, nil
	}
	text, ok := strings.CutPrefix(strings.ToLower(pinned), "sha256:")
	want, err := hex.DecodeString(strings.ReplaceAll(text, ":", ""))
	if !ok || err != nil || len(want) != sha256.Size {
		return nil, errors.New("a certificate is given as sha256: and 64 hexadecimal digits")
	}
	settings.InsecureSkipVerify = true // the one certificate that was given is believed, and no other
	settings.VerifyConnection = func(state tls.ConnectionState) error {
		got := sha256.Sum256(state.PeerCertificates[0].Raw)
		if string(got[:]) != string(want) {
			return fmt.Errorf("%w (it is sha256:%x)", errCertificate, got)
		}
		return nil
	}
	return settings, nil
}

func (s *server) Close() error {
	s.client.CloseIdleConnections()
	return nil
}

// Traits of a drive: it tells next to nothing besides names, sizes and times.
func (s *server) Traits() reach.Traits {
	return reach.Traits{RoundTrip: 20 * time.Millisecond, Clock: time.Second}
}

func (s *server) Tree(ctx context.Context, path string) (reach.Tree, error) {
	return s.folder(ctx, path)
}

func (s *server) Folder(ctx context.Context, path string) (reach.Folder, error) {
	return s.folder(ctx, path)
}

func (s *server) folder(ctx context.Context, path string) (*folder, error) {
	path, err := place.Clean(path)
	if err != nil {
		return nil, fmt.Errorf("%w (%w)", problem.BadName, err)
	}
	r, err := s.look(ctx, path)
	if errors.Is(err, problem.NotThere) { // or what is above it is a file
		for above := place.Folder(path); above != "/"; above = place.Folder(above) {
			if u, e := s.look(ctx, above); e == nil {
				if !u.Folder {
					err = problem.NotFolder
				}
				break
			}
		}
	}
	if err == nil && !r.Folder {
		err = problem.NotFolder
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place.Quote(path), err)
	}
	return &folder{s, path, r.info(place.Name(path))}, nil
}

// url is the address of a path of the drive.
func (s *server) url(path string, folder bool) *url.URL {
	u := *s.base
	u.Path = strings.TrimSuffix(s.base.Path, "/") + path
	if folder && !strings.HasSuffix(u.Path, "/") {
		u.Path += "/"
	}
	u.RawPath = escaped(u.Path)
	return &u
}

// escaped writes a path with everything escaped that is not plainly a letter, digit or the like, so that names are bytes.
func escaped(path string) string {
	var b strings.Builder
	for i := range len(path) {
		c := path[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("/-_.~", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// path is the path of the drive that an address in an answer means; false where it leads elsewhere.
func (s *server) path(href string) (string, bool) {
	u, err := url.Parse(href)
	if err != nil || u.Host != "" && u.Host != s.base.Host || u.Scheme != "" && u.Scheme != s.base.Scheme {
		return "", false
	}
	below, ok := strings.CutPrefix(strings.TrimSuffix(u.Path, "/")+"/", s.base.Path)
	if !ok {
		return "", false
	}
	path := "/" + strings.TrimSuffix(below, "/")
	clean, err := place.Clean(path)
	return clean, err == nil && clean == path && len(clean) <= maxPath && len(place.Name(clean)) <= maxName
}

// maxPath and maxName are how long paths and names may be, in bytes: longer ones no file system takes.
const maxPath, maxName = 4096, 1024

func (s *server) span() time.Duration {
	if s.paces > 0 {
		return s.paces
	}
	return paceSpan
}

// request sends a request and returns the answer where its status is one that is expected.
func (s *server) request(ctx context.Context, method string, u *url.URL, header http.Header, body io.Reader, size int64,
	expected ...int) (*http.Response, error) {
	asked := ctx
	ctx, watch := paced(ctx, s.span())
	if body != nil && body != http.NoBody {
		body = &sentBody{body, watch, size}
	}
	watch.quiet.Store(body == nil || body == http.NoBody) // until a head comes, which has its own time
	r, err := http.NewRequestWithContext(ctx, method, u.String(), body)
	if err != nil {
		watch.stop()
		return nil, err
	}
	if size >= 0 && body != nil {
		r.ContentLength = size
		if size == 0 {
			r.Body = http.NoBody
		}
	}
	for name, values := range header {
		r.Header[name] = values
	}
	switch {
	case s.user != "":
		r.SetBasicAuth(s.user, s.secret)
	case s.secret != "":
		r.Header.Set("Authorization", "Bearer "+s.secret)
	}
	answer, err := s.client.Do(r)
	if err != nil {
		cause := context.Cause(ctx)
		watch.stop()
		if asked.Err() == nil && errors.Is(cause, errSlow) {
			return nil, cause
		}
		return nil, failure(asked, err)
	}
	answer.Body = &pacedBody{answer.Body, ctx, watch, true}
	for _, status := range expected {
		if answer.StatusCode == status {
			return answer, nil
		}
	}
	_, _ = io.CopyN(io.Discard, answer.Body, 4096)
	answer.Body.Close()
	return nil, fmt.Errorf("%w (the server answered %s with %d)", statusProblem(answer.StatusCode), method, answer.StatusCode)
}

// failure is the problem that kept a server from answering. Neither address nor password is in it.
func failure(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if wrapped, ok := errors.AsType[*url.Error](err); ok {
		err = wrapped.Err
	}
	var dialled *net.OpError
	var unknown x509.UnknownAuthorityError
	var host x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.Is(err, problem.Untrusted):
		return err
	case errors.As(err, &unknown), errors.As(err, &host), errors.As(err, &invalid):
		return fmt.Errorf("%w (%w)", problem.Untrusted, err)
	case errors.As(err, &dialled) && dialled.Op == "dial":
		return fmt.Errorf("%w: %w", problem.Unreachable, err)
	}
	if waited, ok := errors.AsType[net.Error](err); ok && waited.Timeout() { // the library names the step of its own at which it gave up
		return fmt.Errorf("%w: %w", problem.Lost, problem.Slow)
	}
	return fmt.Errorf("%w: %w", problem.Lost, err)
}

// statusProblem is the problem that a status means, see RFC 9110 and 4918.
func statusProblem(status int) problem.Code {
	switch status {
	case http.StatusNotFound, http.StatusGone:
		return problem.NotThere
	case http.StatusUnauthorized:
		return problem.NotSignedIn
	case http.StatusForbidden:
		return problem.Refused
	case http.StatusConflict:
		return problem.NotThere // the folder that it is to go into
	case http.StatusPreconditionFailed:
		return problem.Taken
	case http.StatusLocked:
		return problem.Busy
	case http.StatusInsufficientStorage:
		return problem.OverQuota
	case http.StatusRequestEntityTooLarge:
		return problem.FileTooLarge
	case http.StatusMethodNotAllowed, http.StatusNotImplemented, http.StatusBadRequest, http.StatusUnsupportedMediaType:
		return problem.Unsupported
	case http.StatusServiceUnavailable, http.StatusTooManyRequests:
		return problem.Busy
	}
	return problem.System
}
