// Package agent does with an account's rights what concerns that account: it
// prepares and starts its programs, watches its files, and holds what they
// print.
//
// An agent is a process of its own, this program with [Helper] as its first
// argument, and has the account's rights, groups and limits from its first
// instruction on. The keeper starts one for each account that has gates
// ([Crew]), and touches nothing itself that an account can change. What hangs,
// hangs in the agent; what is attacked there, has the rights that the attacker
// has already.
//
// An agent outlives its keeper. It listens on a socket in a folder that is
// closed to others; the next keeper calls there and is told of all runs: which
// go on, how the others have ended, and what they have printed meanwhile. A run
// is forgotten when a keeper says that its end is recorded.
//
// The two speak in frames ([timegate/agent] wire.go) over one connection. All
// that an agent says is bounded in size, count and pace, and may be a lie: it
// concerns its own account's runs and watches alone, and an agent that breaks a
// rule is ended and renewed. Where an agent dies, its successor finds the
// programs by process number and beginning, account, control group and the
// secret mark of the run, all together.
package agent
