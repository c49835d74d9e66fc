// Package calendar computes the instants that a recurring civil-time rule
// yields. It is arithmetic on integers: it reads no clock and no file, and
// finding the next due takes the same few steps whether it is a minute or
// forty years away.
//
// Three layers build on one another:
//
//   - [Day] counts civil days and [Zone] maps local time to instants and back,
//     through every clock change of a time zone.
//   - [Days] is a set of days: weekdays, days of the month, ordinals, months,
//     strides and exceptions. Each month is one 31-bit mask, so that a search
//     costs a few operations a month, not a day.
//   - [Rule] adds the times within a day and the bounds, and answers
//     [Rule.Next], [Rule.Prev] and [Rule.Count].
//
// # Clock changes
//
// One function, [Zone.Resolve], turns a local time into an instant, for clock
// times, window ends and bounds alike. A local time that a forward change
// leaves out becomes the first instant after the gap; one that a backward
// change brings twice is the first of the two. A day that a zone leaves out
// altogether has no dues. Because this mapping never decreases, the dues of
// one day never come after those of the next, which is what lets a search
// stop at the first hit.
package calendar
