package hub

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"timegate/core/estate"
	"timegate/home"
)

// Store is a folder in which a hub keeps what it must not forget.
type Store struct{ Folder string }

// Member is somebody who may use a hub.
type Member struct {
	Password string `json:"password"` // the SHA-256 of it: it was made by chance, and cannot be guessed
	Desk     bool   `json:"desk"`     // an administrator
}

const mostFile = 1 << 20

func (s Store) members() string { return filepath.Join(s.Folder, "members.json") }

// Members returns who may use the hub.
func (s Store) Members() (map[string]Member, error) {
	out := map[string]Member{}
	data, err := home.ReadPlain(s.members(), mostFile)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &out)
	}
	if err != nil {
		return nil, home.Wrap(s.members(), err)
	}
	return out, nil
}

// Admit lets somebody use the hub, with a new password, which is returned and not kept.
func (s Store) Admit(name string, desk bool) (password string, err error) {
	if !estate.ValidHost(name) {
		return "", fmt.Errorf("%q is no name: letters, digits, hyphens and dots", name)
	}
	all, err := s.Members()
	if err != nil {
		return "", err
	}
	password = rand.Text()
	sum := sha256.Sum256([]byte(password))
	all[name] = Member{hex.EncodeToString(sum[:]), desk}
	return password, s.write(all)
}

// Expel lets somebody use the hub no longer; it reports whether there was somebody.
func (s Store) Expel(name string) (bool, error) {
	all, err := s.Members()
	if _, there := all[name]; err != nil || !there {
		return false, err
	}
	delete(all, name)
	return true, s.write(all)
}

func (s Store) write(all map[string]Member) error {
	data, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return home.Wrap(s.Folder, err)
	}
	if err := home.Replace(s.members(), append(data, '\n'), 0o600); err != nil {
		return home.Wrap(s.members(), err)
	}
	return nil
}

// keptFile is a retained message on the disk.
type keptFile struct {
	Topic   string `json:"topic"`
	Payload []byte `json:"payload"`
}

func (s Store) kept() string { return filepath.Join(s.Folder, "kept") }

func (s Store) keptPath(topic string) string {
	sum := sha256.Sum256([]byte(topic))
	return filepath.Join(s.kept(), hex.EncodeToString(sum[:])+".json")
}

// Keep keeps a retained message; an empty one takes away what was kept.
func (s Store) Keep(topic string, payload []byte) error {
	path := s.keptPath(topic)
	if len(payload) == 0 {
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return home.Wrap(path, err)
		}
		return nil
	}
	if err := os.MkdirAll(s.kept(), 0o700); err != nil {
		return home.Wrap(s.kept(), err)
	}
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		if entries, err := os.ReadDir(s.kept()); err == nil && len(entries) >= maxOnDisk {
			return fmt.Errorf("%s holds %d messages already", s.kept(), len(entries))
		}
	}
	data, err := json.Marshal(keptFile{topic, payload})
	if err != nil {
		return err
	}
	if err := home.Replace(path, data, 0o600); err != nil {
		return home.Wrap(path, err)
	}
	return nil
}

// Kept returns the retained messages, by topic. One that cannot be read is left out.
func (s Store) Kept() (map[string][]byte, error) {
	entries, err := os.ReadDir(s.kept())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, home.Wrap(s.kept(), err)
	}
	out := map[string][]byte{}
	for _, e := range entries {
		data, err := home.ReadPlain(filepath.Join(s.kept(), e.Name()), 2*estate.MostBytes)
		var k keptFile
		if err != nil || json.Unmarshal(data, &k) != nil || s.keptPath(k.Topic) != filepath.Join(s.kept(), e.Name()) {
			continue
		}
		out[k.Topic] = k.Payload
	}
	return out, nil
}
