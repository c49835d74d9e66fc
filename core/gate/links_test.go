package gate

import (
	"fmt"
	"strings"
	"testing"
)

func TestLinks(t *testing.T) {
	for _, tt := range []struct {
		name  string
		gates string // NAME: PHRASE; …
		want  string
	}{
		{"none", "a: boot; b: at 09:00", ""},
		{"a chain", "a: boot; b: end of a; c: failure of b", ""},
		{"a gate that is not there", "stock: boot; b: end of stok", `b no-such-gate did you mean "stock"?`},
		{"itself", "a: end of a", "a circle a after a"},
		{"two", "a: end of b; b: failure of a", "a circle a after b after a; b circle b after a after b"},
		{"three, and one beside", "a: end of c; b: end of a; c: start of b; d: end of a",
			"a circle a after c after b after a; b circle b after a after c after b; c circle c after b after a after c"},
	} {
		var gates []*Gate
		for _, def := range strings.Split(tt.gates, "; ") {
			name, when, _ := strings.Cut(def, ": ")
			g, found := Read(name, name, []byte(head+"opens = [\""+when+"\"]\n"), testOptions)
			if g == nil {
				t.Fatal(found)
			}
			gates = append(gates, g)
		}
		var got []string
		for _, f := range Links(gates) {
			text := f.Remedy
			if _, circle, ok := strings.Cut(f.Message, "circle: "); ok {
				text = circle
			}
			got = append(got, fmt.Sprintf("%s %s %s", f.Gate, f.Code, text))
		}
		if s := strings.Join(got, "; "); s != tt.want {
			t.Errorf("%s: %s, want %s", tt.name, s, tt.want)
		}
	}
}
