package hub

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"timegate/home"
)

// How long certificates are good, and when the hub's own is made anew.
const (
	authorityYears = 10
	certDays       = 365
	anewDays       = 60
)

// AuthorityFile is the certificate that workstations are given: who has signed the hub's.
func (s Store) AuthorityFile() string { return filepath.Join(s.Folder, "authority.pem") }

// TLS returns how the hub shows who it is, by names: the first time it makes an authority of
// its own, and a certificate, which is made anew before it ends, and for other names.
func (s Store) TLS(names []string, now time.Time) (*tls.Config, error) {
	authority, authorityKey, err := s.pair("authority", nil, nil, nil, now)
	if err != nil {
		return nil, err
	}
	shown := func(now time.Time) (*tls.Certificate, error) {
		cert, key, err := s.pair("hub", authority, authorityKey, names, now)
		if err != nil {
			return nil, err
		}
		return &tls.Certificate{Certificate: [][]byte{cert.Raw, authority.Raw}, PrivateKey: key}, nil
	}
	first, err := shown(now)
	if err != nil {
		return nil, err
	}
	r := &renewed{shown: shown, now: time.Now, cert: first, looked: now}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return r.get(), nil }}, nil
}

// renewed is a certificate that is made anew before it ends, while the hub runs.
type renewed struct {
	shown func(now time.Time) (*tls.Certificate, error)
	now   func() time.Time

	mu     sync.Mutex // guards what follows
	cert   *tls.Certificate
	looked time.Time
}

// lookAgain is how long a certificate is shown without another look at when it ends.
const lookAgain = time.Hour

// get returns the certificate of now. Where no new one can be made, the old one stays.
func (r *renewed) get() *tls.Certificate {
	r.mu.Lock()
	defer r.mu.Unlock()
	if now := r.now(); now.Sub(r.looked) >= lookAgain {
		r.looked = now
		if cert, err := r.shown(now); err == nil {
			r.cert = cert
		}
	}
	return r.cert
}

// pair returns a certificate and its key, which are made where there are none that are good.
func (s Store) pair(what string, by *x509.Certificate, byKey *ecdsa.PrivateKey, names []string, now time.Time) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	path := filepath.Join(s.Folder, what+".key.pem")
	text, err := home.ReadPlain(path, mostFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, home.Wrap(path, err)
	}
	if err == nil {
		cert, key, err := parsePair(text)
		if err != nil {
			return nil, nil, &home.Error{Path: path, Reason: err.Error(), Remedy: "take it away, and a new one is made", Err: err}
		}
		if by == nil && now.Before(cert.NotAfter) || by != nil && cert.CheckSignatureFrom(by) == nil && now.Before(cert.NotAfter.AddDate(0, 0, -anewDays)) && slices.Equal(cert.DNSNames, dnsNames(names)) {
			return cert, key, nil
		}
	}
	cert, key, text, err := makePair(what, by, byKey, names, now)
	if err != nil {
		return nil, nil, err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return nil, nil, home.Wrap(s.Folder, err)
	}
	if err := home.Replace(path, text, 0o600); err != nil {
		return nil, nil, home.Wrap(path, err)
	}
	if by == nil {
		public := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert.Raw})
		if err := home.Replace(s.AuthorityFile(), public, 0o644); err != nil {
			return nil, nil, home.Wrap(s.AuthorityFile(), err)
		}
	}
	return cert, key, nil
}

func parsePair(text []byte) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	block, rest := pem.Decode(text)
	keyBlock, _ := pem.Decode(rest)
	if block == nil || keyBlock == nil {
		return nil, nil, errors.New("it holds no certificate with its key")
	}
	cert, err := x509.ParseCertificate(block.Bytes)
	if err != nil {
		return nil, nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(keyBlock.Bytes)
	if err != nil {
		return nil, nil, err
	}
	private, ok := key.(*ecdsa.PrivateKey)
	if public, is := cert.PublicKey.(*ecdsa.PublicKey); !ok || !is || !public.Equal(&private.PublicKey) {
		return nil, nil, errors.New("its key is another's")
	}
	return cert, private, nil
}

// dnsNames are those of some names that are no addresses.
func dnsNames(names []string) []string {
	return slices.DeleteFunc(slices.Clone(names), func(n string) bool { return net.ParseIP(n) != nil })
}

func makePair(what string, by *x509.Certificate, byKey *ecdsa.PrivateKey, names []string, now time.Time) (*x509.Certificate, *ecdsa.PrivateKey, []byte, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 127))
	if err != nil {
		return nil, nil, nil, err
	}
	c := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: "Time Gate " + what}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(0, 0, certDays), DNSNames: dnsNames(names)}
	for _, n := range names {
		if ip := net.ParseIP(n); ip != nil {
			c.IPAddresses = append(c.IPAddresses, ip)
		}
	}
	if by == nil {
		c.NotAfter, c.IsCA, c.BasicConstraintsValid, c.KeyUsage = now.AddDate(authorityYears, 0, 0), true, true, x509.KeyUsageCertSign
		by, byKey = c, key
	} else {
		c.KeyUsage, c.ExtKeyUsage = x509.KeyUsageDigitalSignature, []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}
	}
	der, err := x509.CreateCertificate(rand.Reader, c, by, &key.PublicKey, byKey)
	if err != nil {
		return nil, nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, nil, nil, err
	}
	keyDER, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, nil, err
	}
	var text bytes.Buffer
	for _, b := range []*pem.Block{{Type: "CERTIFICATE", Bytes: der}, {Type: "PRIVATE KEY", Bytes: keyDER}} {
		if err := pem.Encode(&text, b); err != nil {
			return nil, nil, nil, fmt.Errorf("%s: %w", what, err)
		}
	}
	return cert, key, text.Bytes(), nil
}
