// Package rehearsal plays a day that is written in a file through the engine on a virtual
// clock: nothing is started, and every decision is the engine's own. A day file says what
// happens on the machine, how long programs take, and what is expected of it all.
package rehearsal
