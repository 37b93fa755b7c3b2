package expr

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"undertide/core/row"
	"undertide/pace"
)

var rounds = flag.Int("rounds", pace.Of(6000, 600), "random expressions")

var fields = row.Schema{
	{Name: "i", Kind: row.Int}, {Name: "j", Kind: row.Int}, {Name: "x", Kind: row.Double}, {Name: "y", Kind: row.Double},
	{Name: "s", Kind: row.String}, {Name: "u", Kind: row.String}, {Name: "p", Kind: row.Bool}, {Name: "q", Kind: row.Bool},
	{Name: "t", Kind: row.Timestamp}, {Name: "d", Kind: row.Duration}, {Name: "z", Kind: row.Bytes},
	{Name: "m", Kind: row.Decimal}, {Name: "l", Kind: row.ListOf(row.String)}, {Name: "n", Kind: row.MapOf(row.Int)},
}

var scope = Scope{Fields: fields, Values: map[string]Value{"least": {Kind: row.Double, F: 0.5}, "name": {Kind: row.String, S: "C1"}}}

// put appends a value of a field, or null.
func put(c *row.Column, v any) {
	switch v := v.(type) {
	case nil:
		c.AppendNull()
	case int:
		c.AppendInt(int64(v))
	case float64:
		c.AppendDouble(v)
	case string:
		c.AppendString(v)
	case bool:
		c.AppendBool(v)
	case []string:
		one := row.NewColumn(row.String)
		var list []byte
		for i, x := range v {
			one.AppendString(x)
			list = row.AppendElement(list, one, i)
		}
		c.AppendBytes(list)
	case map[string]int: // of one entry
		for k, x := range v {
			one := row.NewColumn(row.Int)
			one.AppendInt(int64(x))
			c.AppendBytes(row.AppendElement(row.AppendText(nil, k), one, 0))
		}
	}
}

// oneRow makes a batch of one row; fields that are not named are null.
func oneRow(values map[string]any) *row.Batch {
	b := row.NewBatch(fields)
	for i, f := range fields {
		put(b.Cols[i], values[f.Name])
	}
	b.N = 1
	return b
}

