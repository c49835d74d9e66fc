package keeper

import (
	"net/http"

	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/journal"
	"timegate/workstation"
)

// seenBy leaves of a status what a caller may see.
func (s Status) seenBy(who caller, files map[string]File) Status {
	if who.free {
		return s
	}
	s.Next, s.Running, s.Broken, s.Facts, s.Troubles = nil, 0, gate.Findings{}, engine.Facts{}, []workstation.Trouble{}
	for name, g := range s.Gates {
		if !who.sees(files[name].Gate) {
			delete(s.Gates, name)
			continue
		}
		s.Running += len(g.Running)
		if g.Next != nil && (s.Next == nil || g.Next.Before(*s.Next)) {
			s.Next = g.Next
		}
	}
	return s
}

// showGates tells the texts of the gates that a caller may see.
func (k *Keeper) showGates(w http.ResponseWriter, r *http.Request, who caller) {
	var names []string
	env := Env(k.ws.Zone(), k.ws.Host())
	if !k.ask(w, r, func() {
		for name, f := range k.files {
			if who.sees(f.Gate) {
				names = append(names, name)
			}
		}
	}) {
		return
	}
	texts := map[string]string{}
	for _, name := range names {
		// The file may have become somebody else's just now.
		if f := ReadFile(k.home, name, env); who.sees(f.Gate) {
			texts[name] = f.Text
		}
	}
	send(w, texts)
}

// showRecords tells what is recorded of what a caller may see. It reads the
// journal by itself, so that a long answer keeps the keeper from nothing.
func (k *Keeper) showRecords(w http.ResponseWriter, r *http.Request, who caller) {
	q, ok := decode[question](w, r)
	if !ok {
		return
	}
	open := func() (*journal.Journal, error) { return journal.OpenViewer(k.home.Journal(), who.account) }
	if who.free {
		open = func() (*journal.Journal, error) { return journal.OpenReader(k.home.Journal()) }
	}
	j, err := open()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer j.Close()
	answer, err := replyTo(q, written{j, k.home})
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	send(w, answer)
}
