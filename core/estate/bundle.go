package estate

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"timegate/core/gate"
)

// Manifest says what a bundle is, and for whom.
type Manifest struct {
	Shop    string            `json:"shop"`
	Number  int64             `json:"number"` // of the shop's bundles; it only grows
	Made    time.Time         `json:"made"`
	Expires time.Time         `json:"expires"` // no workstation takes it from then on
	Hosts   []string          `json:"hosts"`   // patterns of names ([path.Match]); none for all
	Groups  []string          `json:"groups"`  // of workstations; none for all
	Files   map[string]string `json:"files"`   // the SHA-256 of each, in hexadecimal digits, by its path
	Plan    Plan              `json:"plan"`    // how it comes to the workstations
	// Back is the number of a bundle that each workstation that has it takes back, for what it
	// had before; such a bundle holds no files. 0 for none.
	Back int64 `json:"back,omitempty"`
}

// Bundle is a folder of gates for many workstations.
type Bundle struct {
	Manifest
	Content map[string][]byte // of the files, by path
}

// What a bundle may hold.
const (
	mostFiles    = 20_000
	mostUnpacked = 64 << 20
	mostManifest = 4 << 20
	manifestPath = "manifest.json"
)

// A MessageError says why a bundle is not taken, or a request not done: a code that reports
// and answers carry, and what is wrong.
type MessageError struct{ Code, Problem string }

func (e *MessageError) Error() string { return e.Problem }

// The codes of a [MessageError].
const (
	Damaged   = "damaged"    // it is not what its manifest says, or no bundle at all
	OtherShop = "other-shop" // it is another shop's
	OldNumber = "old-number" // one with this number, or a later one, was taken already
	Expired   = "expired"
	NotForUs  = "not-for-us" // it is for other workstations

	NotKept  = "not-kept" // what was there before is not known here any more
	Conflict = "conflict" // a gate of the name was made on the workstation, and the bundle does not say over = true

	NotPermitted = "not-permitted" // the workstation's own settings do not permit it
	Twice        = "twice"         // the request was taken already
	Busy         = "busy"          // too much is asked for at once
)

func damaged(format string, args ...any) error {
	return &MessageError{Damaged, fmt.Sprintf(format, args...)}
}

// ValidShop reports whether a text can be the name of a shop, or of a group: it stands in
// topics, paths and tables.
func ValidShop(name string) bool { return gate.ValidName(name) }

// ValidPath reports whether a file of a path may be in a bundle: a gate, the values of names,
// a script, or a day that is rehearsed.
func ValidPath(name string) bool {
	dir, base := path.Split(name)
	if !fs.ValidPath(name) || strings.ContainsFunc(name, func(r rune) bool { return r < ' ' || r == 127 || r == '\\' }) || strings.HasPrefix(base, ".") {
		return false
	}
	stem, isTOML := strings.CutSuffix(base, ".toml")
	switch dir {
	case "":
		return name == "vars.toml"
	case "gates/", "days/":
		return isTOML && gate.ValidName(stem)
	case "scripts/":
		return true
	}
	return false
}

// DayOf returns the name of the day that a file of a bundle is, and false where it is none.
func DayOf(name string) (string, bool) {
	day, ok := strings.CutPrefix(strings.TrimSuffix(name, ".toml"), "days/")
	return day, ok && ValidPath(name)
}

