package job

import (
	"fmt"
	"strings"
	"time"

	"undertide/core/row"
)

// Told is what notices tell of an alarm.
type Told struct {
	Job, Alarm, State, About string // State: on or off
	At                       time.Time
}

// Batch gives it as a row of the fields that notices have.
func (t Told) Batch(s row.Schema) *row.Batch {
	b := row.NewBatch(s)
	for i, text := range []string{t.Job, t.Alarm, t.State, t.About} {
		b.Cols[i].AppendString(text)
	}
	b.Cols[4].AppendInt(int64(row.TimeOf(t.At)))
	b.Index, b.N = append(b.Index, 0), 1
	return b
}

// noticeHead is a document whose rows are alarms; the text of a notice stands below.
const noticeHead = `undertide: 1
job: notice
sources:
  alarms: {via: simulate, with: {rate: 1/s, count: 1, fields: {at: {now: true}}}, fields: {job: string, alarm: string, state: string, about: string, at: timestamp}}
sinks:
  %s:
    from: alarms
%s
`

// ReadNotice reads how people are told of alarms: a sink as it stands below `sinks:` in a document, whose rows have the fields job, alarm, state,
// about and at. Faults come as [Faults], of which the lines are those of the text.
func ReadNotice(name, text string, opt Options) (*Sink, error) {
	head := strings.Count(noticeHead, "\n") - 2 // lines before the text
	j, err := Parse("notice "+name, fmt.Sprintf(noticeHead, name, indent(text)), opt)
	if faults, ok := err.(Faults); ok {
		for i := range faults {
			faults[i].Line = max(1, faults[i].Line-head)
			faults[i].Column = max(1, faults[i].Column-4)
		}
	}
	if err != nil {
		return nil, err
	}
	return &j.Sinks[0], nil
}

func indent(text string) string {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	return "    " + strings.Join(lines, "\n    ")
}
