//go:build linux

package report

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/chart"
	"timegate/core/calendar"
	"timegate/workstation/wstest"
)

// sample is a page with all that there can be, and with what somebody hostile might write.
func sample() *Page {
	at := func(h int) calendar.Instant {
		return calendar.InstantOf(time.Date(2026, 11, 30, h, 0, 0, 0, time.UTC))
	}
	return &Page{Title: "studio-laptop, Mon 30 Nov 2026", Span: "one day", Made: "now",
		Figures:  []Figure{{Number: "28", Of: "runs"}, {Number: "6", Of: "ended badly", Bad: true}},
		Bad:      []Line{{At: "Mon 30 Nov 12:00", Gate: "vault-copy", Run: 19, What: "failed", Why: `<script>alert(1)</script><img src="http://example.org/x">`}},
		MoreBad:  3,
		Passed:   []Line{{At: "Mon 30 Nov 14:00", Gate: "humidity-log", Count: 4, What: "missed", Why: "the machine was asleep"}},
		Gates:    []Gate{{Name: "vault-copy", About: `"><b>bold`, Runs: 2, Bad: 1, Longest: "2 s", Unusual: "long"}},
		Startups: []Startup{{At: "Mon 30 Nov 06:30", After: "boot", Took: "42 s"}},
		Findings: []Finding{{"error", "job-board", "it is broken", "mend it"}, {"warning", "glue-warm", "it is slow", ""}},
		Next:     []Line{{At: "Tue 1 Dec 06:45", Gate: "glue-warm", What: "at 06:45"}},
		Day:      &chart.Day{Title: "a day", Zone: calendar.UTC, From: at(0), To: at(23), Lanes: []chart.Lane{{Gate: "vault-copy", Runs: []chart.LaneRun{{From: at(8), To: at(9)}}}}}}
}

// written is a page as it is written.
func written(t *testing.T, p *Page) string {
	t.Helper()
	var b bytes.Buffer
	if err := Write(&b, p); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// TestPage: a page needs nothing but itself, shows text as text, is built as those who do
// not see it need it, and is well-formed with everything or with nothing in it.
func TestPage(t *testing.T) {
	for name, p := range map[string]*Page{"full": sample(), "empty": {Title: "studio-laptop"}} {
		text := written(t, p)
		for _, not := range []string{"<script", "<img", "<b>bold", "<link", "@import", "url("} {
			if strings.Contains(text, not) {
				t.Errorf("%s: the page has %q", name, not)
			}
		}
		for _, address := range regexp.MustCompile(`(?:src|href)="[^"#]`).FindAllString(text, -1) {
			t.Errorf("%s: the page asks for %s", name, address)
		}
		d := xml.NewDecoder(strings.NewReader(text))
		d.Strict, d.Entity = false, xml.HTMLEntity
		d.AutoClose = []string{"meta", "br"}
		var level, figures, tables, captions int
		for {
			tok, err := d.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatalf("%s: it is not well-formed: %v", name, err)
			}
			e, begins := tok.(xml.StartElement)
			if !begins {
				continue
			}
			attribute := map[string]string{}
			for _, a := range e.Attr {
				attribute[a.Name.Local] = a.Value
			}
			switch tag := e.Name.Local; tag {
			case "h1", "h2":
				n, _ := strconv.Atoi(tag[1:])
				if n > level+1 {
					t.Errorf("%s: a heading of level %d comes after one of %d", name, n, level)
				}
				level = n
			case "th":
				if attribute["scope"] == "" {
					t.Errorf("%s: a head of a table without its scope", name)
				}
			case "figure":
				if figures++; attribute["aria-label"] == "" || attribute["role"] != "img" {
					t.Errorf("%s: a picture without words", name)
				}
			case "table":
				tables++
			case "caption":
				captions++
			case "html":
				if attribute["lang"] != "en" {
					t.Errorf("%s: the page does not say its language", name)
				}
			}
		}
		if tables != captions || name == "full" && (tables != 6 || figures != 1) || name == "empty" && tables != 0 {
			t.Errorf("%s: %d tables, %d captions, %d pictures", name, tables, captions, figures)
		}
	}
}

