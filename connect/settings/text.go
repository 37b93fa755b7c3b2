package settings

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ParseDuration reads the durations of documents: whole numbers with the units us, ms, s, m, h, d
// (24 hours), greatest first.
func ParseDuration(s string) (time.Duration, error) {
	units := []struct {
		name string
		size time.Duration
	}{{"d", 24 * time.Hour}, {"h", time.Hour}, {"m", time.Minute}, {"s", time.Second}, {"ms", time.Millisecond}, {"us", time.Microsecond}}
	bad := fmt.Errorf("%q is not a duration", s)
	var total time.Duration
	rest, last := s, -1
	for rest != "" {
		i := 0
		for i < len(rest) && rest[i] >= '0' && rest[i] <= '9' {
			i++
		}
		v, err := strconv.ParseInt(rest[:i], 10, 64)
		if err != nil {
			if s == "0" {
				return 0, fmt.Errorf("%q has no unit", s)
			}
			return 0, bad
		}
		rest = rest[i:]
		j := 0
		for j < len(rest) && (rest[j] < '0' || rest[j] > '9') {
			j++
		}
		at := slices.IndexFunc(units, func(u struct {
			name string
			size time.Duration
		}) bool {
			return u.name == rest[:j]
		})
		if j == 0 {
			return 0, fmt.Errorf("%q has no unit", s)
		}
		if at <= last {
			return 0, bad
		}
		last = at
		if v > int64(math.MaxInt64/units[at].size) || total > math.MaxInt64-time.Duration(v)*units[at].size {
			return 0, fmt.Errorf("%q is too long", s)
		}
		total += time.Duration(v) * units[at].size
		rest = rest[j:]
	}
	if last < 0 {
		return 0, bad
	}
	return total, nil
}

// ParseSize reads sizes of documents: whole numbers with B, KiB, MiB or GiB.
func ParseSize(s string) (int64, error) {
	units := []struct {
		name string
		size int64
	}{{"KiB", 1 << 10}, {"MiB", 1 << 20}, {"GiB", 1 << 30}, {"B", 1}}
	for _, u := range units {
		if num, ok := strings.CutSuffix(s, u.name); ok {
			v, err := strconv.ParseInt(strings.TrimSpace(num), 10, 64)
			if err != nil || v <= 0 || v > (1<<62)/u.size {
				break
			}
			return v * u.size, nil
		}
	}
	return 0, fmt.Errorf("%q is not a size", s)
}

// Size is a number of bytes, written 64MiB.
type Size int64

// UnmarshalText reads a size.
func (s *Size) UnmarshalText(text []byte) error {
	v, err := ParseSize(string(text))
	if err != nil {
		return fmt.Errorf("%w; write a size such as 64MiB", err)
	}
	*s = Size(v)
	return nil
}
