package fleet

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/fleet/station"
)

// certificates writes an authority's certificate, and one for 127.0.0.1 that it signed, for servers and clients.
func certificates(t *testing.T) (ca, cert, key string) {
	t.Helper()
	dir := t.TempDir()
	write := func(name, kind string, der []byte) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	sign := func(template, parent *x509.Certificate, public *ecdsa.PublicKey, by *ecdsa.PrivateKey) []byte {
		template.NotBefore, template.NotAfter, template.SerialNumber = time.Now().Add(-time.Hour), time.Now().Add(time.Hour), big.NewInt(time.Now().UnixNano())
		der, err := x509.CreateCertificate(rand.Reader, template, parent, public, by)
		if err != nil {
			t.Fatal(err)
		}
		return der
	}
	authority, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	own, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	root := &x509.Certificate{Subject: pkix.Name{CommonName: "the glasshouse"}, IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	ca = write("ca.pem", "CERTIFICATE", sign(root, root, &authority.PublicKey, authority))
	leaf := &x509.Certificate{Subject: pkix.Name{CommonName: "moss"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	cert = write("cert.pem", "CERTIFICATE", sign(leaf, root, &own.PublicKey, authority))
	text, err := x509.MarshalECPrivateKey(own)
	if err != nil {
		t.Fatal(err)
	}
	return ca, cert, write("key.pem", "EC PRIVATE KEY", text)
}

// TestSecrets holds that a station lets in only who proves who it is, and that no error has a secret.
func TestSecrets(t *testing.T) {
	t.Parallel()
	ca, cert, key := certificates(t)
	token := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(token, []byte("open-sesame-91\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name    string
		station station.Config
		good    Options
		bad     []Options
	}{
		{"token", station.Config{TokenFile: token}, Options{Token: "open-sesame-91"}, []Options{{}, {Token: "wrong-token-77"}}},
		{"tls", station.Config{Cert: cert, Key: key, TokenFile: token}, Options{CA: ca, Token: "open-sesame-91"}, []Options{{Token: "open-sesame-91"}, {CA: ca, Token: "wrong-token-77"}}},
		{"client certificate", station.Config{Cert: cert, Key: key, ClientCA: ca}, Options{CA: ca, Cert: cert, Key: key}, []Options{{CA: ca}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.station.Store, c.station.Listen, c.station.Log = t.TempDir(), "127.0.0.1:0", slog.New(slog.DiscardHandler)
			ctx, cancel := context.WithCancel(t.Context())
			urls, ended := make(chan string, 1), make(chan error, 1)
			go func() { ended <- station.Serve(ctx, c.station, func(s station.Started) { urls <- s.URL }) }()
			defer func() { cancel(); <-ended }()
			url := ""
			select {
			case url = <-urls:
			case err := <-ended:
				t.Fatal(err)
			}
			c.good.URL = url
			conn, err := Dial(ctx, c.good)
			if err != nil {
				t.Fatal(err)
			}
			conn.Close()
			for _, bad := range c.bad {
				bad.URL = url
				conn, err := Dial(ctx, bad)
				if err == nil {
					conn.Close()
					t.Errorf("%+v is let in", bad)
				} else if text := err.Error(); strings.Contains(text, "sesame") || strings.Contains(text, "wrong-token") || !strings.Contains(text, "127.0.0.1") {
					t.Errorf("the error is %v", err)
				}
			}
		})
	}
}

// TestStationRefuses holds what a station does not start with.
func TestStationRefuses(t *testing.T) {
	short := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(short, []byte("abc\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for want, c := range map[string]station.Config{
		"open to everybody":           {Listen: "0.0.0.0:0"},
		"HOST:PORT is expected":       {Listen: "4222"},
		"give both":                   {Listen: "127.0.0.1:0", Cert: "x"},
		"one word of at least 8":      {Listen: "0.0.0.0:0", TokenFile: short},
		"--token-file: open":          {Listen: "0.0.0.0:0", TokenFile: "/none"},
		"the station's folder cannot": {Listen: "127.0.0.1:0", Store: "/dev/null/x"},
		"the station cannot start: ":  {Listen: "192.0.2.1:4222", TokenFile: long(t)},
	} {
		if c.Store == "" {
			c.Store = t.TempDir()
		}
		c.Log = slog.New(slog.DiscardHandler)
		err := station.Serve(t.Context(), c, func(station.Started) { t.Errorf("%q: it starts", want) })
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("the error is %v, want %q", err, want)
		}
	}
}

func long(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(file, []byte("long-enough-for-it\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}