// TestRules: the null and error rules of docs/time.md, by both evaluators.
func TestRules(t *testing.T) {
	at := int(row.FirstTime) + 1
	for _, c := range []struct {
		text   string
		values map[string]any
		want   string // a value, null, or "error: …"
	}{
		{"x == null", nil, "true"},
		{"x != null", nil, "false"},
		{"null == x", map[string]any{"x": 1.0}, "false"},
		{"x + 1.0", nil, "null"},
		{"x > 1.0", nil, "null"},
		{"s + 'a'", nil, "null"},
		{"size(s)", nil, "null"},
		{"p && q", map[string]any{"p": false}, "false"},
		{"p && q", map[string]any{"p": true}, "null"},
		{"p || q", map[string]any{"q": true}, "true"},
		{"p || q", map[string]any{"q": false}, "null"},
		{"!p", nil, "null"},
		{"p && 1 / i > 0", map[string]any{"p": false, "i": 0}, "false"},
		{"1 / i > 0 && p", map[string]any{"p": false, "i": 0}, "false"},
		{"p && 1 / i > 0", map[string]any{"p": true, "i": 0}, "error: division by zero"},
		{"1 / i > 0 || p", map[string]any{"p": true, "i": 0}, "true"},
		{"1 / i > 0 || p", map[string]any{"i": 0}, "error: division by zero"},
		{"p ? i : j", map[string]any{"i": 1, "j": 2}, "2"},
		{"p ? 1 / i : j", map[string]any{"p": false, "i": 0, "j": 7}, "7"},
		{"i + j", map[string]any{"i": math.MaxInt64, "j": 1}, "error: the int result does not fit 64 bits"},
		{"i * j", map[string]any{"i": math.MinInt64, "j": -1}, "error: the int result does not fit 64 bits"},
		{"-i", map[string]any{"i": math.MinInt64}, "error: the int result does not fit 64 bits"},
		{"i / j", map[string]any{"i": math.MinInt64, "j": -1}, "error: the int result does not fit 64 bits"},
		{"i % j", map[string]any{"i": -7, "j": 3}, "-1"},
		{"i % j", map[string]any{"i": 7, "j": 0}, "error: division by zero"},
		{"x / y", map[string]any{"x": 1.0, "y": 0.0}, "error: division by zero"},
		{"x * y", map[string]any{"x": 1e300, "y": 1e300}, "error: the double result is not finite"},
		{"x > 2", map[string]any{"x": 2.5}, "true"},
		{"2 * x + 1", map[string]any{"x": 2.5}, "6"},
		{"x in [1, 2, 3]", map[string]any{"x": 2.0}, "true"},
		{"i in [1, j]", map[string]any{"i": 2}, "null"},
		{"i in [2, j]", map[string]any{"i": 2}, "true"},
		{"s in ['a', 'b']", map[string]any{"s": "c"}, "false"},
		{"int(x)", map[string]any{"x": -2.9}, "-2"},
		{"int(x)", map[string]any{"x": 1e19}, "error: the int result does not fit 64 bits"},
		{"double(i)", map[string]any{"i": 3}, "3"},
		{"int(s)", map[string]any{"s": "12"}, "12"},
		{"string(i)", map[string]any{"i": 12}, `"12"`},
		{"s.startsWith('C') && s.matches('C[0-9]+')", map[string]any{"s": "C12"}, "true"},
		{"s.contains(u)", map[string]any{"s": "abc", "u": "bc"}, "true"},
		{"size(s)", map[string]any{"s": "äöü"}, "3"},
		{"t + duration('1s')", map[string]any{"t": 0}, "1970-01-01T00:00:01Z"},
		{"t - duration('1s')", map[string]any{"t": at}, "error: the timestamp is outside the years 1 to 9999"},
		{"t - t == d", map[string]any{"t": 5, "d": 0}, "true"},
		{"t.getHours('Europe/Berlin')", map[string]any{"t": 0}, "1"},
		{"t == timestamp('1970-01-01T00:00:00.000001Z')", map[string]any{"t": 1}, "true"},
		{"x > values.least && s == values.name", map[string]any{"x": 0.6, "s": "C1"}, "true"},
		{"p ? null : x", map[string]any{"p": true, "x": 1.0}, "null"},
		{"s < u", map[string]any{"s": "a", "u": "b"}, "true"},
		{"l == null", nil, "true"},
		{"m != null", map[string]any{"m": "1"}, "true"},
		{"m + 1", map[string]any{"m": "0.1"}, "1.1"},
		{"m * 0.2 + m", map[string]any{"m": "0.1"}, "0.12"},
		{"m / 3", map[string]any{"m": "1"}, "0.333333333333333333"},
		{"m / 0", map[string]any{"m": "1"}, "error: division by zero"},
		{"-m < 0.0", map[string]any{"m": "10"}, "true"},
		{"m > 9", map[string]any{"m": "10"}, "true"},
		{"m == decimal('1.50')", map[string]any{"m": "1.5"}, "true"},
		{"decimal('x')", nil, "error: \"x\" is not a decimal"},
		{"double(m) * 2.0", map[string]any{"m": "0.25"}, "0.5"},
		{"int(m)", map[string]any{"m": "-2.9"}, "-2"},
		{"string(m)", map[string]any{"m": "2.9"}, `"2.9"`},
		{"round(m, 1)", map[string]any{"m": "2.25"}, "2.3"},
		{"l[1]", map[string]any{"l": []string{"a", "b"}}, `"b"`},
		{"l[2]", map[string]any{"l": []string{"a", "b"}}, "error: there is no element 2 in a list of 2"},
		{"size(l)", map[string]any{"l": []string{"a", "b"}}, "2"},
		{"s in l", map[string]any{"l": []string{"a", "b"}, "s": "b"}, "true"},
		{"l + [s]", map[string]any{"l": []string{"a"}, "s": "b"}, `["a", "b"]`},
		{"l == ['a']", map[string]any{"l": []string{"a"}}, "true"},
		{"n['k']", map[string]any{"n": map[string]int{"k": 4}}, "4"},
		{"n['x']", map[string]any{"n": map[string]int{"k": 4}}, "null"},
		{"'k' in n", map[string]any{"n": map[string]int{"k": 4}}, "true"},
		{"coalesce(x, y, 3.0)", map[string]any{"y": 2.0}, "2"},
		{"coalesce(x, y)", nil, "null"},
		{"coalesce(x, 1)", nil, "1"},
		{"s.extract('a(.)')", map[string]any{"s": "xab"}, `"b"`},
		{"s.extract('a(.)')", map[string]any{"s": "x"}, "null"},
		{"s.extract(u)", map[string]any{"s": "x", "u": "no group"}, "error: \"no group\" is not a regular expression with a group"},
		{"s.parse_time('%d/%m/%Y %H:%M')", map[string]any{"s": "02/01/2026 03:04"}, "2026-01-02T03:04:00Z"},
		{"s.parse_time('%d/%m/%Y %H:%M', 'Europe/Berlin')", map[string]any{"s": "02/07/2026 03:04"}, "2026-07-02T01:04:00Z"},
		{"s.parse_time('%Y')", map[string]any{"s": "soon"}, "error: \"soon\" is not a time of the form %Y"},
		{"t.format('%Y-%m-%d %H', 'Asia/Tokyo')", map[string]any{"t": 0}, `"1970-01-01 09"`},
		{"year(t) * 10000 + month(t) * 100 + day(t)", map[string]any{"t": 86_400_000_000}, "19700102"},
		{"hour(t, 'Asia/Tokyo') * 100 + minute(t)", map[string]any{"t": 60_000_000}, "901"},
		{"hour(t, s)", map[string]any{"t": 0, "s": "Nowhere/At"}, "error: there is no time zone \"Nowhere/At\""},
		{"second(t)", nil, "null"},
		{"round(x)", map[string]any{"x": -2.5}, "-3"},
		{"round(x, 2)", map[string]any{"x": 2.675}, "2.68"},
		{"abs(i)", map[string]any{"i": math.MinInt64}, "error: the int result does not fit 64 bits"},
		{"abs(x) + double(abs(i))", map[string]any{"x": -1.5, "i": -2}, "3.5"},
		{"abs(d) == d", map[string]any{"d": -5}, "false"},
		{"hash(s) == hash('a')", map[string]any{"s": "a"}, "true"},
	} {
		p, faults := Compile(c.text, scope)
		if p == nil {
			t.Errorf("%s: %v", c.text, faults)
			continue
		}
		b := oneRow(c.values)
		show := func(v Value, err error) string {
			if err != nil {
				return "error: " + err.Error()
			}
			return v.String()
		}
		if got := show(p.Eval(b.Cols, 0)); got != c.want {
			t.Errorf("%s of %v: the plain evaluator gives %s, want %s", c.text, c.values, got, c.want)
		}
		col, errs := p.NewRunner().Run(b.Cols, 1)
		isErr := HasBit(errs, 0)
		if isErr != strings.HasPrefix(c.want, "error") || !isErr && At(col, 0).String() != c.want {
			t.Errorf("%s of %v: the columns give %s (error %v), want %s", c.text, c.values, At(col, 0), isErr, c.want)
		}
	}
}

