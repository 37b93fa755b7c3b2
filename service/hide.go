package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"log/slog"
	"os"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"
)

// hider keeps what environment variables hold out of all that leaves the service: answers, events of streams, logs. A
// document may use a variable that the service was given with --env; what it holds is nobody's to see (docs/security.md,
// "Values that do not leave"). Where a value would stand, the answer has ${env.NAME}. Documents are given as they were
// written: whoever wrote the value there knew it.
type hider []hiddenValue

type hiddenValue struct{ value, name string }

// newHider reads the variables, once: the longest value first, since it may hold another.
func newHider(names []string) (h hider) {
	for _, name := range names {
		if v := os.Getenv(name); v != "" {
			h = append(h, hiddenValue{v, "${env." + name + "}"})
		}
	}
	slices.SortFunc(h, func(a, b hiddenValue) int { return cmp.Compare(len(b.value), len(a.value)) })
	return h
}

// and hides another value too, such as where the service keeps its data: answers name it DATA, as docs/service.md does.
func (h hider) and(value, name string) hider {
	return append(slices.Clone(h), hiddenValue{value, name})
}

// shortest is how long a value has to be to be looked for within other text. A shorter one is hidden where it stands
// alone: else `1` would take the ones out of all numbers.
const shortest = 4

func (h hider) text(s string) string {
	for _, v := range h {
		if s == v.value {
			return v.name
		}
		if len(v.value) >= shortest {
			s = strings.ReplaceAll(s, v.value, v.name)
		}
	}
	return s
}

// asWritten is the field of answers that gives a document.
const asWritten = "document"

// json is json.Marshal without the values.
func (h hider) json(v any) ([]byte, error) {
	out, err := json.Marshal(v)
	if err != nil || !slices.ContainsFunc(h, func(v hiddenValue) bool { return bytes.Contains(out, quoted(v.value)) }) {
		return out, err
	}
	d := json.NewDecoder(bytes.NewReader(out))
	d.UseNumber() // digits stay as they are
	var all any
	if err := d.Decode(&all); err != nil {
		return nil, err
	}
	return json.Marshal(h.hide(all))
}

// quoted is how a value stands within JSON.
func quoted(value string) []byte {
	text, err := json.Marshal(value)
	if err != nil {
		return nil
	}
	return text[1 : len(text)-1]
}

func (h hider) hide(v any) any {
	switch v := v.(type) {
	case string:
		return h.text(v)
	case []any:
		for i := range v {
			v[i] = h.hide(v[i])
		}
	case map[string]any:
		for name, one := range v {
			if _, is := one.(string); !is || name != asWritten {
				v[name] = h.hide(one)
			}
		}
	}
	return v
}

// hiderOf gives what an answer must not show.
func hiderOf(c *gin.Context) hider {
	h, _ := c.Value(hiderKey).(hider)
	return h
}

const hiderKey = "hider"

// hidingLog is a log without the values.
type hidingLog struct {
	slog.Handler
	hide hider
}

func (l hidingLog) Handle(ctx context.Context, r slog.Record) error {
	out := slog.NewRecord(r.Time, r.Level, l.hide.text(r.Message), r.PC)
	r.Attrs(func(a slog.Attr) bool {
		out.AddAttrs(l.attr(a))
		return true
	})
	return l.Handler.Handle(ctx, out)
}

func (l hidingLog) attr(a slog.Attr) slog.Attr {
	switch v := a.Value.Resolve(); v.Kind() {
	case slog.KindString:
		return slog.String(a.Key, l.hide.text(v.String()))
	case slog.KindAny:
		if err, is := v.Any().(error); is {
			return slog.String(a.Key, l.hide.text(err.Error()))
		}
	}
	return a
}

func (l hidingLog) WithAttrs(list []slog.Attr) slog.Handler {
	var out []slog.Attr
	for _, a := range list {
		out = append(out, l.attr(a))
	}
	return hidingLog{l.Handler.WithAttrs(out), l.hide}
}

func (l hidingLog) WithGroup(name string) slog.Handler {
	return hidingLog{l.Handler.WithGroup(name), l.hide}
}