// Pack writes a bundle as the body of a sealed message: an archive, compressed, which is the
// same for the same content. It fills in the manifest's list of files.
func (b *Bundle) Pack() ([]byte, error) {
	b.Files = map[string]string{}
	for name, data := range b.Content {
		if !ValidPath(name) {
			return nil, damaged("%q has no place in a bundle", name)
		}
		b.Files[name] = sum(data)
	}
	head, err := json.Marshal(&b.Manifest)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	t := tar.NewWriter(z)
	put := func(name string, data []byte) error {
		err := t.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Size: int64(len(data)), Mode: 0o644, Format: tar.FormatPAX})
		if err == nil {
			_, err = t.Write(data)
		}
		return err
	}
	if err := put(manifestPath, head); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(b.Content)) {
		if err := put(name, b.Content[name]); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Digest is what tells a bundle from all others, of its body as it is sealed.
func Digest(body []byte) string { return sum(body) }

func sum(data []byte) string {
	s := sha256.Sum256(data)
	return hex.EncodeToString(s[:])
}

// Unpack reads the body of a sealed bundle, which must be exactly what its manifest says. Its
// error is a [*MessageError].
func Unpack(body []byte) (*Bundle, error) {
	z, err := gzip.NewReader(bytes.NewReader(body))
	if err != nil {
		return nil, damaged("it is no archive: %v", err)
	}
	t := tar.NewReader(io.LimitReader(z, mostUnpacked+1))
	b := &Bundle{Content: map[string][]byte{}}
	total := int64(0)
	for first := true; ; first = false {
		h, err := t.Next()
		if errors.Is(err, io.EOF) && !first {
			break
		}
		if err != nil {
			return nil, damaged("its archive cannot be read: %v", err)
		}
		if total += h.Size; h.Typeflag != tar.TypeReg || h.Size < 0 || total > mostUnpacked || len(b.Content) >= mostFiles {
			return nil, damaged("it holds too much, or what is no file (%.80q)", h.Name)
		}
		if first && (h.Name != manifestPath || h.Size > mostManifest) {
			return nil, damaged("it does not begin with its manifest")
		}
		data, err := io.ReadAll(t)
		if err != nil {
			return nil, damaged("its archive cannot be read: %v", err)
		}
		if first {
			if err := decode(data, &b.Manifest); err != nil {
				return nil, damaged("its manifest cannot be read: %v", err)
			}
			continue
		}
		if err := b.take(h.Name, data); err != nil {
			return nil, err
		}
	}
	if len(b.Content) != len(b.Files) {
		return nil, damaged("%d of the files that its manifest lists are missing", len(b.Files)-len(b.Content))
	}
	return b, b.valid()
}

// take takes a file of an archive.
func (b *Bundle) take(name string, data []byte) error {
	_, twice := b.Content[name]
	switch want := b.Files[name]; {
	case !ValidPath(name):
		return damaged("%.80q has no place in a bundle", name)
	case twice:
		return damaged("%s is in it twice", name)
	case want != sum(data):
		return damaged("%s is not what the manifest lists", name)
	}
	b.Content[name] = data
	return nil
}

// valid reports what is wrong with a manifest.
func (m *Manifest) valid() error {
	switch {
	case !ValidShop(m.Shop):
		return damaged("%.80q is no name of a shop", m.Shop)
	case m.Number < 1:
		return damaged("its number is %d; bundles are counted from 1", m.Number)
	case m.Back < 0 || m.Back >= m.Number || m.Back > 0 && len(m.Files) > 0:
		return damaged("it takes back bundle %d, and has number %d and %d files", m.Back, m.Number, len(m.Files))
	case m.Made.IsZero() || !m.Expires.After(m.Made):
		return damaged("it expires before it was made")
	}
	for _, pattern := range m.Hosts {
		if _, err := path.Match(pattern, ""); err != nil {
			return damaged("%.80q is no pattern of hosts", pattern)
		}
	}
	return m.Plan.valid()
}

// decode reads JSON that a workstation is to do something about: it must be all there is, and
// have no key that is not known, as that could say on which condition.
func decode(data []byte, into any) error { return decodeJSON(data, into, true) }

// decodeTold reads JSON in which a workstation tells something. What a later version tells
// besides is left out.
func decodeTold(data []byte, into any) error { return decodeJSON(data, into, false) }

func decodeJSON(data []byte, into any, strict bool) error {
	d := json.NewDecoder(bytes.NewReader(data))
	if strict {
		d.DisallowUnknownFields()
	}
	if err := d.Decode(into); err != nil {
		return err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows it")
	}
	return nil
}

// Holder is a workstation that could take a bundle.
type Holder struct {
	Shop   string
	Host   string
	Groups []string
	Number int64 // of the latest bundle that it has taken
}

// Refused says why a workstation does not take a bundle at an instant; nil where it does.
// Its error is a [*MessageError].
func (m *Manifest) Refused(by Holder, now time.Time) error {
	refuse := func(code, format string, args ...any) error {
		return &MessageError{code, fmt.Sprintf(format, args...)}
	}
	switch {
	case m.Shop != by.Shop:
		return refuse(OtherShop, "it is for the shop %.80q, and this is %s", m.Shop, by.Shop)
	case m.Number <= by.Number:
		return refuse(OldNumber, "it is number %d, and number %d was taken already", m.Number, by.Number)
	case !now.Before(m.Expires):
		return refuse(Expired, "it has expired at %s", m.Expires.UTC().Format(time.RFC3339))
	case !m.IsFor(by):
		return refuse(NotForUs, "it is for other workstations")
	}
	return nil
}

// IsFor reports whether a bundle is for a workstation, by its name and groups.
func (m *Manifest) IsFor(by Holder) bool {
	matches := func(pattern string) bool {
		ok, err := path.Match(pattern, by.Host)
		return ok && err == nil
	}
	return (len(m.Hosts) == 0 || slices.ContainsFunc(m.Hosts, matches)) &&
		(len(m.Groups) == 0 || slices.ContainsFunc(m.Groups, func(g string) bool { return slices.Contains(by.Groups, g) }))
}

// GateSums returns the gates of a bundle by name, with the SHA-256 of their texts, in
// hexadecimal digits.
func (b *Bundle) GateSums() map[string]string {
	out := map[string]string{}
	for path, text := range b.Content {
		name, ok := strings.CutPrefix(path, "gates/")
		if name, toml := strings.CutSuffix(name, ".toml"); ok && toml && !strings.Contains(name, "/") {
			out[name] = TextSum(text)
		}
	}
	return out
}

// TextSum is the SHA-256 of a text, in hexadecimal digits.
func TextSum(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}
