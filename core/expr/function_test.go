package expr

import (
	"math/rand/v2"
	"strings"
	"testing"

	"undertide/core/row"
)

// TestFunctions: a call of a document's own function gives what stands in it gives over its arguments. Random texts are
// made functions of all fields; a call with fields, constants and errors as arguments is compared with the text over rows
// that hold what the arguments gave.
func TestFunctions(t *testing.T) {
	kinds := []row.Kind{row.Int, row.Double, row.String, row.Timestamp, row.Duration, row.Bool}
	given := map[row.Kind][]string{row.Int: {"i", "j", "3", "i + 1 - i", "null"}, row.Double: {"x", "y", "2", "-0.5", "x * 2"}, row.String: {"s", "u", "'C1'", "s + ''"}, row.Bool: {"p", "q", "true", "x > y"}}
	for seed := range uint64(*rounds / 10) {
		r := rand.New(rand.NewPCG(seed, 11))
		text := randomText(r, kinds[r.IntN(len(kinds))], 1+r.IntN(4))
		is, faults := Compile(text, scope)
		if is == nil {
			t.Fatalf("seed %d: %s: %v", seed, text, faults)
		}
		f := NewFunction("own", fields, is)
		over := Scope{Fields: fields, Values: scope.Values, Functions: map[string]*Function{"own": f}}
		args := make([]string, len(fields))
		argOf := make([]*Program, len(fields))
		for i, field := range fields {
			args[i] = field.Name
			if some := given[field.Kind]; some != nil {
				args[i] = some[r.IntN(len(some))]
			}
			if args[i] == "null" {
				argOf[i] = NullProgram(field.Kind)
			} else if argOf[i], faults = Compile(args[i], scope); argOf[i] == nil || argOf[i].Kind() != field.Kind {
				argOf[i], faults = Compile("double("+args[i]+")", scope) // 2 where a double belongs
			}
		}
		called, faults := Compile("own("+strings.Join(args, ", ")+")", over)
		plain, _ := Compile(text, scope)
		if called == nil {
			t.Fatalf("seed %d: %s over %v: %v", seed, text, args, faults)
		}
		b := randomBatch(r, 1+r.IntN(100))
		moved := row.NewBatch(fields)
		good := make([]bool, b.N)
		for i := range b.N {
			good[i] = true
			for n, p := range argOf {
				v, err := p.Eval(b.Cols, i)
				if err != nil {
					good[i], v = false, NullOf(fields[n].Kind)
				}
				v.Kind = fields[n].Kind
				v.AppendTo(moved.Cols[n])
			}
		}
		moved.N = b.N
		col, errs := called.NewRunner().Run(b.Cols, b.N)
		for i := range b.N {
			got, err := called.Eval(b.Cols, i)
			if (err != nil) != HasBit(errs, i) || err == nil && At(col, i) != got {
				t.Fatalf("seed %d, row %d: %s: plain %v %v, columns %v", seed, i, text, got, err, At(col, i))
			}
			want, wrong := plain.Eval(moved.Cols, i)
			if good[i] && ((err != nil) != (wrong != nil) || err == nil && got != want) {
				t.Fatalf("seed %d, row %d: own(%s), own being %s: %v %v, want %v %v", seed, i, strings.Join(args, ", "), text, got, err, want, wrong)
			}
		}
	}
}

