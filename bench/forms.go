package main

import (
	"bufio"
	"encoding/csv"
	"errors"
	"io"
	"os"
	"strconv"

	"github.com/hamba/avro/v2/ocf"
	"github.com/parquet-go/parquet-go"

	"undertide/bench/floor"
)

// writer writes made-up events in one form.
type writer struct {
	write func(e *floor.Event) error
	close func() error
}

// avroSchema is that of the events; read_at is a plain number of milliseconds, as in the other forms.
const avroSchema = `{"type":"record","name":"reading","fields":[{"name":"gauge","type":"string"},{"name":"level_m","type":"double"},{"name":"battery_v","type":"double"},{"name":"seq","type":"long"},{"name":"read_at","type":"long"}]}`

func writerOf(form string, out *bufio.Writer) (writer, error) {
	var b []byte
	nothing := func() error { return nil }
	switch form {
	case "csv":
		_, err := out.WriteString("gauge,level_m,battery_v,seq,read_at\n")
		return writer{func(e *floor.Event) error {
			b = append(append(b[:0], e.Gauge...), ',')
			b = append(strconv.AppendFloat(b, e.Level, 'f', -1, 64), ',')
			b = append(strconv.AppendFloat(b, e.Battery, 'f', -1, 64), ',')
			b = append(strconv.AppendInt(b, e.Seq, 10), ',')
			b = append(strconv.AppendInt(b, e.ReadAt, 10), '\n')
			_, err := out.Write(b)
			return err
		}, nothing}, err
	case "avro":
		to, err := ocf.NewEncoder(avroSchema, out, ocf.WithBlockLength(1000))
		return writer{func(e *floor.Event) error { return to.Encode(e) }, to.Close}, err
	case "parquet":
		to := parquet.NewGenericWriter[floor.Event](out, parquet.MaxRowsPerRowGroup(100_000))
		some := make([]floor.Event, 0, 1000)
		give := func() error {
			_, err := to.Write(some)
			some = some[:0]
			return err
		}
		return writer{func(e *floor.Event) error {
			if some = append(some, *e); len(some) == cap(some) {
				return give()
			}
			return nil
		}, func() error { return errors.Join(give(), to.Close()) }}, nil
	}
	return writer{func(e *floor.Event) error {
		b = append(append(b[:0], `{"gauge":"`...), e.Gauge...)
		b = strconv.AppendFloat(append(b, `","level_m":`...), e.Level, 'f', -1, 64)
		b = strconv.AppendFloat(append(b, `,"battery_v":`...), e.Battery, 'f', -1, 64)
		b = strconv.AppendInt(append(b, `,"seq":`...), e.Seq, 10)
		b = strconv.AppendInt(append(b, `,"read_at":`...), e.ReadAt, 10)
		_, err := out.Write(append(b, "}\n"...))
		return err
	}, nothing}, nil
}

// eachOfCSV reads events by the standard library, which checks quotes as the engine does.
func eachOfCSV(path string, f func(key []byte, e *floor.Event)) error {
	return opened(path, func(in io.Reader) error {
		r := csv.NewReader(bufio.NewReaderSize(in, 256<<10))
		r.ReuseRecord = true
		if _, err := r.Read(); err != nil { // the names
			return err
		}
		var key []byte
		for {
			line, err := r.Read()
			if errors.Is(err, io.EOF) {
				return nil
			}
			var e floor.Event
			var errs [5]error
			errs[0] = err
			if err == nil {
				key = append(key[:0], line[0]...)
				e.Level, errs[1] = strconv.ParseFloat(line[1], 64)
				e.Battery, errs[2] = strconv.ParseFloat(line[2], 64)
				e.Seq, errs[3] = strconv.ParseInt(line[3], 10, 64)
				e.ReadAt, errs[4] = strconv.ParseInt(line[4], 10, 64)
			}
			for _, err := range errs {
				if err != nil {
					return err
				}
			}
			f(key, &e)
		}
	})
}

// eachOfAvro reads the records of a container into a struct, by the library that the engine takes its schemas from.
func eachOfAvro(path string, f func(key []byte, e *floor.Event)) error {
	return opened(path, func(in io.Reader) error {
		d, err := ocf.NewDecoder(bufio.NewReaderSize(in, 256<<10))
		if err != nil {
			return err
		}
		var e floor.Event
		for d.HasNext() {
			if err := d.Decode(&e); err != nil {
				return err
			}
			f([]byte(e.Gauge), &e)
		}
		return d.Error()
	})
}

// eachOfParquet reads rows into structs, by the library that the engine reads its columns with.
func eachOfParquet(path string, f func(key []byte, e *floor.Event)) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	r := parquet.NewGenericReader[floor.Event](in)
	defer r.Close()
	some := make([]floor.Event, 1000)
	for {
		n, err := r.Read(some)
		for i := range some[:n] {
			f([]byte(some[i].Gauge), &some[i])
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

func opened(path string, f func(in io.Reader) error) error {
	in, err := os.Open(path)
	if err != nil {
		return err
	}
	defer in.Close()
	return f(in)
}
