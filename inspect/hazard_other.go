//go:build !linux

package inspect

// hasACL does not know on this system.
func hasACL(string) bool { return false }

// walk does not know on this system.
func (h *hazards) walk(string, string) *place { return nil }

func (p *place) reached() string { return p.entry.path }

func (p *place) head() []byte { return nil }
