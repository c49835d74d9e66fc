package spoken

import (
	"slices"
	"strings"
)

// takeZone takes the zone by whose clock it happens.
func (r *reader) takeZone() bool {
	switch {
	case r.skip("utc|gmt"):
		r.zone = "utc"
		return true
	case r.skip("zone"), r.skip("in") && strings.Contains(r.word(0), "/") && !strings.HasPrefix(r.word(0), "/"):
		if r.at < len(r.tokens) {
			r.zone = "zone " + zoneName(r.tokens[r.at].text)
			r.at++
			r.maybe("time", "zone")
			return true
		}
	}
	return false
}

// zoneName writes the name of a zone in capitals as the list of zones has it, where it
// was typed without any: europe/paris, america/port-au-prince.
func zoneName(typed string) string {
	if typed != strings.ToLower(typed) {
		return typed
	}
	small := []string{"of", "es", "au"}
	var b strings.Builder
	word := ""
	write := func() {
		if word != "" && !slices.Contains(small, word) {
			word = strings.ToUpper(word[:1]) + word[1:]
		}
		b.WriteString(word)
		word = ""
	}
	for _, c := range typed {
		if strings.ContainsRune("/_-", c) {
			write()
			b.WriteRune(c)
			continue
		}
		word += string(c)
	}
	write()
	return b.String()
}
