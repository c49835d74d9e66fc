package tell

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"timegate/core/engine"
	"timegate/core/gate"
)

// TestDecided: what is not well is told once, a failure only for good, and again when it is
// well again; what nobody wants to hear of is not told.
func TestDecided(t *testing.T) {
	end := func(gate string, r engine.Result) engine.Decision {
		return engine.Decision{Kind: engine.End, Gate: gate, Result: r, Run: 7, Reason: engine.Reason{Code: engine.CodeExit, Args: engine.Args{Status: 4}}}
	}
	retry := engine.Decision{Kind: engine.Wait, Gate: "a", For: engine.ForRetry}
	skip := func(r engine.Result) engine.Decision {
		return engine.Decision{Kind: engine.Skip, Gate: "a", Result: r, Reason: engine.Reason{Code: engine.CodeAsleep}}
	}
	for _, tt := range []struct {
		name   string
		of     []string
		events [][]engine.Decision
		want   string
	}{
		{"well from the first", Usual, [][]engine.Decision{{end("a", engine.ResultOK)}}, ""},
		{"a failure, once", Usual, [][]engine.Decision{{end("a", engine.ResultFailed)}, {end("a", engine.ResultFailed)}}, "a failed: exit status 4"},
		{"not for good", Usual, [][]engine.Decision{{end("a", engine.ResultFailed), retry}, {end("a", engine.ResultFailed), retry}, {end("a", engine.ResultFailed)}}, "a failed: exit status 4"},
		{"another waits", Usual, [][]engine.Decision{{end("b", engine.ResultFailed), retry}}, "b failed: exit status 4"},
		{"well again", Usual, [][]engine.Decision{{end("a", engine.ResultFailed)}, {end("a", engine.ResultOK)}, {end("a", engine.ResultOK)}, {end("a", engine.ResultFailed)}}, "a failed: exit status 4|a is well again|a failed: exit status 4"},
		{"another ill", Usual, [][]engine.Decision{{end("a", engine.ResultFailed)}, {end("a", engine.ResultOverran)}}, "a failed: exit status 4|a took too long: exit status 4"},
		{"by hand", Usual, [][]engine.Decision{{end("a", engine.ResultStopped)}}, ""},
		{"missed, as usual", Usual, [][]engine.Decision{{skip(engine.ResultMissed)}}, ""},
		{"missed, where that matters", []string{"missed"}, [][]engine.Decision{{skip(engine.ResultMissed)}, {skip(engine.ResultSkipped)}, {end("a", engine.ResultOK)}}, "a was missed: the machine was asleep|a is well again"},
		{"nothing wanted", nil, [][]engine.Decision{{end("a", engine.ResultFailed)}, {end("a", engine.ResultOK)}}, ""},
		{"refused", Usual, [][]engine.Decision{{{Kind: engine.Refuse, Gate: "a", Result: engine.ResultRefused, Reason: engine.Reason{Code: engine.CodeNotStarted}}}}, "a was refused"},
		{"starts", Usual, [][]engine.Decision{{{Kind: engine.Start, Gate: "a"}, {Kind: engine.StopRun, Gate: "a"}}}, ""},
	} {
		var s State
		var got []string
		for _, ev := range tt.events {
			for _, n := range s.Decided(ev, func(string) []string { return tt.of }) {
				got = append(got, n.Line())
			}
		}
		if is := strings.Join(got, "|"); is != tt.want && !(tt.name == "refused" && strings.HasPrefix(is, tt.want)) {
			t.Errorf("%s: %q, want %q", tt.name, is, tt.want)
		}
	}
}

// TestGates: a gate that breaks is told of once, and again when it is mended; one that goes
// is forgotten.
func TestGates(t *testing.T) {
	var s State
	files := map[string]bool{"a": true, "b": true}
	look := func(broken ...string) string {
		why := map[string]string{}
		for _, name := range broken {
			why[name] = "line 1"
		}
		var out []string
		for _, n := range s.Gates(1, why, func(g string) bool { return files[g] }, func(string) []string { return Usual }) {
			out = append(out, n.Line())
		}
		return strings.Join(out, "|")
	}
	for i, step := range []struct {
		broken []string
		want   string
	}{{nil, ""}, {[]string{"b", "a"}, "a is broken: line 1|b is broken: line 1"}, {[]string{"a", "b"}, ""}, {[]string{"b"}, "a is well again"}, {[]string{"b"}, ""}} {
		if got := look(step.broken...); got != step.want {
			t.Errorf("step %d: %q, want %q", i, got, step.want)
		}
	}
	files["b"] = false
	if got := look(); got != "" || len(s.Ill) > 0 {
		t.Errorf("a gate that has gone: %q, %v", got, s.Ill)
	}
}

// TestKinds: what a file can ask for is what there is, and "usual" is what the settings say.
func TestKinds(t *testing.T) {
	kinds := []Kind{Failed, Overran, Missed, Refused, Lost, Broken}
	var all []string
	for _, k := range kinds {
		all = append(all, string(k))
	}
	if !slices.Equal(all, gate.TellKinds) {
		t.Errorf("a gate's file knows %v, and there are %v", gate.TellKinds, all)
	}
	for _, tt := range []struct{ of, want string }{{`of = []`, "[]"}, {``, "[lost]"}, {`of = ["missed", "usual"]`, "[missed lost]"}, {`of = ["failed"]`, "[failed]"}} {
		g, found := gate.Read("a", "a.toml", []byte("run = [\"/bin/true\"]\n[tell]\n"+tt.of+"\n"), gate.Options{Scope: gate.User})
		if g == nil {
			t.Fatal(found)
		}
		if got := fmt.Sprint(Of(g, []string{"lost"})); got != tt.want {
			t.Errorf("%s: %s, want %s", tt.of, got, tt.want)
		}
	}
	for text, want := range map[string]bool{"maren": true, "maren@example.org": true, "-oQ/tmp": false, "a b@example.org": false, "<maren@example.org>": false, "Maren <maren@example.org>": false, "a@b,c@d": false, "": false, "a@b\nBcc: c@d": false} {
		if ValidAddress(text) != want {
			t.Errorf("%q is an address: %v", text, !want)
		}
	}
}
