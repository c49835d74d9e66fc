// Package rights is the one way to other rights than one's own for the helpers that
// this program starts, and to run another program for its answer.
//
// A process that has taken on an account's rights belongs to that account as any
// other does: the account may stop and trace it, take its descriptors, and type into
// the terminal that it is on. So a helper begins with root's rights, in a session of
// its own and without a terminal, has no descriptors but those that are named, closes
// itself to tracing, and only then lets go of its rights.
package rights

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"timegate/workstation"
)

// Argument is the first argument of a process that is to take on an account's
// rights: the account, its group and its groups follow, and what it is then.
const Argument = "@as"

// run is what follows where the process becomes another program.
const run = "@run"

// Argv returns the arguments, the program's own name first, of this program started
// once more as a helper with an account's rights; nil stands for one's own.
func Argv(as *workstation.Account, args ...string) []string {
	if as == nil {
		return append([]string{"timegate"}, args...)
	}
	groups := make([]string, len(as.Groups))
	for i, g := range as.Groups {
		groups[i] = strconv.FormatUint(uint64(g), 10)
	}
	return append([]string{"timegate", Argument, strconv.FormatUint(uint64(as.UID), 10), strconv.FormatUint(uint64(as.GID), 10), strings.Join(groups, ",")}, args...)
}

// parse reads what [Argv] has written, from the first argument on.
func parse(args []string) (as workstation.Account, rest []string, err error) {
	const head = 4
	if len(args) <= head {
		return as, nil, errors.New("it is not said whose rights, and for what")
	}
	numbers := []*uint32{&as.UID, &as.GID}
	for _, text := range strings.FieldsFunc(args[3], func(r rune) bool { return r == ',' }) {
		as.Groups = append(as.Groups, 0)
		n, err := strconv.ParseUint(text, 10, 32)
		if err != nil {
			return as, nil, err
		}
		as.Groups[len(as.Groups)-1] = uint32(n)
	}
	for i, at := range numbers {
		n, err := strconv.ParseUint(args[1+i], 10, 32)
		if err != nil {
			return as, nil, err
		}
		*at = uint32(n)
	}
	if as.UID == 0 {
		return as, nil, fmt.Errorf("account %d keeps the rights that it has", as.UID)
	}
	return as, args[head:], nil
}

// Call is a program that is run for what it prints.
type Call struct {
	As      *workstation.Account // whose rights it has; nil for one's own
	Program string               // its whole path, or [Self]
	Args    []string
	Env     []string
	Dir     string // "" for /
	Stdin   []byte
	Most    int64 // of its output, in bytes; what it prints beyond that ends it
}

// TooMuchError says that a program has printed more than it may.
type TooMuchError struct {
	Program string
	Most    int64 // bytes
}

func (e *TooMuchError) Error() string {
	return fmt.Sprintf("%s has printed more than %d bytes", e.Program, e.Most)
}
