package gates

import (
	"os"

	"timegate/home"
	"timegate/inspect"
)

// Safe refuses a home that others than root could change, where root is about
// to use it: what lies there says what root's programs are.
func Safe(h home.Home) error {
	if os.Getuid() != 0 {
		return nil
	}
	for _, dir := range h.Folders() {
		for _, found := range inspect.FolderHazards(dir, 0) {
			return &home.Error{Path: dir, Reason: found.Message, Remedy: "choose a home in a folder of root's own, with --home"}
		}
	}
	return nil
}
