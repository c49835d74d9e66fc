package desktop

import (
	"bufio"
	"compress/gzip"
	"io"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// manuals are where manual pages of programs lie (Filesystem Hierarchy Standard 3.0, 4.11.6), by
// their sections.
var manuals = []string{"/usr/local/share/man/man1", "/usr/share/man/man1", "/usr/local/share/man/man8", "/usr/share/man/man8", "/usr/share/man/man6"}

// Describe gives programs that say nothing of themselves what their manual pages say in
// their first line. The entries themselves are changed.
func Describe(entries []Entry) {
	var next atomic.Int64
	var readers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			for i := int(next.Add(1) - 1); i < len(entries); i = int(next.Add(1) - 1) {
				if e := &entries[i]; e.Comment == "" && !e.Application() {
					e.Comment = manualLine(e.ID, manuals)
				}
			}
		})
	}
	readers.Wait()
}

// manualLine returns what a program's manual page says it is, or "".
func manualLine(program string, folders []string) string {
	for _, folder := range folders {
		section := folder[len(folder)-1:]
		data, err := readBeginning(filepath.Join(folder, program+"."+section+".gz"))
		if err != nil {
			continue
		}
		page, err := gzip.NewReader(strings.NewReader(string(data)))
		if err != nil {
			continue
		}
		const enough = 16 << 10 // bytes; the name comes first, below some definitions
		if line := nameLine(io.LimitReader(page, enough)); line != "" {
			return line
		}
	}
	return ""
}

// nameLine returns what stands behind the dash below NAME, in pages of man(7), and as the
// description (Nd) in those of mdoc(7).
func nameLine(page io.Reader) string {
	var text []string
	named := false
	for lines := bufio.NewScanner(page); lines.Scan(); {
		line := lines.Text()
		macro, rest, _ := strings.Cut(line, " ")
		switch {
		case macro == ".SH" || macro == ".Sh":
			if named {
				return describing(text)
			}
			named = strings.EqualFold(strings.Trim(rest, `" `), "name")
		case !named:
		case macro == ".Nd":
			return plainRoff(rest)
		case macro == ".B" || macro == ".I" || macro == ".BR":
			text = append(text, rest)
		case !strings.HasPrefix(line, ".") && !strings.HasPrefix(line, "'"):
			text = append(text, line)
		}
	}
	return ""
}

// describing returns what stands behind the dash.
func describing(lines []string) string {
	text := plainRoff(strings.Join(lines, " "))
	for _, dash := range []string{" - ", " -- ", " – ", " — "} {
		if _, about, found := strings.Cut(text, dash); found {
			return strings.TrimSpace(about)
		}
	}
	return ""
}

// plainRoff leaves out what is for a typesetter.
func plainRoff(text string) string {
	text = roffFont.ReplaceAllString(text, "")
	text = strings.NewReplacer(`\-`, "-", `\(en`, "-", `\(em`, "-", `\(aq`, "'", `\&`, "", `\,`, "", `\/`, "", `\ `, " ", `"`, "").Replace(text)
	return strings.Join(slices.DeleteFunc(strings.Fields(text), func(w string) bool { return w == "\\" }), " ")
}

var roffFont = regexp.MustCompile(`\\f(\[[^\]]*\]|\(..|.)|\\s[-+]?\d|\\\*\([A-Z.,<>"]{2}`)
