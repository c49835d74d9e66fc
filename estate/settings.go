package estate

import (
	"bytes"
	"cmp"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"timegate/core/estate"
	"timegate/gates"
	"timegate/home"
)

// Settings are how a home belongs to an estate. They lie in estate.toml, beside the folder
// of its gates.
type Settings struct {
	Broker       string   `toml:"broker" comment:"mqtts://HOST[:PORT]; mqtt:// on this machine alone"`
	Shop         string   `toml:"shop"`
	Name         string   `toml:"name,omitempty" comment:"of this workstation in the estate; left out: the machine's"`
	Groups       []string `toml:"groups" comment:"of workstations, that a bundle can be for"`
	Trust        []string `toml:"trust" comment:"public keys: nothing is taken that none of them has signed"`
	Need         int      `toml:"need" comment:"how many of them must have signed a bundle, or a request"`
	May          []string `toml:"may" comment:"what can be asked of this workstation: open, stop, pause, send, output, details"`
	Desk         bool     `toml:"desk" comment:"true: this home looks and publishes, and takes no bundles"`
	Authority    string   `toml:"authority,omitempty" comment:"a file (PEM): who has signed the broker's certificate"`
	Certificate  string   `toml:"certificate,omitempty" comment:"a file (PEM): this workstation's, for the broker"`
	Key          string   `toml:"key,omitempty" comment:"a file (PEM): the certificate's key"`
	User         string   `toml:"user,omitempty"`
	PasswordFile string   `toml:"password_file,omitempty"`
}

// ErrNone is returned where a home belongs to no estate.
var ErrNone = errors.New("this workstation belongs to no estate; timegate estate join lets it in")

// File is where a home's settings lie, and Folder where the rest does.
func File(h home.Home) string { return filepath.Join(filepath.Dir(h.Gates), "estate.toml") }

func folder(h home.Home) string { return filepath.Join(h.State, "estate") }

const mostFile = 1 << 20

// ReadSettings reads a home's settings; [ErrNone] where it has none.
func ReadSettings(h home.Home) (*Settings, error) {
	data, err := home.ReadPlain(File(h), mostFile)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	if err != nil {
		return nil, home.Wrap(File(h), err)
	}
	s := &Settings{Need: 1}
	if err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(s); err != nil {
		line, column, problem := 1, 1, "it cannot be read: "+err.Error()
		if at, ok := errors.AsType[*toml.DecodeError](err); ok {
			line, column = at.Position()
		}
		if strict, ok := errors.AsType[*toml.StrictMissingError](err); ok && len(strict.Errors) > 0 {
			line, column = strict.Errors[0].Position()
			problem = fmt.Sprintf("there is no key %q here", strings.Join(strict.Errors[0].Key(), "."))
		}
		return nil, &home.SettingsError{File: File(h), Line: line, Column: column, Problem: problem}
	}
	if err := s.check(); err != nil {
		return nil, &home.SettingsError{File: File(h), Problem: err.Error()}
	}
	return s, nil
}

// check reports what is wrong with settings.
func (s *Settings) check() error {
	keys, err := s.Keys()
	if err == nil && (s.Need < 1 || s.Need > len(keys)) {
		err = fmt.Errorf("%d keys must have signed, and %d are trusted", s.Need, len(keys))
	}
	if err == nil && s.Name != "" && !estate.ValidHost(s.Name) {
		err = fmt.Errorf("%q is no name of a workstation: letters, digits, hyphens and dots", s.Name)
	}
	for _, g := range s.Groups {
		if err == nil && !estate.ValidShop(g) {
			err = fmt.Errorf("%q is no name of a group: small letters, digits and hyphens", g)
		}
	}
	for _, p := range s.May {
		if err == nil && !slices.Contains(estate.Permissions(), p) {
			err = fmt.Errorf("%q cannot be asked for: %s", p, strings.Join(estate.Permissions(), ", "))
		}
	}
	if err == nil && len(s.Groups) > estate.MostGroups {
		err = fmt.Errorf("a workstation is in %d groups at most", estate.MostGroups)
	}
	return err
}

// Keys returns the keys that are trusted.
func (s *Settings) Keys() ([]ed25519.PublicKey, error) {
	var out []ed25519.PublicKey
	for _, text := range s.Trust {
		der, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return nil, fmt.Errorf("%.80q is no key", text)
		}
		key, err := x509.ParsePKIXPublicKey(der)
		public, ok := key.(ed25519.PublicKey)
		if err != nil || !ok {
			return nil, fmt.Errorf("%.80q is no Ed25519 key", text)
		}
		out = append(out, public)
	}
	return out, nil
}

// KeyText is a key as settings have it.
func KeyText(key ed25519.PublicKey) (string, error) {
	der, err := x509.MarshalPKIXPublicKey(key)
	return base64.StdEncoding.EncodeToString(der), err
}

