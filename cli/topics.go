package cli

import (
	"embed"
	"fmt"
	"strings"

	"timegate/core/gate"
)

//go:embed topics/*.txt
var topicTexts embed.FS

// topic is a page of help that belongs to no command. Its first line says what it is
// about.
type topic struct{ name, about, text string }

// topicNames are the pages, in the order in which they are met.
var topicNames = []string{"phrases", "events", "gates", "needs", "rights", "windows", "files", "scopes", "settings", "telling", "times", "days"}

// topics returns all pages.
func topics() []topic {
	var out []topic
	for _, name := range topicNames {
		if name == "gates" {
			out = append(out, topic{name, "all keys of a gate file", gatesText()})
			continue
		}
		data, err := topicTexts.ReadFile("topics/" + name + ".txt")
		if err != nil {
			panic(err) // they are part of the program
		}
		about, text, _ := strings.Cut(string(data), "\n\n")
		out = append(out, topic{name, about, text})
	}
	return out
}

// gatesText lists the keys of a gate file, with what holds by default and an
// example.
func gatesText() string {
	var b strings.Builder
	b.WriteString("A gate is one file, NAME.toml in TOML: \"timegate show NAME\" says where it is, \"timegate edit NAME\" opens it, and\n" +
		"\"timegate change NAME --set KEY=VALUE\" changes one key.\n\n" +
		"  about = \"Count the stock\"\n  run   = [\"/opt/larkspur/bin/stock-count\", \"--all\"]\n  opens = [\"at 07:30 on mon-fri\", { name = \"late\", when = \"at 18:00\" }]\n\n  [needs]\n  power = \"mains\"\n")
	table := ""
	for i := range gate.Keys {
		k := &gate.Keys[i]
		if in, _, nested := strings.Cut(k.Name, "."); nested && in != table {
			table = in
			b.WriteString("\n")
		} else if i == 0 {
			b.WriteString("\n")
		}
		about := k.About
		if len(k.Choices) > 0 {
			about += ": " + strings.Join(k.Choices, ", ")
		}
		fmt.Fprintf(&b, "%s\n    %s\n    default %s", k.Name, about, k.Default())
		if k.Example != "" {
			fmt.Fprintf(&b, "; for instance %s", strings.Trim(k.Example, " "))
		}
		b.WriteString("\n")
	}
	return b.String()
}
