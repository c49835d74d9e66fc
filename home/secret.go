package home

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"path/filepath"
	"strconv"
)

// Secret is what only the keeper of a home knows. From it come the marks of
// runs, which nobody can guess who was not told.
type Secret []byte

// secretSize is in bytes.
const secretSize = 32

// Secret returns the home's secret, and makes it where there is none.
func (h Home) Secret() (Secret, error) {
	path := filepath.Join(h.State, "secret")
	key, err := ReadPlain(path, secretSize)
	if err == nil && len(key) == secretSize {
		return key, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, Wrap(path, err)
	}
	key = make([]byte, secretSize)
	rand.Read(key)
	if err := Replace(path, key, 0o600); err != nil {
		return nil, Wrap(path, err)
	}
	return key, nil
}

// Mark is the mark of a run: its processes carry it in their environment, by
// which they are found again.
func (s Secret) Mark(run int64) string {
	mac := hmac.New(sha256.New, s)
	mac.Write([]byte("run " + strconv.FormatInt(run, 10)))
	return hex.EncodeToString(mac.Sum(nil)[:16])
}
