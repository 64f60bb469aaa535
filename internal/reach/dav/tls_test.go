package dav_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"humble-rewind/internal/core/problem"
	"humble-rewind/internal/reach/dav"
)

// authority vouches for servers.
type authority struct {
	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

func newAuthority(t *testing.T) authority {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Alder Quay"}, IsCA: true, BasicConstraintsValid: true,
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(1, 0, 0), KeyUsage: x509.KeyUsageCertSign}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	return authority{certificate, key}
}

// server vouches for one at an address until a moment.
func (a authority) server(t *testing.T, at net.IP, until time.Time) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(2), NotBefore: time.Now().AddDate(0, -2, 0), NotAfter: until, IPAddresses: []net.IP{at}}
	der, err := x509.CreateCertificate(rand.Reader, template, a.certificate, &key.PublicKey, a.key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// A server whose certificate is not in order, or that offers less encryption than there is today, is not told the password.
func TestOnlyAServerThatIsVouchedForIsToldThePassword(t *testing.T) {
	ours, theirs := newAuthority(t), newAuthority(t)
	here, later := net.IPv4(127, 0, 0, 1), time.Now().AddDate(0, 1, 0)
	good := ours.server(t, here, later)
	dir := t.TempDir()
	secret, pem := filepath.Join(dir, "secret"), write(t, filepath.Join(dir, "authority.pem"), ours.certificate.Raw)
	require.NoError(t, os.WriteFile(secret, []byte("oak\n"), 0o600))
	fingerprint := func(c tls.Certificate) string {
		return fmt.Sprintf("certificate=sha256:%x", sha256.Sum256(c.Certificate[0]))
	}
	for name, c := range map[string]struct {
		shown  tls.Certificate
		most   uint16
		option string
		want   error // nil where it is believed
	}{
		"in order":                        {good, 0, "authority=" + pem, nil},
		"given by its digest":             {good, 0, fingerprint(good), nil},
		"out of date":                     {ours.server(t, here, time.Now().Add(-time.Minute)), 0, "authority=" + pem, problem.Untrusted},
		"of another host":                 {ours.server(t, net.IPv4(192, 0, 2, 1), later), 0, "authority=" + pem, problem.Untrusted},
		"vouched for by somebody else":    {theirs.server(t, here, later), 0, "authority=" + pem, problem.Untrusted},
		"of an authority not given":       {good, 0, "certificate=", problem.Untrusted},
		"another than was given":          {ours.server(t, here, later), 0, fingerprint(good), problem.Untrusted},
		"of an old version of encryption": {good, tls.VersionTLS11, "authority=" + pem, problem.NoWay},
		"of an old version, by digest":    {good, tls.VersionTLS11, fingerprint(good), problem.NoWay},
		"no encryption at all":            {tls.Certificate{}, 0, "authority=" + pem, problem.NoWay},
	} {
		t.Run(name, func(t *testing.T) {
			var told atomic.Int64
			server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Authorization") != "" {
					told.Add(1)
				}
				w.WriteHeader(http.StatusMultiStatus)
				_, _ = io.WriteString(w, `<D:multistatus xmlns:D="DAV:"><D:response><D:href>/files/</D:href><D:propstat><D:prop><D:resourcetype>`+
					`<D:collection/></D:resourcetype></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response></D:multistatus>`)
			}))
			server.Config.ErrorLog = log.New(io.Discard, "", 0)
			server.TLS = &tls.Config{Certificates: []tls.Certificate{c.shown}, MinVersion: tls.VersionTLS10, MaxVersion: c.most}
			if c.shown.Certificate == nil {
				server.Start()
			} else {
				server.StartTLS()
			}
			defer server.Close()
			session, steps, err := dav.Ways(dav.Files{dir}, &children).Try(t.Context(), fmt.Sprintf("davs://ines@%s/files?secret-file=%s&%s",
				server.Listener.Addr(), secret, c.option))
			if c.want == nil {
				require.NoError(t, err)
				assert.EqualValues(t, 1, told.Load())
				assert.Equal(t, "look at its top folder", steps[len(steps)-1].Doing)
				require.NoError(t, session.Close())
				return
			}
			require.ErrorIs(t, err, c.want)
			assert.ErrorContains(t, err, map[error]string{problem.Untrusted: "check its certificate", problem.NoWay: "agree on encryption"}[c.want])
			assert.Zero(t, told.Load(), "the password was sent")
			last := steps[len(steps)-1]
			require.Error(t, last.Err)
			if c.want == problem.Untrusted {
				assert.Contains(t, last.Shown, fmt.Sprintf("sha256:%x", sha256.Sum256(c.shown.Certificate[0])), "it is told which one was shown")
			}
			assert.NotContains(t, err.Error(), "oak")
		})
	}
}

func write(t *testing.T, path string, certificate []byte) string {
	require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: certificate}), 0o644))
	return path
}
