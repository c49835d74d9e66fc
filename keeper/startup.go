package keeper

import (
	"os"
	"path/filepath"
	"time"

	"timegate/startup"
)

// StartupLook is how a keeper looks at what else starts on the machine.
type StartupLook struct {
	Folders []string // in which something new appears
	// Look returns what has changed since the last look. It may block.
	Look func() ([]startup.Change, error)
}

// startupQuiet is how long an installer is left to do its work before one looks.
const startupQuiet = 5 * time.Second

// watchStartup begins to look at what else starts here, or ends that, as the settings
// have it.
func (k *Keeper) watchStartup() {
	wanted := k.startup != nil && k.settings.TellStartup
	if !wanted {
		k.startups.close()
		k.startups = nil
		return
	}
	if k.startups != nil {
		return
	}
	var folders []string
	for _, f := range k.startup.Folders {
		if info, err := os.Stat(f); err == nil && info.IsDir() {
			folders = append(folders, f)
		} else if _, err := os.Stat(filepath.Dir(f)); err == nil {
			folders = append(folders, filepath.Dir(f)) // in which it may be made
		}
	}
	if len(folders) == 0 {
		return
	}
	w, err := newFolderWatch(folders, k.startupQuiet, func(string) bool { return true })
	if err != nil {
		k.log.Warn("what else starts here cannot be watched", "error", err)
		return
	}
	k.startups = w
	go w.run()
	k.lookAtStartup() // what came while no keeper ran
}

// lookAtStartup lets a worker look, and tells what is new.
func (k *Keeper) lookAtStartup() {
	go func() {
		changes, err := k.startup.Look()
		k.post(input{do: func() {
			if err != nil {
				k.log.Warn("what else starts here cannot be looked at", "error", err)
			}
			for _, c := range changes {
				k.log.Warn("startup: "+c.Text(), "see", "timegate startup --changed")
				k.tellMachine("startup: " + c.Text())
			}
		}})
	}()
}
