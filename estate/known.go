package estate

import (
	"crypto/ed25519"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"timegate/home"
)

// Known is what an administrator must not forget, whatever the broker shows: the workstations
// that were let in, with their keys, and the latest numbers that were given.
type Known struct {
	Hosts  map[string]ed25519.PublicKey `json:"hosts"`
	Number int64                        `json:"number"` // of a bundle
	Order  int64                        `json:"order"`  // of a release
	Trial  int64                        `json:"trial"`  // of a bundle that was only tried out
	// The latest bundle and its release, sealed: a broker that has died may have forgotten
	// them.
	Bundle  []byte `json:"bundle,omitempty"`
	Release []byte `json:"release,omitempty"`
	// What was checked of each workstation's latest report.
	Checked map[string][]byte `json:"checked,omitempty"`
	// Told is the number of each workstation's latest report that was seen.
	Told map[string]int64 `json:"told,omitempty"`
	// Lost is why this is an older copy of what was known, "" where it is none. What is kept next
	// takes the place of the damaged one, which stays under another name.
	Lost string `json:"-"`
}

// learn learns what must not be forgotten. The caller holds the lock.
func (d *Desk) learn(what func(k *Known)) {
	what(d.known)
	d.learned = append(d.learned, what)
}

// Keep keeps what was learned, beside what others at the same desk have meanwhile. Where it is
// only what need not be checked again, nothing is lost if that cannot be kept.
func (d *Desk) Keep(files Files) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.learned)+len(d.checked)+len(d.told) == 0 {
		return nil
	}
	err := files.learn(func(k *Known) {
		for _, what := range d.learned {
			what(k)
		}
		if k.Checked == nil {
			k.Checked = map[string][]byte{}
		}
		for host, c := range d.checked {
			k.Checked[host] = c[:]
		}
		if k.Told == nil {
			k.Told = map[string]int64{}
		}
		for host, n := range d.told {
			if _, in := k.Hosts[host]; in {
				k.Told[host] = max(k.Told[host], n)
			}
		}
	})
	switch {
	case err == nil:
		d.learned = nil
		clear(d.checked)
		clear(d.told)
	case len(d.learned) == 0:
		return nil
	}
	return err
}

// The files of what an administrator knows, of what was known before it was changed last, and of
// one that could not be read.
const (
	knownFile   = "known.json"
	beforeFile  = "known.before.json"
	damagedFile = "known.damaged.json"
)

// Known reads what an administrator knows; where that is damaged or gone, what was known before
// it was changed the last time.
func (f Files) Known() (*Known, error) {
	k := &Known{}
	_, err := os.Lstat(filepath.Join(folder(f.Home), knownFile))
	gone := errors.Is(err, fs.ErrNotExist)
	if err = f.load(knownFile, k); err == nil && !gone {
		return k, nil
	}
	older := &Known{}
	if _, there := os.Lstat(filepath.Join(folder(f.Home), beforeFile)); there != nil || f.load(beforeFile, older) != nil {
		return k, err
	}
	if older.Lost = "it is gone"; err != nil {
		older.Lost = err.Error()
	}
	return older, nil
}

// keepBefore keeps what was known, before it is changed. One that was damaged is put aside.
func (f Files) keepBefore(was *Known) error {
	at := func(name string) string { return filepath.Join(folder(f.Home), name) }
	var err error
	if was.Lost != "" {
		err = os.Rename(at(knownFile), at(damagedFile))
	} else if err = os.Remove(at(beforeFile)); err == nil || errors.Is(err, fs.ErrNotExist) {
		err = os.Link(at(knownFile), at(beforeFile)) // it is replaced whole, and never written to
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// deskPatience is how long another command at the same desk may take to keep what it knows.
const deskPatience = 5 * time.Second

// learn changes what an administrator knows, one command at a time.
func (f Files) learn(change func(k *Known)) error {
	began := time.Now()
	unlock, err := f.Home.LockDesk()
	for time.Since(began) < deskPatience {
		if _, busy := errors.AsType[*home.BusyError](err); !busy {
			break
		}
		time.Sleep(20 * time.Millisecond)
		unlock, err = f.Home.LockDesk()
	}
	if err != nil {
		return err
	}
	defer unlock()
	k, err := f.Known()
	if err != nil {
		return err
	}
	if err := f.keepBefore(k); err != nil {
		return err
	}
	change(k)
	return f.save(knownFile, k)
}
