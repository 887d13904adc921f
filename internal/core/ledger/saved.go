package ledger

import (
	"math"
	"time"
)

// Samples are times that the origin took for control samples, in sum.
type Samples struct {
	Count uint64
	// Took is the sum of the times in milliseconds, and Squares that of their squares.
	Took, Squares float64
}

func (s *Samples) add(took time.Duration) {
	ms := float64(max(took, 0)) / float64(time.Millisecond)
	s.Count, s.Took, s.Squares = s.Count+1, s.Took+ms, s.Squares+ms*ms
}

// Plus adds samples of other stretches or others.
func (s Samples) Plus(o Samples) Samples { return s.plus(o, 1) }

func (s Samples) plus(o Samples, sign int64) Samples {
	if s.Count == o.Count && sign < 0 {
		return Samples{} // and no remains of rounding
	}
	return Samples{s.Count + uint64(sign)*o.Count, s.Took + float64(sign)*o.Took, s.Squares + float64(sign)*o.Squares}
}

// Mean is what the origin took on average, and Error half of its interval of 95%: infinite where too few were taken to
// say.
func (s Samples) Mean() (mean, half time.Duration) {
	if s.Count == 0 {
		return 0, math.MaxInt64
	}
	n := float64(s.Count)
	m := s.Took / n
	mean = time.Duration(m * float64(time.Millisecond))
	if s.Count < fewestSamples {
		return mean, math.MaxInt64
	}
	variance := max(s.Squares/n-m*m, 0) * n / (n - 1)
	return mean, time.Duration(1.96 * math.Sqrt(variance/n) * float64(time.Millisecond))
}

// fewestSamples is how many control samples an interval is given for: with fewer, the spread of so skewed times is not
// known.
const fewestSamples = 10

// Estimate is a time with half of its interval of 95%. Known is set where there is something to estimate it by.
type Estimate struct {
	Time, Error time.Duration
	Known       bool
}

// BySample estimates what hits spared by what the origin takes now: as many times the mean of the control samples as
// there were hits, less what was waited for those, and less what the larder added to misses.
func (s Sums) BySample() Estimate {
	mean, half := s.Samples.Mean()
	if half == math.MaxInt64 {
		return Estimate{}
	}
	hits := time.Duration(s.Count[Hit])
	return Estimate{hits*mean - s.Waited[Hit] - s.Own, hits * half, true}
}

// ByBefore estimates what was spared by what calls waited on average while nothing was kept, as measured before: as
// many times that as there were calls since, less what was waited for those. All that keeping costs is in it, and also
// whatever else has become different meanwhile.
func (s Sums) ByBefore(before Part) Estimate {
	after := s.After()
	if before.Calls < fewestSamples || after.Calls == 0 {
		return Estimate{}
	}
	return Estimate{Time: time.Duration(after.Calls)*before.Mean() - after.Waited, Known: true}
}

// Measured is what is needed to say what was spared of one pattern: what was counted of it over some stretch, and its
// calls while it was not kept, whenever that was.
type Measured struct {
	Sums
	Baseline Part
}

// Saved is what was spared, measured in three ways.
type Saved struct {
	// Fetches is by the last fetch of each result, Sample by the control samples, and Before by what was before.
	Fetches        time.Duration
	Sample, Before Estimate
	// SampleCovers and BeforeCovers are the shares, from 0 to 1, of what each could be measured of: of the hits, and of
	// the calls that were kept. The rest is left out of it.
	SampleCovers, BeforeCovers float64
	// SampleLike and BeforeLike are what Fetches says of those parts alone, to be compared.
	SampleLike, BeforeLike time.Duration
}

// Measure says what was spared of all of some patterns together.
func Measure(list ...Measured) (out Saved) {
	var hits, sampled, after, based float64
	var squares float64
	for _, m := range list {
		out.Fetches += m.Saved
		hits += float64(m.Count[Hit])
		after += float64(m.After().Calls)
		if e := m.BySample(); e.Known {
			out.Sample.Time += e.Time
			squares += float64(e.Error) * float64(e.Error)
			sampled += float64(m.Count[Hit])
			out.SampleLike += m.Saved
		}
		if e := m.ByBefore(m.Baseline); e.Known {
			out.Before.Time += e.Time
			based += float64(m.After().Calls)
			out.BeforeLike += m.Saved
		}
	}
	out.Sample.Error = time.Duration(math.Sqrt(squares))
	out.Sample.Known, out.Before.Known = sampled > 0, based > 0
	out.SampleCovers, out.BeforeCovers = sampled/max(hits, 1), based/max(after, 1)
	return out
}
