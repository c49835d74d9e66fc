package keeper

import (
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/replay"
	"timegate/journal"
	"timegate/launch"
)

// recorder holds what is still to be committed.
type recorder struct {
	replay.Recorder
	timer *time.Timer // commits what it holds back
	// unwritten is what the journal has refused. It is committed first, in its
	// order, as soon as that can be done.
	unwritten []journal.Record
	since     time.Time
	tried     time.Time
	err       error
	lost      int  // events that there was no room for
	doubt     bool // the journal's files may have been taken away
}

// flushAfter is how long changes of files wait to be committed.
const flushAfter = time.Second

// retryAfter is when a journal that could not be written is tried again, and
// tryApart how far apart the tries are of those who want to write to it.
const (
	retryAfter = 2 * time.Second
	tryApart   = time.Second
)

// mostUnwritten is how many events are held in memory while the journal cannot
// be written; what comes beyond is lost from the history, not from the state.
const mostUnwritten = 100_000

// handle lets the engine decide about inputs, commits that together, and does
// it; what comes of doing it is handled in turn.
func (k *Keeper) handle(inputs ...input) {
	for len(inputs) > 0 {
		var records []journal.Record
		var thens []func()
		for _, in := range inputs {
			at, set := k.stamp()
			if set != nil {
				records = append(records, k.decide(at, set, nil)...)
			}
			recs := k.decide(at, in.body, in.texts)
			records = append(records, recs...)
			if in.then != nil {
				var decisions []engine.Decision
				for _, r := range recs {
					decisions = append(decisions, r.Decisions...)
				}
				thens = append(thens, func() { in.then(decisions) })
			}
		}
		if len(records) > 0 { // the state, which goes with them, is that after all events
			records = append(records, k.recordsOf(k.recorder.Flush())...)
			k.recorder.flushLater(k)
		}
		k.reserveRuns()
		// What is about to start is prepared while the disk is busy.
		starts := k.prepareStarts(records)
		err := k.commit(records)
		inputs = nil
		for i := range records {
			for j := range records[i].Decisions {
				inputs = append(inputs, k.carryOut(&records[i].Decisions[j], starts, err)...)
			}
			if k.observe != nil {
				k.observe(records[i].Event, records[i].Decisions)
			}
		}
		for _, then := range thens {
			then()
		}
	}
}

// decide hands one event to the engine and returns what is to be recorded.
func (k *Keeper) decide(at calendar.Instant, body engine.Body, texts map[string]string) []journal.Record {
	ev := engine.Event{At: at, Body: body}
	kept := k.recorder.Take(k.engine, ev, k.engine.Handle(ev))
	k.recorder.flushLater(k)
	records := k.recordsOf(kept)
	if len(records) > 0 {
		records[len(records)-1].Texts = texts
	}
	return records
}

func (k *Keeper) recordsOf(kept []replay.Recorded) []journal.Record {
	var out []journal.Record
	for _, r := range kept {
		out = append(out, journal.Record{Event: r.Event, Decisions: r.Decisions, Programs: k.programsOf(r.Decisions)})
	}
	return out
}

// flushLater sees to it that what is held back is committed soon.
func (r *recorder) flushLater(k *Keeper) {
	switch {
	case r.Holding() && r.timer == nil:
		r.timer = time.AfterFunc(flushAfter, func() { k.post(input{do: k.flush}) })
	case !r.Holding() && r.timer != nil:
		r.timer.Stop()
		r.timer = nil
	}
}

// flush commits what was held back.
func (k *Keeper) flush() {
	k.commit(k.recordsOf(k.recorder.Flush()))
	k.recorder.flushLater(k)
}

// commit commits records with what has changed in the state, and what could
// not be committed before. Its error says why that is not possible now.
func (k *Keeper) commit(records []journal.Record) error {
	r := &k.recorder
	if len(records) > 0 {
		records[len(records)-1].Delta = k.engine.Delta()
	}
	all := append(r.unwritten, records...)
	if len(all) == 0 {
		return nil
	}
	if r.err != nil && time.Since(r.tried) < tryApart {
		r.keep(all)
		return r.err
	}
	last, err := k.write(all)
	if err != nil {
		k.unwritable(err)
		r.keep(all)
		return err
	}
	if r.err != nil {
		k.log.Info("the journal can be written again", "events", len(all), "lost", r.lost, "after", k.now().Sub(r.since).Round(time.Second))
	}
	r.unwritten, r.err, r.lost = nil, nil, 0
	k.publish(all, last)
	k.forget()
	return nil
}

