package keeper

import (
	"context"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/phrase"
)

// freshBoot is how long ago a boot may be of which is still told how long it took until
// the machine was calm: later it says nothing any more.
const freshBoot = 10 * time.Minute

// awaitCalm lets a worker wait until the machine is calm after a boot or a logon, and
// records that. Of several
// logons at once the first is waited for.
func (k *Keeper) awaitCalm(ctx context.Context, after phrase.EventKind, name string, since calendar.Instant) {
	if k.settle == nil || k.settling[after] {
		return
	}
	k.settling[after] = true
	before := calendar.InstantOf(k.now()) - since // from the boot until now
	go func() {
		s, err := k.settle(ctx, after == phrase.Boot && !k.ws.Staged())
		k.post(input{do: func() {
			delete(k.settling, after)
			if err != nil {
				k.log.Debug("how long it takes until the machine is calm is not known", "error", err)
				return
			}
			k.log.Info("the machine is calm", "after", string(after), "calm", s.Calm, "took", (time.Duration(before)*time.Millisecond + s.For).Round(time.Second))
			k.handle(input{body: &engine.Settled{After: after, Name: name, Since: since, For: before + ms(s.For), Calm: s.Calm,
				Processor: ms(s.Processor), Disk: ms(s.Disk), Memory: ms(s.Memory)}})
		}})
	}()
}

func ms(d time.Duration) calendar.Instant { return calendar.Instant(d.Milliseconds()) }