func TestFaults(t *testing.T) {
	for text, want := range map[string]string{
		"x +":                "cannot be read",
		"nope > 1":           "unknown name nope",
		"x + i":              "write double(…) around the int",
		"s + 1":              "compare and join strings with strings",
		"sum(x)":             "sum is an aggregate",
		"coalesce(x, s)":     "does not take",
		"s.extract('a')":     "not a regular expression with a group",
		"s.parse_time('%Q')": "not a pattern of a time",
		"hour(t, 'Mars')":    "no time zone",
		"m + x":              "+ does not take decimal and double",
		"[1, 'a']":           "plain type",
		"i.map(e, e)":        "range",
		"5u == 5u":           "uint",
		"s.matches('[')":     "not a regular expression",
		"i in t":             "does not take",
	} {
		p, faults := Compile(text, scope)
		if p != nil || len(faults) == 0 {
			t.Errorf("%s is taken, want a fault with %q", text, want)
			continue
		}
		if got := fmt.Sprint(faults); !strings.Contains(got, want) {
			t.Errorf("%s: %s, want %q", text, got, want)
		}
	}
}

// randomText makes an expression of a kind.
func randomText(r *rand.Rand, k row.Kind, depth int) string {
	pick := func(o ...string) string { return o[r.IntN(len(o))] }
	sub := func(k row.Kind) string { return randomText(r, k, depth-1) }
	if depth == 0 {
		switch k {
		case row.Int:
			return pick("i", "j", "1", "0", "2", "7", "1000003", "-3", "9223372036854775807")
		case row.Double:
			return pick("x", "y", "0.0", "2.5", "1e300", "values.least")
		case row.String:
			return pick("s", "u", "'a'", "'C1'", "values.name")
		case row.Timestamp:
			return pick("t", "timestamp('2026-01-01T00:00:00Z')")
		case row.Duration:
			return pick("d", "duration('90s')")
		}
		return pick("p", "q", "true", "(x == null)", "(s != null)")
	}
	switch k {
	case row.Int:
		switch r.IntN(5) {
		case 0:
			return "(" + sub(row.Bool) + " ? " + sub(row.Int) + " : " + sub(row.Int) + ")"
		case 1:
			return "int(" + sub(row.Double) + ")"
		case 2:
			return "size(" + sub(row.String) + ")"
		}
		return "(" + sub(row.Int) + pick(" + ", " - ", " * ", " / ", " % ") + sub(row.Int) + ")"
	case row.Double:
		switch r.IntN(4) {
		case 0:
			return "(" + sub(row.Bool) + " ? " + sub(row.Double) + " : " + sub(row.Double) + ")"
		case 1:
			return "double(" + sub(row.Int) + ")"
		}
		return "(" + sub(row.Double) + pick(" + ", " - ", " * ", " / ") + sub(row.Double) + ")"
	case row.String:
		if r.IntN(2) == 0 {
			return "string(" + sub(row.Int) + ")"
		}
		return "(" + sub(row.String) + " + " + sub(row.String) + ")"
	case row.Timestamp:
		return "(" + sub(row.Timestamp) + pick(" + ", " - ") + sub(row.Duration) + ")"
	case row.Duration:
		return "(" + sub(row.Timestamp) + " - " + sub(row.Timestamp) + ")"
	}
	switch r.IntN(8) {
	case 7:
		return "(" + sub(row.Int) + " % " + pick("2", "64", "1", "6") + pick(" == ", " != ") + pick("0", "0", "1") + ")"
	case 0:
		return "(" + sub(row.Bool) + pick(" && ", " || ") + sub(row.Bool) + ")"
	case 1:
		return "!" + sub(row.Bool)
	case 2:
		return "(" + sub(row.String) + pick(".startsWith(", ".endsWith(", ".contains(") + sub(row.String) + "))"
	case 3:
		return "(" + sub(row.Int) + " in [" + sub(row.Int) + ", " + sub(row.Int) + "])"
	}
	k = []row.Kind{row.Int, row.Double, row.String, row.Timestamp, row.Duration}[r.IntN(5)]
	return "(" + sub(k) + pick(" == ", " != ", " < ", " <= ", " > ", " >= ") + sub(k) + ")"
}