// TestFunctionCalls: functions of functions, of values, of loops within loops, within aggregates, and what is refused.
func TestFunctionCalls(t *testing.T) {
	fields := row.Schema{{Name: "tonnes", Kind: row.Double}, {Name: "n", Kind: row.Int}, {Name: "names", Kind: row.ListOf(row.String)}, {Name: "l", Kind: row.ListOf(row.Int)}}
	s := Scope{Fields: fields, Values: map[string]Value{"heavy": {Kind: row.Double, F: 20}}, Functions: map[string]*Function{}}
	add := func(name, text string, of ...row.Field) {
		t.Helper()
		is, faults := Compile(text, Scope{Fields: of, Values: s.Values, Functions: s.Functions})
		if is == nil {
			t.Fatalf("%s: %v", name, faults)
		}
		s.Functions[name] = NewFunction(name, of, is)
	}
	add("kilos", "t * 1000.0", row.Field{Name: "t", Kind: row.Double})
	add("is_heavy", "kilos(t) > kilos(values.heavy)", row.Field{Name: "t", Kind: row.Double})
	add("has_more", "l.exists(v, v > least)", row.Field{Name: "l", Kind: row.ListOf(row.Int)}, row.Field{Name: "least", Kind: row.Int})
	add("the_hour", "timestamp('2026-03-01T07:00:00Z').getHours()")
	b := row.NewBatch(fields)
	Value{Kind: row.Double, F: 24.5}.AppendTo(b.Cols[0])
	Value{Kind: row.Int, I: 3}.AppendTo(b.Cols[1])
	ListOf(row.ListOf(row.String), []Value{{Kind: row.String, S: "Ane"}, {Kind: row.String, S: "Bo"}}).AppendTo(b.Cols[2])
	ListOf(row.ListOf(row.Int), []Value{{Kind: row.Int, I: 1}, {Kind: row.Int, I: 5}}).AppendTo(b.Cols[3])
	b.N = 1
	for text, want := range map[string]string{
		"kilos(tonnes)": "24500", "kilos(2)": "2000", "kilos(2 + 1)": "3000", "is_heavy(tonnes)": "true", "is_heavy(null)": "null", "kilos(kilos(0.5)) + 1": "500001",
		"has_more(l, n)": "true", "has_more(l, 5)": "false", "the_hour()": "7",
		// A loop's variable in an argument, and a loop in what the function is.
		"names.map(w, has_more(l.filter(v, v > size(w)), 4))": "[true, true]", "l.map(v, has_more(l, v))": "[true, false]", "l.exists(v, has_more([v], 4) && v == 5)": "true",
	} {
		p, faults := Compile(text, s)
		if p == nil {
			t.Errorf("%s: %v", text, faults)
			continue
		}
		v, err := p.Eval(b.Cols, 0)
		if err != nil || v.String() != want {
			t.Errorf("%s is %v %v, want %s", text, v, err, want)
		}
		if c, errs := p.NewRunner().Run(b.Cols, 1); len(errs) == 0 && At(c, 0).String() != want {
			t.Errorf("%s by the runner is %v, want %s", text, At(c, 0), want)
		}
	}
	measure := s
	measure.Measure = true
	if p, faults := Compile("kilos(sum(kilos(tonnes))) / 2.0", measure); p == nil || len(p.Aggregates) != 1 || p.Aggregates[0].Arg.root.op != opMul {
		t.Errorf("a measure of functions: %v", faults)
	}
	for text, want := range map[string]string{
		"kilos(n)": "kilos does not take int", "kilos('2')": "kilos does not take string", "kilos(tonnes, 2.0)": "kilos does not take double and double", "kilo(tonnes)": "unknown function kilo", "kilos()": "kilos does not take",
	} {
		if p, faults := Compile(text, s); p != nil || len(faults) == 0 || !strings.Contains(faults[0].Message, want) {
			t.Errorf("%s: %v, want %q", text, faults, want)
		}
	}
	add("f0", "v + v", row.Field{Name: "v", Kind: row.Int})
	for _, name := range []string{"f1", "f2"} {
		before := "f" + string(rune(name[1]-1))
		add(name, before+"("+before+"("+before+"(v)))", row.Field{Name: "v", Kind: row.Int})
	}
	if _, faults := Compile("f2(f2(f2(n)))", s); len(faults) == 0 || !strings.Contains(faults[0].Message, "more than 5000 parts") {
		t.Errorf("a function of two hundred million parts is taken: %v", faults)
	}
	for _, name := range []string{"abs", "sum", "exists", "size", "has"} {
		if !Taken(name) {
			t.Errorf("%s is the language's own, and not taken", name)
		}
	}
	if Taken("kilos") {
		t.Error("kilos is taken")
	}
}
