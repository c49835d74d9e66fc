package gates

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"timegate/home"
)

// Names of what signing a source writes into it.
const (
	manifestName  = "manifest.json"
	signatureName = "manifest.sig"
)

// manifest lists what was signed.
type manifest struct {
	Files map[string]string `json:"files"` // the SHA-256 of each, in hexadecimal digits
}

func (s *Source) manifest() manifest {
	m := manifest{Files: map[string]string{}}
	for rel, f := range s.files {
		sum := sha256.Sum256(f.data)
		m.Files[rel] = hex.EncodeToString(sum[:])
	}
	return m
}

// Sign signs a source (Ed25519, RFC 8032): it writes into the folder a list of what lies
// in it, and the signature of that list.
func (s *Source) Sign(key ed25519.PrivateKey) error {
	data, err := json.MarshalIndent(s.manifest(), "", "  ")
	if err != nil {
		return err
	}
	data = append(data, '\n')
	sig := base64.StdEncoding.EncodeToString(ed25519.Sign(key, data)) + "\n"
	for name, text := range map[string][]byte{manifestName: data, signatureName: []byte(sig)} {
		if err := home.Replace(filepath.Join(s.Dir, name), text, 0o644); err != nil {
			return home.Wrap(filepath.Join(s.Dir, name), err)
		}
	}
	return nil
}

// Verify checks that what was read is what the holder of a key has signed: no more, no
// less, and nothing else. Its error is a [*SourceError].
func (s *Source) Verify(key ed25519.PublicKey) error {
	fault := func(name, problem, remedy string) error {
		return &SourceError{filepath.Join(s.Dir, name), problem, remedy}
	}
	const most = 8 << 20
	data, err := home.ReadPlain(filepath.Join(s.Dir, manifestName), most)
	if err != nil {
		return fault(manifestName, "there is no list of what was signed", `sign the folder: timegate sign `+s.Dir+` --key FILE`)
	}
	text, err := home.ReadPlain(filepath.Join(s.Dir, signatureName), 4096)
	sig, decodeErr := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || decodeErr != nil || !ed25519.Verify(key, data, sig) {
		return fault(signatureName, "it is no signature of the list by this key", "ask who signs it; the list may have been changed")
	}
	var m manifest
	if err := json.Unmarshal(data, &m); err != nil {
		return fault(manifestName, "the list cannot be read: "+err.Error(), "sign the folder again")
	}
	here := s.manifest().Files
	for _, rel := range slices.Sorted(maps.Keys(here)) {
		switch m.Files[rel] {
		case here[rel]:
		case "":
			return fault(rel, "it was not signed", "take it away, or let it be signed")
		default:
			return fault(rel, "it was changed since it was signed", "sign the folder again, if that is meant")
		}
	}
	for _, rel := range slices.Sorted(maps.Keys(m.Files)) {
		if here[rel] == "" {
			return fault(rel, "it was signed, and is not there", "sign the folder again, if that is meant")
		}
	}
	return nil
}

// NewKey makes a key for signing: the private one for a file that only its owner can read
// (PKCS #8, RFC 5958 and 8410, as PEM), and the public one to be given to workstations.
func NewKey() (private, public []byte, err error) {
	pub, priv, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, nil, err
	}
	der, err := x509.MarshalPKCS8PrivateKey(priv)
	if err != nil {
		return nil, nil, err
	}
	pubDER, err := x509.MarshalPKIXPublicKey(pub)
	if err != nil {
		return nil, nil, err
	}
	return pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: pubDER}), nil
}

// errNoKey is for what is no key of the right kind.
var errNoKey = errors.New("it holds no Ed25519 key")

// PrivateKey reads a key for signing.
func PrivateKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errNoKey
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if priv, ok := key.(ed25519.PrivateKey); ok && err == nil {
		return priv, nil
	}
	return nil, errNoKey
}

// PublicKey reads a key against which signatures are checked.
func PublicKey(text []byte) (ed25519.PublicKey, error) {
	block, _ := pem.Decode(text)
	if block == nil {
		return nil, errNoKey
	}
	key, err := x509.ParsePKIXPublicKey(block.Bytes)
	if pub, ok := key.(ed25519.PublicKey); ok && err == nil {
		return pub, nil
	}
	if block.Type == "PRIVATE KEY" {
		return nil, fmt.Errorf("it is the private key, which signs: give the public one (.pub)")
	}
	return nil, errNoKey
}
