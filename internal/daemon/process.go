package daemon

import (
	"bytes"
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"jollylarder/internal/control"
)

// What the runtime tells of its memory.
const (
	heapLive    = "/gc/heap/live:bytes"
	heapObjects = "/memory/classes/heap/objects:bytes"
	gcCycles    = "/gc/cycles/total:gc-cycles"
	gcPauses    = "/sched/pauses/total/gc:seconds"
)

// Process implements controlserver.Larder.
func (l *Larder) Process() control.Process { return thisProcess() }

func thisProcess() control.Process {
	samples := []metrics.Sample{{Name: heapObjects}, {Name: gcCycles}, {Name: gcPauses}}
	metrics.Read(samples)
	h := samples[2].Value.Float64Histogram()
	return control.Process{
		Machine: machine(), Group: cgroupLimit(), Resident: resident(), Heap: int64(samples[0].Value.Uint64()), Collections: samples[1].Value.Uint64(),
		Descriptors: descriptors(), DescriptorLimit: descriptorLimit(),
		PauseP50: 1000 * quantile(h, 0.5), PauseP99: 1000 * quantile(h, 0.99), PauseMost: 1000 * quantile(h, 1),
	}
}

// ConfiguredMemory implements controlserver.Larder.
func (l *Larder) ConfiguredMemory() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cfg.Memory
}

// quantile gives the upper bound of the bucket that holds a quantile.
func quantile(h *metrics.Float64Histogram, q float64) float64 {
	var all, n uint64
	for _, c := range h.Counts {
		all += c
	}
	for i, c := range h.Counts {
		if n += c; n > 0 && float64(n) >= q*float64(all) {
			if up := h.Buckets[i+1]; !math.IsInf(up, 1) {
				return up
			}
			return h.Buckets[i]
		}
	}
	return 0
}

// machine is how much real memory there is, in bytes, or 0 where the system does not say.
func machine() int64 {
	var info syscall.Sysinfo_t
	if syscall.Sysinfo(&info) != nil {
		return 0
	}
	return int64(info.Totalram) * int64(info.Unit)
}

// resident is how much real memory the process takes, in bytes, or 0 where the system does not say.
func resident() int64 {
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return 0
	}
	if f := bytes.Fields(text); len(f) > 1 {
		if pages, err := strconv.ParseInt(string(f[1]), 10, 64); err == nil {
			return pages * int64(os.Getpagesize())
		}
	}
	return 0
}

// descriptors is how many are open, or 0 where the system does not say.
func descriptors() int {
	list, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return 0
	}
	return len(list)
}

// descriptorLimit is how many may be open, or 0 where the system does not say.
func descriptorLimit() int {
	var r unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &r) != nil {
		return 0
	}
	return int(min(r.Cur, 1<<30))
}

// cgroupLimit is how much memory the process's control group may take, in bytes, or 0 if it is not limited or the system does
// not say.
func cgroupLimit() int64 {
	own, err := os.ReadFile("/proc/self/cgroup")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(own)) {
		path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::")
		if !ok {
			continue
		}
		text, err := os.ReadFile(filepath.Join("/sys/fs/cgroup", path, "memory.max"))
		if err != nil { // in a container it is the root of what can be seen
			text, err = os.ReadFile("/sys/fs/cgroup/memory.max")
		}
		if n, wrong := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && wrong == nil {
			return n
		}
	}
	return 0
}

// How much garbage is let grow between two collections: a share of what is kept, and as much as everything else takes.
const (
	garbageOfKept = 0.05
	leastPercent  = 5
	mostPercent   = 1000
	// otherLeast is what everything else is taken to be at least, in bytes: else, while little is kept, memory is
	// collected for every few MiB that watchers are sent, and statements pay for each time.
	otherLeast = 48 << 20
)

// collector has memory collected more often the more of it is kept results, so that the limit for those is about what
// the process takes: by itself the runtime would let as much garbage grow as there is memory in use. It keeps out of
// the way where GOGC says what to do.
type collector struct {
	percent int
	most    int64
	peak    int64 // of what was used since memory was last given back
}

// givenBackFrom is how many bytes must have been used before any are given back at once.
const givenBackFrom = 16 << 20

// look sets when the collector runs, by how many bytes are kept and used, and may be used at most.
func (c *collector) look(kept, used, most int64) {
	if os.Getenv("GOMEMLIMIT") == "" && most != c.most {
		// The limits for results and for everything else together. Near that, memory is collected more often.
		c.most = most
		debug.SetMemoryLimit(most)
	}
	if c.peak = max(c.peak, used); used < c.peak*7/8 && c.peak > givenBackFrom {
		// A flood is over: what it took is given back, and not at some time later.
		c.peak = used
		debug.FreeOSMemory()
	}
	if os.Getenv("GOGC") != "" {
		return
	}
	samples := []metrics.Sample{{Name: heapLive}}
	metrics.Read(samples)
	percent := collectAt(kept, int64(samples[0].Value.Uint64()))
	if d := percent - c.percent; c.percent != 0 && d*10 < c.percent && -d*10 < c.percent {
		return // it would stop the world for next to nothing
	}
	c.percent = percent
	debug.SetGCPercent(percent)
}

// collectAt says by how many percent the heap may grow beyond what is in use until it is collected.
func collectAt(kept, live int64) int {
	grows := garbageOfKept*float64(kept) + float64(max(live-kept, otherLeast))
	return min(max(int(100*grows/float64(max(live, 1<<20))), leastPercent), mostPercent)
}