// TestContrast: every colour of text stands out from the paper, and from the heads of
// tables, as WCAG 2.2 wants it (1.4.3: 4.5 to 1), light and dark.
func TestContrast(t *testing.T) {
	schemes := regexp.MustCompile(`:root \{([^}]*)\}`).FindAllStringSubmatch(page, -1)
	if len(schemes) != 2 {
		t.Fatalf("%d schemes", len(schemes))
	}
	for i, s := range schemes {
		colours := map[string]float64{}
		for _, c := range regexp.MustCompile(`--(\w+): #(\w{6})`).FindAllStringSubmatch(s[1], -1) {
			colours[c[1]] = luminance(t, c[2])
		}
		for _, text := range []string{"ink", "soft", "good", "bad", "warn"} {
			for _, paper := range []string{"paper", "head"} {
				a, b := max(colours[text], colours[paper]), min(colours[text], colours[paper])
				if ratio := (a + 0.05) / (b + 0.05); ratio < 4.5 {
					t.Errorf("scheme %d: %s on %s has a contrast of %.1f", i, text, paper, ratio)
				}
			}
		}
	}
}

// luminance is the relative luminance of a colour, as WCAG defines it.
func luminance(t *testing.T, hex string) float64 {
	t.Helper()
	n, err := strconv.ParseUint(hex, 16, 32)
	if err != nil {
		t.Fatal(err)
	}
	linear := func(c uint64) float64 {
		x := float64(c&0xff) / 255
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*linear(n>>16) + 0.7152*linear(n>>8) + 0.0722*linear(n)
}

// TestBrowser shows the page in a real browser without a network: it says nothing of the
// page on its console, and no part of it is wider than a narrow window but what scrolls.
func TestBrowser(t *testing.T) {
	browser := wstest.Need(t, "chromium", "chromium")
	dir := t.TempDir()
	text := written(t, sample())
	// The page itself has no script; this copy has one, which measures it.
	const measure = `<script>addEventListener("load", () => {
		const bad = [...document.querySelectorAll("body *")].filter(e => !e.closest(".wide") && !e.closest("figure") && e.getBoundingClientRect().right > innerWidth + 1);
		document.title = "measured " + innerWidth + ": " + (document.documentElement.scrollWidth > innerWidth ? "it scrolls; " : "") + bad.map(e => e.tagName).join(" ");
	})</script></body>`
	copied := strings.Replace(text, "</body>", measure, 1)
	for name, content := range map[string]string{"page.html": text, "measured.html": copied} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	show := func(file string, width int) (dom, said string) {
		t.Helper()
		cmd := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu", "--user-data-dir="+filepath.Join(dir, "profile"), fmt.Sprintf("--window-size=%d,800", width),
			"--host-resolver-rules=MAP * ~NOTFOUND", "--enable-logging=stderr", "--dump-dom", "file://"+filepath.Join(dir, file))
		var errs bytes.Buffer
		cmd.Stderr = &errs
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("%v\n%s", err, errs.String())
		}
		return string(out), errs.String()
	}
	dom, said := show("page.html", 1280)
	if !strings.Contains(dom, "vault-copy") || strings.Contains(said, "CONSOLE") {
		t.Errorf("the browser says of the page:\n%s", said)
	}
	for _, width := range []int{1280, 500} { // a window is not narrower
		dom, _ := show("measured.html", width)
		got := regexp.MustCompile(`<title>([^<]*)</title>`).FindStringSubmatch(dom)
		if got == nil || got[1] != fmt.Sprintf("measured %d: ", width) {
			t.Errorf("%d wide: %q", width, got)
		}
	}
}

// TestGather: runs that would lie on one another are drawn as one, failures apart.
func TestGather(t *testing.T) {
	run := func(from, to calendar.Instant, bad bool) chart.LaneRun {
		return chart.LaneRun{From: from, To: to, Bad: bad}
	}
	got := Gather([]chart.LaneRun{run(0, 10, false), run(15, 30, false), run(35, 36, true), run(40, 41, false), run(900, 901, false)}, 4*time.Second)
	want := []chart.LaneRun{run(0, 30, false), run(35, 36, true), run(40, 41, false), run(900, 901, false)}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%v, want %v", got, want)
	}
}
