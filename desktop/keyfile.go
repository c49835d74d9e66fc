package desktop

import (
	"bytes"
	"strings"
)

// keyFile is the content of a desktop entry: its groups, each with its keys as they
// are written ("Basic format of the file").
type keyFile map[string]map[string]string

// mainGroup is the group that every entry has.
const mainGroup = "Desktop Entry"

// readKeyFile reads a file. What is no line of it is passed over, as menus do; of a
// key that is given twice the first counts.
func readKeyFile(data []byte) keyFile {
	f := keyFile{}
	var group map[string]string
	for raw := range bytes.Lines(data) {
		line := bytes.TrimSpace(raw)
		if len(line) == 0 || line[0] == '#' {
			continue
		}
		if line[0] == '[' && line[len(line)-1] == ']' {
			name := string(line[1 : len(line)-1])
			if group = f[name]; group == nil {
				group = map[string]string{}
				f[name] = group
			}
			continue
		}
		key, value, ok := bytes.Cut(line, []byte("="))
		if !ok || group == nil {
			continue
		}
		if key = bytes.TrimSpace(key); group[string(key)] == "" {
			group[string(key)] = string(bytes.TrimSpace(value))
		}
	}
	return f
}

// unescape reads a value of the type string ("Possible value types").
func unescape(value string) string {
	if !strings.Contains(value, `\`) {
		return value
	}
	var b strings.Builder
	for i := 0; i < len(value); i++ {
		if value[i] != '\\' || i+1 == len(value) {
			b.WriteByte(value[i])
			continue
		}
		i++
		if plain, ok := map[byte]byte{'s': ' ', 'n': '\n', 't': '\t', 'r': '\r', '\\': '\\', ';': ';'}[value[i]]; ok {
			b.WriteByte(plain)
		} else {
			b.WriteString(value[i-1 : i+1])
		}
	}
	return b.String()
}

// escape writes a value of the type string.
func escape(text string) string {
	return strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(text)
}

// list reads a value of several strings, each with a semicolon behind it.
func list(value string) []string {
	var out []string
	begin := 0
	for i := 0; i <= len(value); i++ {
		switch {
		case i < len(value) && value[i] == '\\':
			i++
		case i == len(value) || value[i] == ';':
			if item := unescape(value[begin:min(i, len(value))]); item != "" {
				out = append(out, item)
			}
			begin = i + 1
		}
	}
	return out
}

// localized returns the value of a key in a language, by the order of the
// specification ("Localized values for keys"): lang_COUNTRY@MODIFIER, lang_COUNTRY,
// lang@MODIFIER, lang, and the value without a language.
func localized(group map[string]string, key, locale string) string {
	locale, modifier, _ := strings.Cut(locale, "@")
	locale, _, _ = strings.Cut(locale, ".") // the encoding is of no matter
	lang, country, _ := strings.Cut(locale, "_")
	var tries []string
	if country != "" && modifier != "" {
		tries = append(tries, lang+"_"+country+"@"+modifier)
	}
	if country != "" {
		tries = append(tries, lang+"_"+country)
	}
	if modifier != "" {
		tries = append(tries, lang+"@"+modifier)
	}
	for _, t := range append(tries, lang) {
		if value, ok := group[key+"["+t+"]"]; ok && t != "" {
			return value
		}
	}
	return group[key]
}
