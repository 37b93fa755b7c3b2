package cli

import (
	"errors"
	"fmt"
	"strings"

	"undertide/connect"
	"undertide/connect/codec"
	"undertide/core/engine"
	"undertide/core/row"
	"undertide/core/step"
)

// toyFormat is a format of a test's own: NAME=VALUE with a sign between, `crane=C1|tonnes=2.5`. The sign is a setting.
var toyFormat = &connect.Format{
	Name: "pairs", Title: "pairs", About: "names and values with a sign between", Endings: []string{".pairs"}, Untyped: true,
	Decode: func() connect.Decoding { return &toyDecoding{Sign: "|"} },
	Encode: func(s row.Schema) engine.Encoder { return toyEncoder(s) },
	Guess: func(s connect.Sample) connect.Guessed {
		pairs := 0
		for _, e := range s.Events {
			if _, err := (toyReading{"|"}).Values(e.Text); err == nil {
				pairs++
			}
		}
		return connect.Guessed{Share: float64(pairs) / float64(max(1, len(s.Events))), Reading: toyReading{"|"}}
	},
}

type toyDecoding struct {
	Sign string `set:"sign,beside" default:"|" about:"What stands between two pairs."`
}

func (d *toyDecoding) Check(c *connect.Checker) {
	if len(d.Sign) != 1 {
		c.Fault("the sign between pairs is "+d.Sign, "give one character", "sign")
	}
}

func (d *toyDecoding) Decoder(fields codec.Fields) engine.Decoder {
	return &toyDecoder{toyReading{d.Sign}, fields}
}

type toyReading struct{ sign string }

func (r toyReading) Values(event []byte) (out []connect.Value, err error) {
	for pair := range strings.SplitSeq(string(event), r.sign) {
		name, value, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, errors.New("no pairs")
		}
		out = append(out, connect.Value{Path: name, V: value})
	}
	return out, nil
}

type toyDecoder struct {
	toyReading
	fields codec.Fields
}

func (d *toyDecoder) Decode(c *engine.Chunk, b *row.Batch, rejects []step.Reject) []step.Reject {
	return codec.EachEvent(c, b, len(d.fields), rejects, func(event []byte, b *row.Batch) (reason, message string) {
		values, err := d.Values(event)
		if err != nil {
			return step.Malformed, err.Error()
		}
		for i := range d.fields {
			f := &d.fields[i]
			text := ""
			for _, v := range values {
				if v.Path == f.Name {
					text = fmt.Sprint(v.V)
				}
			}
			if text == "" {
				f.Missing(b.Cols[i])
			} else if !f.Set(b.Cols[i], []byte(text)) {
				return step.WrongType, codec.WrongType(f, text)
			}
		}
		return "", ""
	})
}

type toyEncoder row.Schema

func (e toyEncoder) Append(dst []byte, v step.View) []byte {
	for _, r := range v.Sel {
		for n, i := range row.Schema(e).Visible() {
			if n > 0 {
				dst = append(dst, '|')
			}
			dst = append(append(dst, e[i].Name...), '=')
			dst = codec.AppendText(dst, v.Cols[i], int(r))
		}
		dst = append(dst, '\n')
	}
	return dst
}
