// Package estate is what many workstations are given together, and what they tell of it:
// bundles of gates, the waves in which they come, and reports. It reaches no network and
// trusts nobody who carries a message: what is not signed by a key that the reader knows is
// not looked at.
package estate

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Purpose is what a sealed message is for. It is part of what is signed, so that a message
// for one purpose is worth nothing for another.
type Purpose string

// The purposes.
const (
	ForBundle  Purpose = "bundle"  // a [Manifest] and its files
	ForRelease Purpose = "release" // a [Release]
	ForReport  Purpose = "report"  // a [Report]
	ForJoining Purpose = "joining" // a [Joining]
)

// sealMark begins every sealed message. Behind it come the number of signatures in a byte,
// each signature with its key, and the body.
const sealMark = "timegate seal 1\n"

const (
	mostSigners = 16
	signerSize  = ed25519.PublicKeySize + ed25519.SignatureSize
)

// MostBytes is how large a sealed message may be.
const MostBytes = 8 << 20

// A SealError says why a sealed message is not looked at.
type SealError struct{ Problem string }

func (e *SealError) Error() string { return e.Problem }

// signed is what a signature (Ed25519, RFC 8032) is over.
func signed(purpose Purpose, body []byte) []byte {
	return slices.Concat([]byte("timegate "+purpose+"\n"), body)
}

// Seal signs a body.
func Seal(purpose Purpose, body []byte, keys ...ed25519.PrivateKey) ([]byte, error) {
	if len(keys) == 0 || len(keys) > mostSigners {
		return nil, fmt.Errorf("a message is signed by 1 to %d keys", mostSigners)
	}
	out := append([]byte(sealMark), byte(len(keys)))
	text := signed(purpose, body)
	for _, key := range keys {
		public, ok := key.Public().(ed25519.PublicKey)
		if !ok {
			return nil, errors.New("a key is no Ed25519 key")
		}
		out = append(out, public...)
		out = append(out, ed25519.Sign(key, text)...)
	}
	if out = append(out, body...); len(out) > MostBytes {
		return nil, &SealError{fmt.Sprintf("it has %d bytes; the most is %d", len(out), MostBytes)}
	}
	return out, nil
}

// Unseal returns the body of a sealed message that at least so many of some keys have
// signed, and which. Nothing of the body is looked at before. Its error is a [*SealError].
func Unseal(purpose Purpose, raw []byte, trusted []ed25519.PublicKey, need int) (body []byte, signers []ed25519.PublicKey, err error) {
	head, body, err := split(raw)
	if err != nil {
		return nil, nil, err
	}
	text := signed(purpose, body)
	for one := range slices.Chunk(head, signerSize) {
		key := ed25519.PublicKey(one[:ed25519.PublicKeySize])
		known := slices.ContainsFunc(trusted, func(k ed25519.PublicKey) bool { return k.Equal(key) })
		twice := slices.ContainsFunc(signers, func(k ed25519.PublicKey) bool { return k.Equal(key) })
		if known && !twice && ed25519.Verify(key, text, one[ed25519.PublicKeySize:]) {
			signers = append(signers, key)
		}
	}
	switch need = max(need, 1); {
	case len(signers) == 0:
		return nil, nil, &SealError{"no key that is trusted here has signed it"}
	case len(signers) < need:
		return nil, nil, &SealError{fmt.Sprintf("%d of the keys that are trusted here have signed it, and %d must", len(signers), need)}
	}
	return body, signers, nil
}

// Signed returns the body of a sealed message and whose signatures hold, whether or not somebody
// trusts them.
func Signed(purpose Purpose, raw []byte) (body []byte, signers []ed25519.PublicKey, err error) {
	head, _, err := split(raw)
	if err != nil {
		return nil, nil, err
	}
	var all []ed25519.PublicKey
	for one := range slices.Chunk(head, signerSize) {
		all = append(all, ed25519.PublicKey(one[:ed25519.PublicKeySize]))
	}
	return Unseal(purpose, raw, all, 1)
}

// SignToo adds the signature of a key to a sealed message.
func SignToo(purpose Purpose, raw []byte, key ed25519.PrivateKey) ([]byte, error) {
	body, signers, err := Signed(purpose, raw)
	if err != nil {
		return nil, err
	}
	public, ok := key.Public().(ed25519.PublicKey)
	switch {
	case !ok:
		return nil, errors.New("a key is no Ed25519 key")
	case slices.ContainsFunc(signers, func(k ed25519.PublicKey) bool { return k.Equal(public) }):
		return nil, &SealError{"this key has signed it already"}
	}
	head, _, err := split(raw)
	if err != nil {
		return nil, err
	}
	n := len(head)/signerSize + 1
	if n > mostSigners || len(raw)+signerSize > MostBytes {
		return nil, &SealError{fmt.Sprintf("a message is signed by 1 to %d keys, and has at most %d bytes", mostSigners, MostBytes)}
	}
	return slices.Concat([]byte(sealMark), []byte{byte(n)}, head, public, ed25519.Sign(key, signed(purpose, body)), body), nil
}

// split parts a sealed message into its signatures and its body, and checks none of them.
func split(raw []byte) (head, body []byte, err error) {
	if len(raw) > MostBytes {
		return nil, nil, &SealError{fmt.Sprintf("it has %d bytes; the most is %d", len(raw), MostBytes)}
	}
	rest, ok := bytes.CutPrefix(raw, []byte(sealMark))
	if !ok || len(rest) == 0 {
		return nil, nil, &SealError{"it is no sealed message"}
	}
	n := int(rest[0])
	if rest = rest[1:]; n == 0 || n > mostSigners || len(rest) < n*signerSize {
		return nil, nil, &SealError{"it is no whole sealed message"}
	}
	return rest[:n*signerSize], rest[n*signerSize:], nil
}

// Checked is what is remembered of a message that [Unseal] has returned the body of, for one
// key: to check a signature takes long, and a message that is the same is as good.
type Checked [sha256.Size]byte

// UnsealAgain is [Unseal] for one key, without a look at the signature where the message is
// the one that is remembered.
func UnsealAgain(purpose Purpose, raw []byte, key ed25519.PublicKey, known Checked) (body []byte, now Checked, err error) {
	if now = sha256.Sum256(slices.Concat([]byte(purpose+"\n"), key, raw)); now == known {
		_, body, err = split(raw)
		return body, now, err
	}
	body, _, err = Unseal(purpose, raw, []ed25519.PublicKey{key}, 1)
	return body, now, err
}

// Fingerprint is a key in a form that people compare: the first 20 bytes of its SHA-256, in
// groups.
func Fingerprint(key ed25519.PublicKey) string {
	const size, group = 20, 4
	sum := sha256.Sum256(key)
	var groups []string
	for part := range slices.Chunk([]byte(hex.EncodeToString(sum[:size])), group) {
		groups = append(groups, string(part))
	}
	return strings.Join(groups, "-")
}
