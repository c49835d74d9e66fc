package control

import (
	"net/http"

	"timegate/core/gate"
	"timegate/gates"
)

// visibleTo leaves of a status what a caller may see.
func (s Status) visibleTo(who caller, files map[string]gates.File) Status {
	if who.free {
		return s
	}
	s.Next, s.Running, s.Broken, s.Facts, s.Troubles = nil, 0, gate.Findings{}, Facts{}, []Trouble{}
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
func (s *Server) showGates(w http.ResponseWriter, r *http.Request, who caller) {
	files, err := s.keeper.Files(r.Context())
	if err != nil {
		answer(w, nil, err)
		return
	}
	texts := map[string]string{}
	for name, f := range files {
		if !who.sees(f.Gate) {
			continue
		}
		// The file may have become somebody else's just now.
		if f := s.keeper.ReadFile(name); who.sees(f.Gate) {
			texts[name] = f.Whole
		}
	}
	send(w, texts)
}

// showRecords tells what is recorded of what a caller may see. It reads the
// journal by itself, so that a long answer keeps the keeper from nothing.
func (s *Server) showRecords(w http.ResponseWriter, r *http.Request, who caller) {
	q, ok := decode[question](w, r)
	if !ok {
		return
	}
	j, err := s.keeper.Journal(who.account, who.free)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer j.Close()
	reply, err := replyTo(q, opened{j, s.home})
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	send(w, reply)
}
