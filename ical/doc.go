// Package ical turns gates into calendar files and back, by RFC 5545
// (iCalendar). A general package reads and writes the syntax; what a
// recurrence means, and whether it can be said, is decided here.
//
// Export says an opening as a recurrence rule where a rule says exactly the
// same; where it cannot, as a list of dates for a stated span. Import turns
// events into phrases, and lists what a phrase cannot say.
package ical
