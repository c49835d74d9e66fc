package inspect

import (
	"bytes"
	"debug/elf"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Kind is what a program is, as far as its file says.
type Kind struct {
	Real    string `json:"real"`              // the file that is run, behind all links
	Machine string `json:"machine,omitempty"` // for which it is made, such as x86_64; "" of a script
	Script  string `json:"script,omitempty"`  // the interpreter that its first line names
	Size    int64  `json:"size"`              // bytes
	Problem string `json:"problem,omitempty"` // why it cannot run here, or ""
}

// KindOf looks at a program.
func KindOf(path string) (Kind, error) {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return Kind{}, err
	}
	info, err := os.Stat(real)
	if err != nil {
		return Kind{}, err
	}
	k := Kind{Real: real, Size: info.Size()}
	head, _, err := readHead(real)
	switch {
	case err != nil: // who may only execute it cannot look
		return k, nil
	case bytes.HasPrefix(head, []byte(elf.ELFMAG)):
		k.Machine = machineOf(real)
		k.Problem, _ = wrongBinary(real)
	default:
		if k.Script = interpreterOf(real); k.Script == "" {
			break
		}
		if _, err := os.Stat(k.Script); err != nil {
			k.Problem = "it wants " + k.Script + ", which does not exist"
		} else {
			k.Problem, _ = wrongBinary(k.Script)
		}
	}
	if info.Mode()&0o111 == 0 {
		k.Problem = real + " is not marked as executable"
	}
	return k, nil
}

// machineOf names the machine that a program is made for.
func machineOf(path string) string {
	file, err := openPlain(path)
	if err != nil {
		return ""
	}
	defer file.Close()
	f, err := elf.NewFile(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	return strings.ToLower(strings.TrimPrefix(f.Machine.String(), "EM_"))
}

// displays are the libraries through which a program speaks to a display, by the beginnings
// of their names: those of X11 and Wayland, and of the toolkits above them.
var displays = []string{"libX11.", "libxcb.", "libwayland-client.", "libgtk-", "libgdk-", "libQt5Gui.", "libQt5Widgets.", "libQt6Gui.", "libQt6Widgets.", "libSDL-", "libSDL2-", "libSDL3.", "libfltk.", "libwx_gtk", "libglfw.", "libXt.", "libtk8."}

// DisplayLibrary returns the library through which a program speaks to a display, by what
// its file names as needed, or "".
func DisplayLibrary(path string) string {
	file, err := openPlain(path)
	if err != nil {
		return ""
	}
	defer file.Close()
	f, err := elf.NewFile(file)
	if err != nil {
		return ""
	}
	defer f.Close()
	needed, err := f.ImportedLibraries()
	if err != nil {
		return ""
	}
	i := slices.IndexFunc(needed, func(name string) bool {
		return slices.ContainsFunc(displays, func(begin string) bool { return strings.HasPrefix(name, begin) })
	})
	if i < 0 {
		return ""
	}
	return needed[i]
}
