package spoken

import (
	"maps"
	"slices"
	"strings"
)

// vocabulary are the words that what is mistyped may be: all that mean something, and none
// that mean nothing by themselves.
var vocabulary = func() []string {
	all := strings.Fields(grammar)
	for _, e := range events {
		for _, phrase := range e.words {
			all = append(all, strings.Fields(phrase)...)
		}
	}
	for _, d := range []string{"monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday", "weekday", "weekend", "workday", "weeknight"} {
		all = append(all, d, d+"s")
	}
	all = slices.Concat(all, monthNames, ordinals, about, slices.Collect(maps.Keys(units)), slices.Collect(maps.Keys(numbers)), slices.Collect(maps.Keys(rates)), slices.Collect(maps.Keys(feasts)))
	slices.Sort(all)
	return slices.DeleteFunc(slices.Compact(all), func(w string) bool { return slices.Contains(fillers, w) })
}()

// grammar are the words that the reader itself asks for.
const grammar = `
	after afternoon afternoons again alternate alternating apart appears apply arrives aside attached away bar before beginning below between business but by coming
	connected contains daily day days device disappears disconnected each ejected end ending ends evening evenings ever every except excluding exists fails failed failure file files
	finish finished finishes first following folder for forever from full gone half hour hourly hours idle inactive inactivity inserted last later least leaving less low machine matching
	memory midday midnight midnite minute minutes month monthly months morning mornings mount mounted never next night nightly nights nobody noon office other overnight past percent plugged quarter
	quarterly quiet removed run second signal since space start started starting starts success succeeded successful than then through till times today tomorrow tonight touched twice unless unmount unmounted
	unplugged until untouched unused utc week weekly weeks within without work working year yearly years zone
	when whenever thrice tues weds thurs christmas eve boxing named called mentions says shows uses used using
`
