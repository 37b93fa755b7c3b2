package measure

import (
	"fmt"
	"math"
	"os"
	"os/exec"
	"strings"
	"testing"

	"undertide/core/row"
)

// one gives the result of a measure over some values.
func one(t *testing.T, s Spec, add func(c *row.Column)) string {
	t.Helper()
	arg := row.NewColumn(s.Arg)
	add(arg)
	c := mustNew(t, s)
	c.Grow(1)
	for i := range arg.Len() {
		c.Add([]uint32{0}, []uint16{uint16(i)}, arg, make([]row.Time, arg.Len()))
	}
	return result(t, s, c, 0, arg.Len())
}

// TestQuantilesOfInts: the median of ints is within 1 % after it was rounded, whatever its size and sign. Once 63
// gave 64, and near the greatest int a negative number came.
func TestQuantilesOfInts(t *testing.T) {
	check := func(v int64) {
		got := one(t, Spec{Func: "median", Arg: row.Int}, func(c *row.Column) { c.AppendInt(v) })
		var m int64
		if _, err := fmt.Sscan(got, &m); err != nil {
			t.Fatal(err)
		}
		if math.Abs(float64(m)-float64(v)) > 0.01*math.Abs(float64(v)) {
			t.Errorf("the median of %d is %d", v, m)
		}
	}
	for v := int64(-3000); v <= 3000; v++ {
		check(v)
	}
	for v := int64(1); v > 0; v *= 2 {
		for _, d := range []int64{-1, 0, 1} {
			check(v + d)
			check(-(v + d))
		}
	}
	check(math.MaxInt64)
	check(math.MinInt64)
}

// zerosOf gives zeros of these signs.
func zerosOf(signs ...float64) func(c *row.Column) {
	return func(c *row.Column) {
		for _, s := range signs {
			c.AppendDouble(math.Copysign(0, s))
		}
	}
}

// TestEqualValues: both zeros are one value, -0 the lesser where one of them is wanted, and so are decimals of equal value; those that pass through keep
// the digits that they were given with.
func TestEqualValues(t *testing.T) {
	zeros := func(c *row.Column) { c.AppendDouble(0); c.AppendDouble(math.Copysign(0, -1)); c.AppendDouble(1) }
	prices := func(c *row.Column) {
		for _, s := range []string{"10.10", "10.1", "10.100", "-0.00", "0", "7.50"} {
			c.AppendString(s)
		}
	}
	for _, c := range []struct {
		spec Spec
		add  func(*row.Column)
		want string
	}{
		{Spec{Func: "count_distinct", Arg: row.Double}, zeros, "2"},
		{Spec{Func: "most_common", Arg: row.Double, N: 1}, zeros, "[{value: 0, count: 2}]"},
		{Spec{Func: "max", Arg: row.Double}, zerosOf(0, -1), "0"},
		{Spec{Func: "max", Arg: row.Double}, zerosOf(-1, 0), "0"},
		{Spec{Func: "min", Arg: row.Double}, zerosOf(0, -1), "-0"},
		{Spec{Func: "min", Arg: row.Double}, zerosOf(-1, 0), "-0"},
		{Spec{Func: "count_distinct", Arg: row.Decimal}, prices, "3"},
		{Spec{Func: "most_common", Arg: row.Decimal, N: 1}, prices, "[{value: 10.1, count: 3}]"},
		{Spec{Func: "max", Arg: row.Decimal}, prices, "10.10"},
		{Spec{Func: "first", Arg: row.Decimal}, prices, "10.10"},
		{Spec{Func: "last", Arg: row.Decimal}, prices, "7.50"}, // of equal times the last by place
		{Spec{Func: "sum", Arg: row.Decimal}, prices, "37.8"},
		{Spec{Func: "mean", Arg: row.Decimal}, func(c *row.Column) { c.AppendString("1.00"); c.AppendString("0"); c.AppendString("0") }, "0.333333333333333333"},
		{Spec{Func: "median", Arg: row.Decimal}, func(c *row.Column) { c.AppendString("0") }, "0"},
	} {
		if got := one(t, c.spec, c.add); got != c.want {
			t.Errorf("%s of %s is %s, want %s", c.spec.Func, c.spec.Arg, got, c.want)
		}
	}
}

// TestNoFusedMultiplyAdd builds the measures for a machine that has such an instruction: where the compiler
// uses it, results differ from those of other machines (docs/time.md, "Same input, same output").
func TestNoFusedMultiplyAdd(t *testing.T) {
	cmd := exec.Command("go", "build", "-gcflags=undertide/core/...=-S", "undertide/core/measure", "undertide/core/expr", "undertide/core/step")
	cmd.Env = append(os.Environ(), "GOARCH=arm64", "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("build for arm64: %v\n%s", err, out)
	}
	if !strings.Contains(string(out), "FMULD") {
		t.Fatal("the listing has no multiplication: it is not what this test looks through")
	}
	for line := range strings.Lines(string(out)) {
		for _, fused := range []string{"FMADD", "FMSUB", "FNMADD", "FNMSUB"} {
			if strings.Contains(line, fused) {
				t.Errorf("fused: %s", line)
			}
		}
	}
}
