package run

import (
	"math"
	"runtime/debug"
	"sync/atomic"

	"github.com/KimMachineGun/automemlimit/memlimit"

	"undertide/job"
)

// active counts the runs of this process, which share the memory.
var active atomic.Int64

// BoundMemory tells the runtime how much memory there is, so that it collects garbage in time and runs know what they
// share: three quarters of what the control group or the machine has, or most where that is less and not 0. GOMEMLIMIT,
// where it is set, decides.
func BoundMemory(most int64) (limit int64, err error) {
	limit, err = memlimit.Set(memlimit.WithRatio(0.75), memlimit.WithProvider(memlimit.ApplyFallback(memlimit.FromCgroup, memlimit.FromSystem)))
	if most > 0 && (err != nil || most < limit) {
		debug.SetMemoryLimit(most)
		return most, nil
	}
	return limit, err
}

// StateMemory gives how much of a run's memory its lanes may hold of state. The rest is for what is frozen and on its way
// into the store, for the rows under way, the store's own cache, and garbage.
func StateMemory(memory int64) int64 { return memory / 8 * 3 }

// StateMemoryOf gives how many bytes of state the run of a job may hold in memory just now: that part of what its document
// says or of its share of the process' memory, whichever is less. 0 where neither is known.
func StateMemoryOf(j *job.Job) func() int64 {
	limit := debug.SetMemoryLimit(-1)
	return func() int64 {
		most := j.Memory
		if limit < math.MaxInt64 {
			if share := limit / max(1, active.Load()); most == 0 || share < most {
				most = share
			}
		}
		return StateMemory(most)
	}
}
