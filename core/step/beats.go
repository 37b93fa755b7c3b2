package step

import "undertide/core/row"

// beats say what a windowed step publishes by the clock, beside what the watermark makes due: previews of results that
// got rows, and all kept results again (docs/windows.md, "Publishing"). Both beats begin with the lane's first turn.
//
// With `every: 10s` and a first turn at 12:00:03 a turn at 12:00:13 or later is due; if that is one at 12:00:20, the
// next is at 12:00:30. A turn that comes late moves the beat: nothing is caught up.
type beats struct {
	every, again         row.Time // 0 for none
	nextEvery, nextAgain row.Time
	begun                bool
}

func newBeats(d *Window) beats {
	b := beats{again: row.Time(d.RepeatEvery.Microseconds())}
	if d.Revised {
		b.every = row.Time(d.Every.Microseconds())
	}
	return b
}

// begin starts the beats; true the first time.
func (b *beats) begin(now row.Time) bool {
	if b.begun {
		return false
	}
	b.begun, b.nextEvery, b.nextAgain = true, now+b.every, now+b.again
	return true
}

// preview says whether previews are due, and moves on to the next.
func (b *beats) preview(now row.Time) bool {
	if b.every == 0 || now < b.nextEvery {
		return false
	}
	b.nextEvery = now + b.every
	return true
}

// repeat says whether all kept results are due again, and moves on; they are once more as the input ends.
func (b *beats) repeat(now row.Time, ends bool) bool {
	if b.again == 0 || now < b.nextAgain && !ends {
		return false
	}
	b.nextAgain = now + b.again
	return true
}