// write writes to the journal, as long as it is safe there. Where the disk is
// full, the room that is in reserve is given up.
func (k *Keeper) write(all []journal.Record) (last int64, err error) {
	r := &k.recorder
	if r.doubt {
		if err := k.journal.Check(); err != nil {
			return 0, err
		}
		r.doubt = false
	}
	if last, err = k.journal.Write(all...); journal.IsFull(err) && k.home.GiveReserve() {
		k.log.Warn("the disk is full; the room in reserve is given to the journal", "disk of", k.home.Journal())
		last, err = k.journal.Write(all...)
		time.AfterFunc(reserveAgain, func() { k.home.KeepReserve() })
	}
	return last, err
}

// reserveAgain is when room is reserved anew after it was given up.
const reserveAgain = 10 * time.Minute

// unwritable notes that the journal cannot be written.
func (k *Keeper) unwritable(err error) {
	r := &k.recorder
	r.tried = time.Now()
	if r.err == nil {
		r.since = k.now()
		k.log.Error("the journal cannot be written; "+k.meanwhile(), "error", err)
		time.AfterFunc(retryAfter, func() { k.post(input{do: k.retryJournal}) })
	}
	r.err = err
}

// meanwhile says what happens while the journal cannot be written.
func (k *Keeper) meanwhile() string {
	if k.settings.StartUnrecorded {
		return "programs start all the same, as without_journal says, and after a crash may do so once more"
	}
	return "nothing is started until it can"
}

// doubtJournal looks whether the journal's files are still there.
func (k *Keeper) doubtJournal() {
	k.recorder.doubt = true
	if err := k.journal.Check(); err != nil {
		k.unwritable(err)
		return
	}
	k.recorder.doubt = false
}

// runsAhead is how many numbers of runs are reserved at a time.
const runsAhead = 1000

// reserveRuns sees to it that no run's number is given twice in this home,
// whatever becomes of the journal.
func (k *Keeper) reserveRuns() {
	if next := k.engine.NextRun; next > k.reserved-runsAhead/2 {
		k.reserved = next + runsAhead
		if err := k.home.ReserveRuns(k.reserved); err != nil {
			k.log.Warn("the numbers of runs cannot be reserved", "error", err)
		}
	}
}

// keep holds records until they can be written.
func (r *recorder) keep(all []journal.Record) {
	if len(all) > mostUnwritten {
		r.lost += len(all) / 2
		all = squeeze(all)
	}
	r.unwritten = all
}

// squeeze drops the older half of the events that wait, and keeps what they
// have changed in the state.
func squeeze(all []journal.Record) []journal.Record {
	half := len(all) / 2
	var state engine.Delta
	for i := range all[:half+1] {
		state.Add(&all[i].Delta)
	}
	all[half].Delta = state
	return all[half:]
}

func (k *Keeper) retryJournal() {
	if k.recorder.err == nil {
		return
	}
	k.recorder.tried = time.Time{}
	if len(k.recorder.unwritten) == 0 { // only in doubt
		if k.doubtJournal(); !k.recorder.doubt {
			k.recorder.err = nil
			k.forget()
			return
		}
	}
	if k.commit(nil) != nil || k.recorder.err != nil {
		time.AfterFunc(retryAfter, func() { k.post(input{do: k.retryJournal}) })
	}
}

// publish tells readers of what was committed.
func (k *Keeper) publish(records []journal.Record, last int64) {
	first := last - int64(len(records)) + 1
	for i := range records {
		r := &records[i]
		accounts := make(map[string]string, len(r.Programs))
		for name, p := range r.Programs {
			accounts[name] = p.Account
		}
		c := journal.Committed{Number: first + int64(i), At: r.Event.At, Kind: r.Event.Kind(), Decisions: r.Decisions, Accounts: accounts}
		k.hub.Publish(control.NewItem(c))
		k.tellOf(c)
		k.tellAgain(r.Event)
	}
}

// programsOf tells what the gates that something was decided about start.
func (k *Keeper) programsOf(decisions []engine.Decision) map[string]journal.Program {
	if len(decisions) == 0 {
		return nil
	}
	out := map[string]journal.Program{}
	for _, d := range decisions {
		if f, ok := k.files[d.Gate]; ok {
			out[d.Gate] = journal.Program{Command: f.Gate.Run, Account: launch.AccountName(f.Gate)}
		}
	}
	return out
}

// carryOut does what was decided. What follows from that at once is returned.
func (k *Keeper) carryOut(d *engine.Decision, starts map[int64]*program, unrecorded error) []input {
	switch {
	case d.Starts():
		return k.start(d, starts[d.Run], unrecorded)
	case d.Kind == engine.StopRun:
		k.programs.stop(d)
	case d.Kind == engine.Release && k.release != nil:
		go k.release()
		k.release = nil
	}
	return nil
}

// post hands something to the keeper's goroutine. It is for others.
func (k *Keeper) post(in input) {
	select {
	case k.inbox <- in:
	case <-k.gone:
	}
}
