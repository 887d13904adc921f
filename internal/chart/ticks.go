package chart

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"gonum.org/v1/plot"

	"jollylarder/internal/core/bytesize"
)

// numberTicks names round numbers.
type numberTicks struct{}

// Ticks implements plot.Ticker.
func (numberTicks) Ticks(low, high float64) (out []plot.Tick) {
	step := niceStep(high-low, 5)
	for _, v := range multiples(low, high+step/1000, step, 0) {
		if math.Abs(v) < step/1000 {
			v = 0
		}
		out = append(out, plot.Tick{Value: v, Label: strconv.FormatFloat(v, 'f', decimals(step), 64)})
	}
	return out
}

// mostTicks bounds the ticks of an axis.
const mostTicks = 100

// multiples gives the multiples of a step within bounds, counted from an offset before zero.
func multiples(low, high, step, offset float64) (out []float64) {
	first := math.Ceil((low + offset) / step)
	for i := range mostTicks {
		v := (first+float64(i))*step - offset
		if v > high {
			break
		}
		out = append(out, v)
	}
	return out
}

func decimals(step float64) int { return max(0, int(math.Ceil(-math.Log10(step)-1e-9))) }

// niceStep is a step of 1, 2 or 5 by some power of ten, so that there are about n of them.
func niceStep(span float64, n int) float64 {
	if span <= 0 {
		return 1
	}
	power := math.Pow(10, math.Floor(math.Log10(span/float64(n))))
	for _, f := range []float64{1, 2, 5, 10} {
		if span/(f*power) <= float64(n) {
			return f * power
		}
	}
	return 10 * power
}

// shareTicks names percentages.
type shareTicks struct{}

// Ticks implements plot.Ticker.
func (shareTicks) Ticks(low, high float64) (out []plot.Tick) {
	step := niceStep(high-low, 5)
	for _, v := range multiples(low, high+step/1000, step, 0) {
		out = append(out, plot.Tick{Value: v, Label: strconv.FormatFloat(100*v, 'f', decimals(100*step), 64) + "%"})
	}
	return out
}

// logTicks names powers of ten of milliseconds.
type logTicks struct{}

// Ticks implements plot.Ticker.
func (logTicks) Ticks(low, high float64) (out []plot.Tick) {
	for e := math.Floor(math.Log10(low)); e <= math.Ceil(math.Log10(high)) && len(out) < 10*mostTicks; e++ {
		for m := 1.0; m < 10; m++ {
			v := m * math.Pow(10, e)
			if v < low*0.999 || v > high*1.001 {
				continue
			}
			t := plot.Tick{Value: v}
			if m == 1 || (m == 2 || m == 5) && high/low < 100 {
				t.Label = duration(v)
			}
			out = append(out, t)
		}
	}
	return out
}

// sizeTicks names powers of two of bytes.
type sizeTicks struct{}

// Ticks implements plot.Ticker.
func (sizeTicks) Ticks(low, high float64) (out []plot.Tick) {
	from, to := math.Ceil(math.Log2(low)-1e-9), math.Floor(math.Log2(high)+1e-9)
	every := math.Ceil((to - from + 1) / 8)
	for e := from; e <= to; e++ {
		t := plot.Tick{Value: math.Exp2(e)}
		if math.Mod(e-from, every) == 0 {
			t.Label = bytesize.Format(int64(t.Value))
		}
		out = append(out, t)
	}
	return out
}

// clockTicks names times.
type clockTicks struct{ location *time.Location }

var clockSteps = []time.Duration{10 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 30 * 24 * time.Hour, 90 * 24 * time.Hour, 365 * 24 * time.Hour}

// Ticks implements plot.Ticker.
func (c clockTicks) Ticks(low, high float64) (out []plot.Tick) {
	where := c.location
	if where == nil {
		where = time.UTC
	}
	step := clockSteps[len(clockSteps)-1]
	for _, s := range clockSteps {
		if (high-low)/s.Seconds() <= 7 {
			step = s
			break
		}
	}
	_, offset := time.Unix(int64(low), 0).In(where).Zone()
	for _, v := range multiples(low, high, step.Seconds(), float64(offset)) {
		at := time.Unix(int64(v), 0).In(where)
		label := at.Format("15:04")
		switch {
		case step < time.Minute:
			label = at.Format("15:04:05")
		case step >= 24*time.Hour:
			label = at.Format("2 Jan")
		case at.Hour() == 0 && at.Minute() == 0:
			label = fmt.Sprint(at.Format("2 Jan"))
		}
		out = append(out, plot.Tick{Value: v, Label: label})
	}
	return out
}
