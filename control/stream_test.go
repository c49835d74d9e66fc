package control

import (
	"errors"
	"testing"
)

// TestHub: events are held in order, up to a number of them, and publishing
// waits for nobody; who asks for older ones is told so.
func TestHub(t *testing.T) {
	h := NewHub()
	if list, news, err := h.After(7); len(list) != 0 || news == nil || err != nil {
		t.Errorf("of an empty hub: %v, %v", list, err)
	}
	_, news, _ := h.After(0)
	for n := range int64(3 * mostHeld) {
		h.Publish(Item{Number: n + 1})
	}
	select {
	case <-news:
	default:
		t.Error("who waited is not woken")
	}
	last := h.Last()
	for _, tt := range []struct {
		after int64
		want  int
	}{{last, 0}, {last - 1, 1}, {last - mostHeld, mostHeld}, {last + 5, 0}} {
		list, _, err := h.After(tt.after)
		if err != nil || len(list) != tt.want || tt.want > 0 && list[0].Number != tt.after+1 {
			t.Errorf("after %d there are %d, %v, want %d", tt.after, len(list), err, tt.want)
		}
	}
	if _, _, err := h.After(3); !errors.Is(err, ErrBehind) {
		t.Errorf("of what is not held any more: %v", err)
	}
}
