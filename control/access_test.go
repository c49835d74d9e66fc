package control

import (
	"testing"

	"timegate/workstation/peer"
)

// TestGuard: an account gets so many connections and no more, whatever others
// have; however many numbers speak for it, root gets through.
func TestGuard(t *testing.T) {
	g := &guard{uses: map[int]*use{}}
	var all []*use
	for i := range mostCalls + 5 {
		u := g.admit(caller{uid: 61001})
		if (u != nil) != (i < mostCalls) {
			t.Errorf("connection %d: admitted %v", i+1, u != nil)
		}
		if u != nil {
			all = append(all, u)
		}
	}
	if g.admit(caller{uid: 61002}) == nil || g.admit(caller{uid: 0, free: true}) == nil || g.admit(caller{uid: peer.Unknown}) != nil {
		t.Error("one account's crowd counts for another, or an unknown one is let in")
	}
	admitted := len(all) + 1
	for uid := 100_000; uid < 100_000+10*mostOthers; uid++ {
		if g.admit(caller{uid: uid}) != nil {
			admitted++
		}
	}
	if admitted != mostOthers {
		t.Errorf("%d connections of many numbers, want %d", admitted, mostOthers)
	}
	if g.admit(caller{uid: 0, free: true}) == nil {
		t.Error("root does not get through a crowd")
	}
	for _, u := range all {
		g.leave(u, false)
	}
	if g.admit(caller{uid: 200_000}) == nil {
		t.Error("room that was left is not given again")
	}
}
