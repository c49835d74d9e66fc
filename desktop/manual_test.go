package desktop

import (
	"compress/gzip"
	"os"
	"path/filepath"
	"testing"
)

// TestManualLine: what a program is comes from the first line of its manual page, in each of
// the forms in which such lines are written.
func TestManualLine(t *testing.T) {
	dir := t.TempDir()
	section := filepath.Join(dir, "man1")
	if err := os.Mkdir(section, 0o755); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		".TH BOARD 1\n.SH NAME\nboard \\- show the jobs of the day\n.SH SYNOPSIS\nboard \\- no\n":  "show the jobs of the day",
		".Dd today\n.Sh NAME\n.Nm board\n.Nd show the \\fBjobs\\fP\n.Sh SYNOPSIS\n":                "show the jobs",
		".SH \"NAME\"\n.ad l\n\\fBboard\\fR, \\fBwall\\fR\n\\(en print what\\&\nis to do\n.SH X\n": "print what is to do",
		".SH Name\nboard, wall \\- print what\nis to \\fIdo\\/\\fR today\n.SH X\n":                 "print what is to do today",
		".SH NAME\n.B board\n\\- count \\s-1ISO\\s+1 sheets\n.SH X\n":                              "count ISO sheets",
		".SH DESCRIPTION\nboard \\- it is not here\n":                                              "",
		"": "", ".so man1/other.1\n": "", ".SH NAME\nboard\n": "",
	} {
		f, err := os.Create(filepath.Join(section, "board.1.gz"))
		if err != nil {
			t.Fatal(err)
		}
		page := gzip.NewWriter(f)
		page.Write([]byte(text))
		page.Close()
		f.Close()
		if got := manualLine("board", []string{"/nowhere/man8", section}); got != want {
			t.Errorf("%q says %q, want %q", text, got, want)
		}
	}
	for _, damaged := range []string{"", "no archive", "\x1f\x8b\x08"} {
		if err := os.WriteFile(filepath.Join(section, "board.1.gz"), []byte(damaged), 0o644); err != nil {
			t.Fatal(err)
		}
		if got := manualLine("board", []string{section}); got != "" {
			t.Errorf("%q says %q", damaged, got)
		}
	}
}