// Write makes settings those of a home.
func (s *Settings) Write(h home.Home) error {
	if err := s.check(); err != nil {
		return err
	}
	data, err := toml.Marshal(s)
	if err != nil {
		return err
	}
	if err := h.Prepare(); err != nil {
		return err
	}
	if err := home.Replace(File(h), data, 0o600); err != nil {
		return home.Wrap(File(h), err)
	}
	return nil
}

// NameOn returns the name in the estate of what belongs to it on a machine.
func (s *Settings) NameOn(machine string) string { return cmp.Or(s.Name, machine) }

// BrokerOf reads the files that settings name, and says how the broker is reached from a
// machine.
func (s *Settings) BrokerOf(machine string) (Broker, error) {
	host := s.NameOn(machine)
	b := Broker{URL: s.Broker, Shop: s.Shop, User: s.User}
	for _, f := range []struct {
		path string
		to   *[]byte
	}{{s.Authority, &b.Authority}, {s.Certificate, &b.Cert}, {s.Key, &b.Key}, {s.PasswordFile, &b.Password}} {
		if f.path == "" {
			continue
		}
		data, err := home.ReadPlain(f.path, mostFile)
		if err != nil {
			return b, home.Wrap(f.path, err)
		}
		*f.to = data
	}
	b.Password = bytes.TrimRight(b.Password, "\r\n")
	if !s.Desk {
		// The session is found again by an identifier that whoever does not know the password, or
		// the key, cannot tell: who comes with it takes the session.
		secret := hmac.New(sha256.New, slices.Concat(b.Password, b.Key))
		io.WriteString(secret, "the session of "+host+" in "+s.Shop)
		b.Host, b.Client, b.Topics = host, clientOf(cmp.Or(b.User, host), hex.EncodeToString(secret.Sum(nil)[:16])), stationTopics(host)
	}
	return b, b.Check()
}

// HostKey returns the key with which a workstation signs what it tells; it is made where there
// is none.
func HostKey(h home.Home) (ed25519.PrivateKey, error) {
	path := filepath.Join(folder(h), "host.key")
	text, err := home.ReadPlain(path, mostFile)
	if errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(folder(h), 0o700); err != nil {
			return nil, home.Wrap(folder(h), err)
		}
		if text, _, err = gates.NewKey(); err != nil {
			return nil, err
		}
		if err := home.Replace(path, text, 0o600); err != nil {
			return nil, home.Wrap(path, err)
		}
	} else if err != nil {
		return nil, home.Wrap(path, err)
	}
	key, err := gates.PrivateKey(text)
	if err != nil {
		return nil, &home.Error{Path: path, Reason: err.Error(), Remedy: "take it away, and let the workstation be let in anew", Err: err}
	}
	return key, nil
}

// Files keeps in a home what a workstation, or an administrator, must not forget.
type Files struct{ Home home.Home }

// Load implements [Store].
func (f Files) Load(s *State) error { return f.load("state.json", s) }

// Save implements [Store].
func (f Files) Save(s *State) error { return f.save("state.json", s) }

// Told implements [Store].
func (f Files) Told(report []byte) error { return f.put("told.json", report) }

// Keep implements [Store].
func (f Files) Keep(name string, bundle []byte) error {
	if bundle == nil {
		err := os.Remove(filepath.Join(folder(f.Home), name+".bundle"))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	return f.put(name+".bundle", bundle)
}

// Kept implements [Store].
func (f Files) Kept(name string) ([]byte, error) {
	data, err := home.ReadPlain(filepath.Join(folder(f.Home), name+".bundle"), estate.MostBytes)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return data, err
}

// LastTold returns the last report, as it was told; [fs.ErrNotExist] where there is none.
func (f Files) LastTold() ([]byte, error) {
	return home.ReadPlain(filepath.Join(folder(f.Home), "told.json"), mostFile)
}

// mostState is how large what is kept may be, in bytes: two sealed bundles, written with more
// letters, and what else there is.
const mostState = 4 * estate.MostBytes

func (f Files) load(name string, into any) error {
	path := filepath.Join(folder(f.Home), name)
	data, err := home.ReadPlain(path, mostState)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = json.Unmarshal(data, into)
	}
	if err != nil {
		return home.Wrap(path, err)
	}
	return nil
}

func (f Files) save(name string, what any) error {
	data, err := json.Marshal(what)
	if err != nil {
		return err
	}
	return f.put(name, data)
}

func (f Files) put(name string, data []byte) error {
	if err := os.MkdirAll(folder(f.Home), 0o700); err != nil {
		return home.Wrap(folder(f.Home), err)
	}
	path := filepath.Join(folder(f.Home), name)
	if err := home.Replace(path, data, 0o600); err != nil {
		return home.Wrap(path, err)
	}
	return nil
}

// Forget takes away that a home belongs to an estate. Its gates stay.
func Forget(h home.Home) error {
	return errors.Join(os.RemoveAll(folder(h)), os.Remove(File(h)))
}
