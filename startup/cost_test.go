package startup

import (
	"fmt"
	"strings"
	"testing"
)

// TestAdvise: what asks for much before the machine is calm is put off, one after the
// other; many small ones are to start fewer at once; a machine that is calm soon needs
// nothing.
func TestAdvise(t *testing.T) {
	t.Parallel()
	start := func(gate string, at, processor float64, written int64, prompt bool) Start {
		return Start{Gate: gate, Opening: "1", AtS: at, ProcessorS: processor, WrittenBytes: written, Prompt: prompt}
	}
	small := func(n int) (out []Start) {
		for i := range n {
			out = append(out, start(fmt.Sprint("small-", i), 0.1*float64(i), 0.2, 0, true))
		}
		return out
	}
	for _, tt := range []struct {
		name   string
		b      Beginning
		atOnce int
		want   string
	}{
		{"calm soon", Beginning{ForS: 9, Calm: true, Starts: []Start{start("glue-warm", 0, 8, 0, true)}}, 4, ""},
		{"one heavy", Beginning{ForS: 40, Calm: true, Starts: []Start{start("job-board", 0, 2, 0, true), start("glue-warm", 0, 20, 0, true)}}, 4, "glue-warm 1m0s"},
		{"by the disk", Beginning{ForS: 20, Calm: true, Starts: []Start{start("vault-copy", 0, 0.1, 900e6, true)}}, 4, "vault-copy 30s"},
		{"two, the heavier first", Beginning{ForS: 100, Calm: true, UsualS: 50, Earlier: 3, Starts: []Start{start("a", 0, 20, 0, true), start("b", 0, 30, 0, true)}}, 4, "b 1m0s; a 1m30s"},
		{"not prompt", Beginning{ForS: 40, Calm: true, Starts: []Start{start("glue-warm", 0, 20, 0, false)}}, 4, ""},
		{"a crowd", Beginning{ForS: 60, ProcessorS: 30, Starts: small(6)}, 4, "at once 2"},
		{"a crowd that nobody waits for", Beginning{ForS: 60, ProcessorS: 3, Starts: small(6)}, 4, ""},
		{"paced already", Beginning{ForS: 60, ProcessorS: 30, Starts: small(6)}, 2, ""},
	} {
		tt.b.Order()
		var got []string
		for _, x := range tt.b.Advise(tt.atOnce) {
			if x.AtOnce > 0 {
				got = append(got, fmt.Sprint("at once ", x.AtOnce))
			} else {
				got = append(got, fmt.Sprint(x.Gate, " ", x.Delay))
			}
			if !strings.Contains(x.Text, " s") {
				t.Errorf("%s: there is no figure in %q", tt.name, x.Text)
			}
		}
		if strings.Join(got, "; ") != tt.want {
			t.Errorf("%s: %q, want %q", tt.name, strings.Join(got, "; "), tt.want)
		}
	}
}
