// Package phrase reads the phrases that say when a gate opens, such as
//
//	at 08:15 on weekdays
//	every 20m from 09:00 to 16:00 on mon-fri in mar-oct
//	boot + 45s, then every 20s for 3m
//
// [Parse] turns text into a [Phrase]; [Phrase.String] prints its one canonical
// form, which parses to the same meaning, and [Phrase.Words] says it in plain
// words. [Phrase.Compile] resolves zones and files of days, which the caller
// supplies, and yields a [Plan] that computes dues.
//
// Errors are of type [*Error]. They carry the place of the first word that is
// wrong and, where the text is a near miss, the phrase that was meant.
package phrase