func randomBatch(r *rand.Rand, n int) *row.Batch {
	b := row.NewBatch(fields)
	b.N = n
	nulls := r.IntN(2) // half of all batches have none: there are shorter ways for those
	for c, f := range fields {
		for range n {
			switch col := b.Cols[c]; {
			case r.IntN(5) < nulls:
				col.AppendNull()
			case f.Kind == row.Double:
				col.AppendDouble([]float64{0, 1, -2.5, 1e300, r.NormFloat64()}[r.IntN(5)])
			case f.Kind.Text():
				col.AppendString([]string{"", "a", "C1", "bca"}[r.IntN(4)])
			case f.Kind == row.Bool:
				col.AppendBool(r.IntN(2) == 0)
			case f.Kind == row.Timestamp:
				col.AppendInt([]int64{0, int64(row.FirstTime), int64(row.LastTime), r.Int64N(1 << 50)}[r.IntN(4)])
			default:
				col.AppendInt([]int64{0, 1, -7, math.MaxInt64, math.MinInt64, r.Int64N(100)}[r.IntN(6)])
			}
		}
	}
	return b
}

// TestEvaluatorsAgree compares the plain evaluator and the typed loops on random expressions and rows.
func TestEvaluatorsAgree(t *testing.T) {
	kinds := []row.Kind{row.Int, row.Double, row.String, row.Timestamp, row.Duration, row.Bool}
	for seed := range uint64(*rounds) {
		r := rand.New(rand.NewPCG(seed, 3))
		text := randomText(r, kinds[r.IntN(len(kinds))], 1+r.IntN(4))
		p, faults := Compile(text, scope)
		if p == nil {
			t.Fatalf("seed %d: %s: %v", seed, text, faults)
		}
		run := p.NewRunner()
		for range 2 { // the second run meets the memory of the first
			b := randomBatch(r, 1+r.IntN(130))
			col, errs := run.Run(b.Cols, b.N)
			for i := range b.N {
				want, err := p.Eval(b.Cols, i)
				if (err != nil) != HasBit(errs, i) {
					t.Fatalf("seed %d, row %d: %s: plain error %v, columns error %v", seed, i, text, err, HasBit(errs, i))
				}
				if err == nil && At(col, i) != want {
					t.Fatalf("seed %d, row %d: %s: plain %v, columns %v", seed, i, text, want, At(col, i))
				}
			}
			if p.Kind() == row.Bool {
				sameSelection(t, p, run, r, b)
			}
		}
	}
}

