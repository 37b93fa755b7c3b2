// Command bench compares the engine with the hand-written loops of bench/floor: every workload of
// docs/speed.md in a process of its own, alternating, and prints a table of ratios. It is not a test and
// never fails by time.
package main

import (
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"runtime/pprof"
	"slices"
	"strings"
	"time"
)

func main() {
	dir := flag.String("data", "bench/data", "folder for the made-up inputs")
	rounds := flag.Int("rounds", 5, "how often each is run")
	only := flag.String("only", "", "run only workloads whose name contains this")
	one := flag.String("child", "", "run one measurement: WORKLOAD/KIND")
	lanes := flag.Int("lanes", 1, "with -child")
	before := flag.String("before", "", "compare with this benchmark program of another commit, in pairs")
	profile := flag.String("profile", "", "with -child: write a CPU profile to this file")
	loops := flag.Bool("loops", false, "compare with the loops by hand alone, and draw the ratios")
	growth := flag.Bool("growth", false, "measure alone what costs how much more as one thing doubles twice")
	delivery := flag.Bool("delivery", false, "measure deliveries alone")
	state := flag.Bool("state", false, "measure checkpoints and large state alone")
	stateOne := flag.String("state-child", "", "run one case of -state: NAME/kept or NAME/bare")
	flag.Parse()
	if err := os.MkdirAll(*dir, 0o755); err != nil {
		fail(err)
	}
	if *profile != "" {
		f, err := os.Create(*profile)
		if err != nil {
			fail(err)
		}
		if err := pprof.StartCPUProfile(f); err != nil {
			fail(err)
		}
		defer pprof.StopCPUProfile()
	}
	if *stateOne != "" {
		name, kind, _ := strings.Cut(*stateOne, "/")
		for i := range stateCases {
			if stateCases[i].name == name {
				var m stateMeasure
				var err error
				if kind == "restore" {
					m, err = stateCases[i].restore(*dir, *lanes)
				} else {
					m, err = stateCases[i].measure(*dir, *lanes, kind == "kept")
				}
				if err != nil {
					fail(err)
				}
				if err := json.NewEncoder(os.Stdout).Encode(m); err != nil {
					fail(err)
				}
			}
		}
		return
	}
	if *one != "" {
		name, kind, _ := strings.Cut(*one, "/")
		for i := range workloads {
			if workloads[i].name == name {
				m, err := workloads[i].child(kind, *dir, *lanes)
				if err != nil {
					fail(err)
				}
				if err := json.NewEncoder(os.Stdout).Encode(m); err != nil {
					fail(err)
				}
			}
		}
		return
	}
	if *before != "" {
		against(*dir, *before, *only, *rounds)
		return
	}
	if *loops {
		table(*dir, *only, *rounds)
		return
	}
	if *growth {
		if err := growthTable(*dir, *only, *rounds); err != nil {
			fail(err)
		}
		return
	}
	if *delivery {
		if err := deliveryTable(*dir, *only, *rounds); err != nil {
			fail(err)
		}
		return
	}
	if !*state {
		table(*dir, *only, *rounds)
		if *only == "" {
			if err := errors.Join(deliveryTable(*dir, *only, *rounds), growthTable(*dir, *only, *rounds)); err != nil {
				fail(err)
			}
		}
	}
	if err := stateTable(*dir, *only, *rounds); err != nil {
		fail(err)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

// start runs a child; procs is GOMAXPROCS.
func start(dir, name, kind string, procs int) func() measure {
	self, err := os.Executable()
	if err != nil {
		fail(err)
	}
	return startOf(self, dir, name, kind, procs)
}

func startOf(self, dir, name, kind string, procs int) func() measure {
	c := exec.Command(self, "-data", dir, "-child", name+"/"+kind, "-lanes", fmt.Sprint(procs))
	c.Env = append(os.Environ(), fmt.Sprintf("GOMAXPROCS=%d", procs))
	c.Stderr = os.Stderr
	out, err := c.StdoutPipe()
	if err != nil {
		fail(err)
	}
	if err := c.Start(); err != nil {
		fail(err)
	}
	return func() measure {
		var m measure
		if err := json.NewDecoder(out).Decode(&m); err != nil {
			fail(fmt.Errorf("%s %s: %w", name, kind, err))
		}
		if err := c.Wait(); err != nil {
			fail(err)
		}
		return m
	}
}

func table(dir, only string, rounds int) {
	for i := range workloads {
		if _, err := workloads[i].input(dir); err != nil {
			fail(err)
		}
	}
	scale := calibrate(dir, rounds)
	fmt.Printf("Two floor loops at once do %.2f times the work of one", scale)
	if scale < 1.7 {
		fmt.Print(": NOISY, below 1.7")
	}
	fmt.Printf(". %s, %d rounds.\n\n", time.Now().UTC().Format("2006-01-02"), rounds)
	fmt.Println("| workload | from | rows/s | ns/row | of the floor (median, range) | allocations/row | peak MiB (floor) |")
	fmt.Println("|---|---|---|---|---|---|---|")
	var all []ratio
	each(only, func(w *workload, from string) { all = append(all, line(dir, w, from, rounds, scale)...) })
	if only != "" {
		return
	}
	if err := drawRatios("docs/pictures/speed.svg", all); err != nil {
		fail(err)
	}
}

// each calls f for the workloads whose names hold only, from text and, where there is such a form, from ready
// batches.
func each(only string, f func(w *workload, from string)) {
	for i := range workloads {
		w := &workloads[i]
		if !strings.Contains(w.name, only) || w.base {
			continue
		}
		f(w, "text")
		if w.floorCore != nil || w.against != "" && !w.textOnly {
			f(w, "core")
		}
	}
}

// against runs each workload by this program and by another, in pairs, so that what else the machine does
// falls on both.
func against(dir, before, only string, rounds int) {
	self, err := os.Executable()
	if err != nil {
		fail(err)
	}
	fmt.Println("| workload | from | ns/row before | ns/row | time, of before (median, range) | peak MiB before | peak MiB |")
	fmt.Println("|---|---|---|---|---|---|---|")
	each(only, func(w *workload, from string) {
		if _, err := w.input(dir); err != nil {
			fail(err)
		}
		var was, is, ratios []float64
		var old, now measure
		for range rounds {
			old = startOf(before, dir, w.name, from+"-engine", 1)()
			now = startOf(self, dir, w.name, from+"-engine", 1)()
			was, is, ratios = append(was, old.Seconds), append(is, now.Seconds), append(ratios, now.Seconds/old.Seconds)
		}
		row := 1e9 / float64(w.rows)
		fmt.Printf("| %s | %s | %.0f | %.0f | %s | %d | %d |\n", w.name, from, median(was)*row, median(is)*row, spread(ratios), old.Peak>>20, now.Peak>>20)
	})
}

// calibrate measures how two independent floor loops scale on two cores.
func calibrate(dir string, rounds int) float64 {
	var ratios []float64
	for range rounds {
		one := start(dir, "tumbling", "text-floor", 1)().Seconds
		a, b := start(dir, "tumbling", "text-floor", 1), start(dir, "tumbling", "text-floor", 1)
		ratios = append(ratios, 2*one/max(a().Seconds, b().Seconds))
	}
	return median(ratios)
}

// line measures a workload and prints its lines of the table: with one lane, and from text with two.
func line(dir string, w *workload, from string, rounds int, scale float64) (ratios []ratio) {
	var engines, of, lanes, lanesOf []float64
	beside := w.besideEncoder && from == "text"
	var last, lastFloor measure
	for range rounds {
		switch {
		case beside:
			lastFloor = start(dir, w.name, "encoder", 1)()
		case w.against != "":
			lastFloor = start(dir, w.against, from+"-engine", 1)()
		default:
			lastFloor = start(dir, w.name, from+"-floor", 1)()
		}
		last = start(dir, w.name, from+"-engine", 1)()
		if w.against == "" && last.Out != lastFloor.Out {
			fail(fmt.Errorf("%s, %s: the engine gives %d rows and the floor %d, so that they do not do the same", w.name, from, last.Out, lastFloor.Out))
		}
		engines = append(engines, last.Seconds)
		if beside {
			lastFloor.Seconds *= float64(last.Out) / float64(lastFloor.Out)
		}
		of = append(of, lastFloor.Seconds/last.Seconds)
		if from == "text" {
			two := start(dir, w.name, from+"-engine", 2)().Seconds
			lanes, lanesOf = append(lanes, last.Seconds/two/scale*2), append(lanesOf, lastFloor.Seconds/two)
		}
	}
	e := median(engines)
	name := w.name
	switch {
	case beside:
		name += ", beside its encoder alone"
	case w.against != "":
		name += ", against " + w.against
	}
	reach := w.reach[0]
	if from == "core" {
		reach = w.reach[1]
	}
	fmt.Printf("| %s | %s | %.0f | %.0f | %s | %.4f | %d (%d) |\n", name, w.from(from),
		float64(w.rows)/e, e*1e9/float64(w.rows), spread(of), last.Allocs, last.Peak>>20, lastFloor.Peak>>20)
	if w.form == "" { // else the name says so
		name += " from " + w.from(from)
	}
	ratios = append(ratios, ratioOf(name, of, reach))
	if from == "text" {
		fmt.Printf("| %s, two lanes | %s | | | %s x one lane, calibrated | | |\n", w.name, w.from(from), spread(lanes))
		ratios = append(ratios, ratioOf(w.name+", two lanes, of one lane", lanes, w.reachLanes))
	}
	if beside {
		fmt.Printf("| %s, two lanes, beside its encoder on one core | %s | | | %s | | |\n", w.name, w.from(from), spread(lanesOf))
		ratios = append(ratios, ratioOf(w.name+", two lanes, beside its encoder on one core", lanesOf, reach))
	}
	return ratios
}

func ratioOf(name string, v []float64, reach float64) ratio {
	return ratio{name, slices.Min(v), median(v), slices.Max(v), reach}
}

// from says what the workload reads.
func (w *workload) from(kind string) string {
	if kind == "core" {
		return "ready batches"
	}
	return cmp.Or(map[string]string{"csv": "CSV", "avro": "Avro", "parquet": "Parquet"}[w.form], "NDJSON")
}

func median(v []float64) float64 {
	s := slices.Sorted(slices.Values(v))
	return s[len(s)/2]
}

func spread(v []float64) string {
	return fmt.Sprintf("%.2f (%.2f to %.2f)", median(v), slices.Min(v), slices.Max(v))
}
