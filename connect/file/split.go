package file

import (
	"encoding/binary"

	"undertide/connect/pattern"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// splitting encodes rows folder by folder: each folder's rows of a batch stand together, framed by its name and how many they are.
type splitting struct {
	folder *pattern.Filler
	rows   engine.Encoder

	name, out []byte
	at        map[string]int // of each folder of the batch, in picks
	order     []string
	picks     [][]uint16
}

func newSplitting(folders pattern.Text, rows engine.Encoder, s row.Schema) *splitting {
	f := folders.Bind(s)
	f.Safe = safeName
	return &splitting{folder: f, rows: rows, at: map[string]int{}}
}

// mostName bounds the bytes that a value gives to a name.
const mostName = 120

// safeName writes a value as a part of a file's name: what is not a letter, digit or one of . - + , = @ is written as _, and so is a point at its
// beginning. Values that differ in these alone share a folder.
func safeName(dst, value []byte) []byte {
	from := len(dst)
	for _, c := range string(value[:min(len(value), mostName)]) {
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9', c == '-', c == '+', c == ',', c == '=', c == '@', c > 0x7f && c != 0xfffd, c == '.' && len(dst) > from:
			dst = append(dst, string(c)...)
		default:
			dst = append(dst, '_')
		}
	}
	if len(dst) == from {
		dst = append(dst, '_')
	}
	return dst
}

// Append implements [engine.Encoder].
func (e *splitting) Append(dst []byte, v step.View) []byte {
	clear(e.at)
	e.order = e.order[:0]
	for _, r := range v.Sel {
		e.name = e.folder.Append(e.name[:0], v.Cols, int(r))
		n, ok := e.at[string(e.name)]
		if !ok {
			n = len(e.order)
			e.order = append(e.order, string(e.name))
			e.at[e.order[n]] = n
			if n == len(e.picks) {
				e.picks = append(e.picks, nil)
			}
			e.picks[n] = e.picks[n][:0]
		}
		e.picks[n] = append(e.picks[n], r)
	}
	one := v
	for n, name := range e.order {
		one.Sel = e.picks[n]
		e.out = e.rows.Append(e.out[:0], one)
		dst = row.AppendText(dst, name)
		dst = binary.AppendUvarint(dst, uint64(len(one.Sel)))
		dst = row.AppendText(dst, e.out)
	}
	return dst
}

// frame is a folder's rows.
type frame struct {
	folder, rows []byte
	n            int
}

// nextFrame takes one from the beginning of encoded rows.
func nextFrame(data []byte) (f frame, rest []byte, ok bool) {
	if f.folder, data, ok = row.NextText(data); !ok {
		return f, nil, false
	}
	n, w := binary.Uvarint(data)
	if w <= 0 {
		return f, nil, false
	}
	f.n = int(n)
	f.rows, rest, ok = row.NextText(data[w:])
	return f, rest, ok
}