// sameSelection compares what a condition leaves of some rows with the plain evaluator.
func sameSelection(t *testing.T, p *Program, run *Runner, r *rand.Rand, b *row.Batch) {
	t.Helper()
	var sel, want, wrong []uint16
	for i := range b.N {
		if r.IntN(3) == 0 {
			continue
		}
		sel = append(sel, uint16(i))
		if v, err := p.Eval(b.Cols, i); err != nil {
			wrong = append(wrong, uint16(i))
		} else if !v.Null && v.I != 0 {
			want = append(want, uint16(i))
		}
	}
	kept, errs := run.Select(b.Cols, b.N, sel, nil)
	if !slices.Equal(kept, want) {
		t.Fatalf("%s: of %v the plain evaluator leaves %v, and the selection %v", p.Text(), sel, want, kept)
	}
	for _, i := range sel {
		if HasBit(errs, int(i)) != slices.Contains(wrong, i) {
			t.Fatalf("%s, row %d: an error by one evaluator alone", p.Text(), i)
		}
	}
}

// TestNoAllocation: a steady state of typed loops allocates nothing.
func TestNoAllocation(t *testing.T) {
	p, faults := Compile("x > 0.5 && y * 2.0 < 3.0 || i % 2 == 0 && s == 'C1'", scope)
	if p == nil {
		t.Fatal(faults)
	}
	b := randomBatch(rand.New(rand.NewPCG(1, 1)), row.MaxRows)
	run := p.NewRunner()
	run.Run(b.Cols, b.N)
	if n := testing.AllocsPerRun(20, func() { run.Run(b.Cols, b.N) }); n > 0 {
		t.Errorf("%.0f allocations a batch, want none", n)
	}
	var kept []uint16
	sel := []uint16{1, 2, 3, 5, 8}
	kept, _ = run.Select(b.Cols, b.N, sel, kept)
	if n := testing.AllocsPerRun(20, func() { kept, _ = run.Select(b.Cols, b.N, sel, kept) }); n > 0 {
		t.Errorf("%.0f allocations for a selection, want none", n)
	}
}

// FuzzCompile: no text makes the compiler panic, and what it takes can be evaluated by both.
func FuzzCompile(f *testing.F) {
	for _, s := range []string{"x > 2 && s == 'a'", "p ? i : j", "t.getHours('UTC')", "i in [1, 2]", "'", "size(s) + int(x)", "null == null", "[1][0]"} {
		f.Add(s)
	}
	b := randomBatch(rand.New(rand.NewPCG(2, 2)), 70)
	f.Fuzz(func(t *testing.T, text string) {
		p, faults := Compile(text, scope)
		if p == nil {
			if len(faults) == 0 {
				t.Error("refused without a fault")
			}
			return
		}
		col, errs := p.NewRunner().Run(b.Cols, b.N)
		for i := range b.N {
			want, err := p.Eval(b.Cols, i)
			if (err != nil) != HasBit(errs, i) || err == nil && At(col, i) != want {
				t.Fatalf("%s, row %d: plain %v %v, columns %v", text, i, want, err, At(col, i))
			}
		}
	})
}

func ExampleCompile() {
	s := Scope{Fields: row.Schema{{Name: "tonnes", Kind: row.Double}}}
	p, _ := Compile("tonnes > 20", s)
	b := row.NewBatch(s.Fields)
	b.Cols[0].AppendDouble(24.5)
	v, err := p.Eval(b.Cols, 0)
	fmt.Println(v, err)
	_, faults := Compile("tonnes > 'heavy'", s)
	fmt.Println(faults[0].Message)
	// Output:
	// true <nil>
	// > does not take double and string
}
