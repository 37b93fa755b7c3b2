package harbour

import (
	"embed"
	"encoding/json"
	"fmt"
	"strings"
	"time"
)

//go:embed faults/*.yaml
var faultFiles embed.FS

// Fault is a trouble that is made to practise with (docs/alarms.md, "Practice"): a job of its own, practice-NAME, that reads the topic
// practice.NAME, and events that bring it into trouble.
type Fault struct {
	Name, About string
	// Alarm is the one that is expected, within so long.
	Alarm  string
	Within time.Duration
	// Rate is how many events are sent a second.
	Rate int
	// event makes number n of the key; keys are those of one partition after the first ones.
	event func(n int, key string) string
}

// Faults are all of them.
var Faults = []Fault{
	{"lag", "more lifts come than one lane can take", "behind", time.Minute, 3000, func(n int, key string) string {
		return lift(key, strings.Repeat("abcabcabca", 40)+fmt.Sprint(n))
	}},
	{"skew", "one crane has nearly all lifts, and so one lane of eight", "skew", time.Minute, 1000, func(n int, key string) string {
		if n%100 > 0 {
			key = "C1"
		}
		return lift(key, "")
	}},
	{"silence", "one of two partitions has no lift any more, and is waited for", "stands", time.Minute, 50, func(_ int, key string) string { return lift(key, "") }},
	{"slow-sink", "whoever is told of lifts answers after half a second", "held_up", time.Minute, 200, func(_ int, key string) string { return lift(key, "") }},
	{"bad-events", "one lift in five cannot be read", "rejects", time.Minute, 500, func(n int, key string) string {
		if n%5 == 0 {
			return `{"crane": "` + key + `", "note": `
		}
		return lift(key, "")
	}},
	{"crash", "a receiver refuses a row, which ends the run, and each one that is started after it", "restarts", time.Minute, 20, func(n int, key string) string {
		if n == 100 {
			key = "C9"
		}
		return lift(key, "")
	}},
}

// Job is the document of the fault's job.
func (f Fault) Job() []byte {
	text, err := faultFiles.ReadFile("faults/" + f.Name + ".yaml")
	if err != nil {
		panic(err) // it is embedded, and a test reads all of them
	}
	return text
}

// Topic is where its events go, Partitions how many it has.
func (f Fault) Topic() string { return "practice." + f.Name }

// FaultPartitions are the partitions of a fault's topic.
const FaultPartitions = 2

// FaultKeys are the keys of its events: the first go to all partitions.
var FaultKeys = []string{"C1", "C2", "C3", "C4", "C5", "C6", "C7", "C8"}

// Event makes event number n, of a key.
func (f Fault) Event(n int, key string) string { return f.event(n, key) }

func lift(crane, note string) string {
	text, err := json.Marshal(map[string]any{"crane": crane, "note": note, "at": time.Now().UnixMilli()})
	if err != nil {
		panic(err) // texts and a number
	}
	return string(text)
}
