// Package engine decides what happens to gates: which program starts, waits,
// is skipped or stopped, and why. It is a state machine that is told
// everything, the time included, and does nothing itself:
//
//	decisions := e.Handle(event) // what follows from an event
//	at, ok := e.Wake()           // when to send the next tick
//
// State, definitions and events alone give the decisions, byte for byte, in
// the keeper, in a rehearsal and in a replay of the journal. What is kept of
// an engine is its [State]; a [Delta] is what an event has changed of it, gate
// by gate. A keeper begins with [Restore] and one [Begin] event, which brings
// its environment and all gates; history is never read.
//
// An Engine belongs to one goroutine. Another one gets a [Engine.Clone].
//
// # Lateness
//
// A moment is kept when its tick comes up to [Tolerance] late. What is older
// was slept or off through: it is recorded as missed, in one decision for all
// the moments of an opening.
//
// # Clocks set back
//
// A due that was decided is not decided again when the clock is set back and
// reaches it a second time, unless it lies more than a day ahead: then the
// clock had been wrong, and holding to its dues would silence the gate.
package engine
