package control

import (
	"testing"

	"timegate/workstation/peer"
)

// TestGuard: an account gets so many connections and no more, whatever others
// have.
func TestGuard(t *testing.T) {
	g := &guard{uses: map[int]*use{}}
	for i := range mostCalls + 5 {
		if u := g.admit(caller{uid: 61001}); (u != nil) != (i < mostCalls) {
			t.Errorf("connection %d: admitted %v", i+1, u != nil)
		}
	}
	if g.admit(caller{uid: 61002}) == nil || g.admit(caller{uid: 0, free: true}) == nil || g.admit(caller{uid: peer.Unknown}) != nil {
		t.Error("one account's crowd counts for another, or an unknown one is let in")
	}
}
