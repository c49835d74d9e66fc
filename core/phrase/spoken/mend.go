package spoken

import (
	"slices"
	"strings"
)

// mend puts words that are known in the place of words that were not understood and are
// most like one of them. Words that mean nothing by themselves are never put there: what
// was not understood would be gone.
func mend(tokens []token, unknown []string) (out []token, some []Mended) {
	out = slices.Clone(tokens)
	words := strings.Fields(strings.Join(unknown, " ")) // also of a condition, which is named whole
	for i, t := range out {
		if !slices.Contains(words, t.text) {
			continue
		}
		if word := likest(t.lower); word != "" {
			out[i] = token{word, word}
			some = append(some, Mended{t.text, word})
		}
	}
	return out, some
}

// What a mistake may have at most: short words may stand for too much, and only long ones
// may have two. One of three letters may lack a fourth.
const (
	shortest = 3
	long     = 8
)

// likest returns the word of the vocabulary that is most like a mistyped one, or "" where
// there is none, or several that are as like.
func likest(typed string) string {
	if len(typed) < shortest || strings.Trim(typed, "abcdefghijklmnopqrstuvwxyz-") != "" || slices.Contains(vocabulary, typed) || reasons[typed] != "" {
		return ""
	}
	best, least, tie := "", 100, false
	for _, word := range vocabulary {
		most := 1
		if max(len(typed), len(word)) >= long {
			most = 2
		}
		if short := len(typed) == shortest; short && (len(word) != shortest+1 || word[0] != typed[0]) || len(word) <= shortest || Distance(typed, word) > most || most == 2 && word[0] != typed[0] && Distance(typed, word) == 2 {
			continue
		}
		cost := 10 * Distance(typed, word)
		if word[0] != typed[0] {
			cost += 3
		}
		if word[len(word)-1] != typed[len(typed)-1] {
			cost += 2
		}
		switch {
		case cost < least:
			best, least, tie = word, cost, false
		case cost == least:
			tie = true
		}
	}
	if tie {
		return ""
	}
	return best
}

// Distance counts the letters to insert, drop, replace or swap with their neighbour to
// turn a into b.
func Distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	before, prev := make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := range x {
		row := make([]int, len(y)+1)
		row[0] = i + 1
		for j := range y {
			cost := 1
			if x[i] == y[j] {
				cost = 0
			}
			row[j+1] = min(prev[j]+cost, prev[j+1]+1, row[j]+1)
			if i > 0 && j > 0 && x[i] == y[j-1] && x[i-1] == y[j] {
				row[j+1] = min(row[j+1], before[j-1]+1)
			}
		}
		before, prev = prev, row
	}
	return prev[len(y)]
}

// joints are words between two moments that are said at once.
var joints = []string{"and", "or", ",", "&", "also", "plus"}

// several reads two or three moments that are said at once, each with all that belongs to
// it. Nothing may be guessed of any of them.
func several(tokens []token, today Today) []string {
	if parts := windows(tokens, today); len(parts) > 0 {
		return parts
	}
	for at := 1; at+1 < len(tokens); at++ {
		if !slices.Contains(joints, tokens[at].lower) {
			continue
		}
		head := tokens[:at]
		rest := at + 1
		for rest+1 < len(tokens) && slices.Contains(joints, tokens[rest].lower) {
			rest++
		}
		first := whole(head, today)
		if first == "" {
			continue
		}
		if second := whole(tokens[rest:], today); second != "" {
			return []string{first, second}
		}
		if more := several(tokens[rest:], today); len(more) == 2 {
			return append([]string{first}, more...)
		}
	}
	return nil
}

// windows reads several hours of the day in which the same happens: every 30 minutes from 8
// to 10 and from 14 to 16.
func windows(tokens []token, today Today) []string {
	opens := func(at int) bool {
		return at < len(tokens) && slices.Contains([]string{"from", "between"}, tokens[at].lower)
	}
	begin := 0
	for begin < len(tokens) && !opens(begin) {
		begin++
	}
	var parts [][]token
	end := begin
	for at := begin; opens(at); {
		r := reader{tokens: tokens, at: at, today: today}
		if !r.takeWindow() || r.from == nil {
			break
		}
		parts, end = append(parts, tokens[at:r.at]), r.at
		if at = r.at; at < len(tokens) && slices.Contains(joints, tokens[at].lower) {
			at++
		}
	}
	const least, most = 2, 4
	if len(parts) < least || len(parts) > most {
		return nil
	}
	var out []string
	for _, part := range parts {
		one := whole(slices.Concat(tokens[:begin], part, tokens[end:]), today)
		if one == "" {
			return nil
		}
		out = append(out, one)
	}
	return out
}

// whole is the one phrase that some words mean, without a guess.
func whole(tokens []token, today Today) string {
	h := hear(tokens, today)
	if len(h.Readings) == 0 || h.Readings[0].Guessed != "" {
		return ""
	}
	return h.Readings[0].Phrase
}
