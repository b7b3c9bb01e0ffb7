package web_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/web"
)

// certify writes a certificate for 127.0.0.1 with a serial number, and its key.
func certify(t *testing.T, cert, key string, serial int64) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(serial), Subject: pkix.Name{CommonName: "harbour"},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &private.PublicKey, private)
	require.NoError(t, err)
	bytes, err := x509.MarshalECPrivateKey(private)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: bytes}), 0o600))
	require.NoError(t, os.WriteFile(cert, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
}

// A certificate that is renewed is answered with from then on; one that cannot be read leaves the one before.
func TestCertificateIsReadAgain(t *testing.T) {
	folder := t.TempDir()
	cert, key := filepath.Join(folder, "cert.pem"), filepath.Join(folder, "key.pem")
	_, err := web.NewCertificate(cert, key, slog.Default())
	require.ErrorContains(t, err, "certificate")
	certify(t, cert, key, 1)
	log := slog.New(slog.DiscardHandler)
	c, err := web.NewCertificate(cert, key, log)
	require.NoError(t, err)
	listener, err := tls.Listen("tcp", "127.0.0.1:0", c.TLS())
	require.NoError(t, err)
	defer listener.Close()
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			conn.(*tls.Conn).Handshake()
			conn.Close()
		}
	}()
	serial := func() int64 {
		conn, err := tls.Dial("tcp", listener.Addr().String(), &tls.Config{InsecureSkipVerify: true}) // its own
		require.NoError(t, err)
		defer conn.Close()
		return conn.ConnectionState().PeerCertificates[0].SerialNumber.Int64()
	}
	require.EqualValues(t, 1, serial())
	later := time.Now().Add(time.Minute)
	certify(t, cert, key, 2)
	require.NoError(t, os.Chtimes(cert, later, later))
	require.Eventually(t, func() bool { return serial() == 2 }, 10*time.Second, 100*time.Millisecond)
	require.NoError(t, os.WriteFile(cert, []byte("half of a cert"), 0o600))
	time.Sleep(1200 * time.Millisecond)
	require.EqualValues(t, 2, serial())
	_, err = tls.Dial("tcp", listener.Addr().String(), &tls.Config{InsecureSkipVerify: true,
		MaxVersion: tls.VersionTLS11})
	require.Error(t, err)
}

func writeFile(path, text string) error { return os.WriteFile(path, []byte(text), 0o600) }
