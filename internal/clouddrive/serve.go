package clouddrive

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"
)

// Certificate is the drive's own certificate, made where there is none yet, and what tells it: sha256: and the digest of its DER form.
func (d *Drive) Certificate() (tls.Certificate, string, error) {
	at := filepath.Join(d.dir, "certificate.pem")
	if _, err := os.Stat(at); errors.Is(err, fs.ErrNotExist) {
		if err := makeCertificate(at); err != nil {
			return tls.Certificate{}, "", err
		}
	}
	c, err := tls.LoadX509KeyPair(at, at)
	if err != nil {
		return c, "", err
	}
	return c, fmt.Sprintf("sha256:%x", sha256.Sum256(c.Certificate[0])), nil
}

// makeCertificate makes a certificate for the own host, with its key, for ten years.
func makeCertificate(at string) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	template := x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "cloud drive"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().AddDate(10, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		DNSNames: []string{"localhost"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1), net.IPv6loopback}}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}),
		pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	return os.WriteFile(at, text, 0o600)
}

// Serve serves the drive over TLS until ctx is done; it calls ready with its address, as a way to it writes it, and with what tells its
// certificate.
func (d *Drive) Serve(ctx context.Context, listen string, ready func(url, certificate string)) error {
	certificate, told, err := d.Certificate()
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("listen on %s: %w. Next: choose another address with --listen", listen, err)
	}
	server := &http.Server{Handler: d.Handler(), ReadHeaderTimeout: 20 * time.Second, IdleTimeout: 2 * time.Minute,
		TLSConfig: &tls.Config{Certificates: []tls.Certificate{certificate}, MinVersion: tls.VersionTLS12}}
	stop := context.AfterFunc(ctx, func() { _ = server.Close() })
	defer stop()
	ready(fmt.Sprintf("davs://%s%s", listener.Addr(), FilesPath), told)
	if err := server.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
