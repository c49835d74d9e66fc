package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
)

// manual is a page for man(1).
type manual struct {
	name    string // such as timegate-add
	section int
	text    string
}

// file is where a page lies below a folder of manual pages.
func (m manual) file() string {
	return filepath.Join(fmt.Sprintf("man%d", m.section), fmt.Sprintf("%s.%d", m.name, m.section))
}

// manuals makes a page of every command, and of every topic.
func manuals(root *cli.Command) []manual {
	var out []manual
	add := func(name, about string, section int, text string) {
		out = append(out, manual{name, section, manualText(name, about, section, text)})
	}
	add("timegate", root.Usage, 1, helpText(root))
	for _, c := range root.Commands {
		if c.Hidden {
			continue
		}
		add("timegate-"+c.Name, c.Usage, 1, helpText(c))
		for _, sub := range c.Commands {
			if !sub.Hidden {
				add("timegate-"+c.Name+"-"+sub.Name, sub.Usage, 1, helpText(sub))
			}
		}
	}
	for _, t := range topics() {
		section := 7
		if t.name == "gates" {
			section = 5
		}
		add("timegate-"+t.name, t.about, section, t.text)
	}
	return out
}

// manualText writes a page in the macros of man(7). Help is laid out by hand, so it
// is shown as it is.
func manualText(name, about string, section int, text string) string {
	var b strings.Builder
	fmt.Fprintf(&b, ".TH %s %d \"\" \"Time Gate %s\" \"\"\n.SH NAME\n%s \\- %s\n.SH DESCRIPTION\n.nf\n", strings.ToUpper(name), section, version, name, roff(about))
	for line := range strings.Lines(text) {
		b.WriteString(roff(strings.TrimRight(line, "\n")) + "\n")
	}
	b.WriteString(".fi\n")
	return b.String()
}

// roff keeps text from being taken for requests of roff(7).
func roff(line string) string {
	line = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(line)
	if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
		line = `\&` + line
	}
	return line
}
