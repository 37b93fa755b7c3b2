package postgres

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"undertide/connect/staging"
)

// portion is how many bytes of rows one COPY takes: where a row of it does not fit, these are what is halved to find it.
const portion = 4 << 20

// load writes the rows of one transaction into a table. A row that the table does not take (a value out of range, a NUL in a
// text, a constraint) is refused alone: the others go in, and it is written with the reason into the table of refused rows
// of the same transaction. So neither is lost, and both are there once.
type load struct {
	w    *writer
	conn *pgx.Conn
	// refused are those of this transaction; last says why, of the newest.
	refused int64
	last    string
	binary  bool
}

// stage is the table, of one transaction, where rows wait that replace others. Their numbers are their order.
const stage = "undertide_stage"

// rows takes lines of rows to their end.
func (l *load) rows(ctx context.Context, in io.Reader) error {
	t := l.w.table
	into, columns := t.name.quoted(), t.columns()
	if t.key != nil {
		into, columns = stage, columns+", undertide_gone"
		_, err := l.conn.Exec(ctx, fmt.Sprintf(`CREATE TEMP TABLE IF NOT EXISTS %[1]s ON COMMIT DELETE ROWS AS SELECT %[2]s, false AS undertide_gone FROM %[3]s WITH NO DATA;
			ALTER TABLE %[1]s ADD COLUMN IF NOT EXISTS undertide_n bigint GENERATED ALWAYS AS IDENTITY`, stage, t.columns(), t.name.quoted()))
		if err != nil {
			return err
		}
	}
	lines := bufio.NewReaderSize(in, 256<<10)
	copyIn, next := fmt.Sprintf("COPY %s (%s) FROM STDIN", into, columns), lineAfter
	if head, _ := lines.Peek(len(binaryHead)); bytes.Equal(head, binaryHead) {
		l.binary = true
		copyIn, next = copyIn+" WITH (FORMAT binary)", tupleAfter
		if _, err := lines.Discard(len(binaryHead)); err != nil {
			return err
		}
	}
	buf := make([]byte, 0, portion+1<<16)
	for ended := false; !ended; {
		buf = buf[:0]
		var err error
		for len(buf) < portion && err == nil {
			buf, err = next(buf, lines)
		}
		if ended = errors.Is(err, io.EOF); err != nil && !ended {
			return err
		}
		if err := l.copy(ctx, copyIn, buf); err != nil {
			return err
		}
	}
	if t.key == nil {
		return nil
	}
	var least, most *int64
	if err := l.conn.QueryRow(ctx, "SELECT min(undertide_n), max(undertide_n) FROM "+stage).Scan(&least, &most); err != nil || least == nil {
		return err
	}
	return l.merge(ctx, *least, *most)
}

// lineAfter and tupleAfter add the next row to those before it; io.EOF where none follows.
func lineAfter(buf []byte, in *bufio.Reader) ([]byte, error) {
	for {
		line, err := in.ReadSlice('\n')
		buf = append(buf, line...)
		switch {
		case errors.Is(err, bufio.ErrBufferFull):
		case errors.Is(err, io.EOF) && len(buf) > 0 && buf[len(buf)-1] != '\n':
			return buf, errCut
		default:
			return buf, err
		}
	}
}

func tupleAfter(buf []byte, in *bufio.Reader) ([]byte, error) {
	head, err := in.Peek(2)
	if len(head) == 0 {
		return buf, io.EOF
	}
	if err != nil {
		return buf, errCut
	}
	columns := int(binary.BigEndian.Uint16(head))
	take := func(n int) (at int, err error) {
		at = len(buf)
		buf = slices.Grow(buf, n)[:at+n]
		if _, err := io.ReadFull(in, buf[at:]); err != nil {
			return at, errCut
		}
		return at, nil
	}
	if _, err := take(2); err != nil {
		return buf, err
	}
	for range columns {
		at, err := take(4)
		if err != nil {
			return buf, err
		}
		if n := int32(binary.BigEndian.Uint32(buf[at:])); n > 0 {
			if _, err := take(int(n)); err != nil {
				return buf, err
			}
		}
	}
	return buf, nil
}

var errCut = fmt.Errorf("%w: a row ends before its end", staging.ErrMissing)

// half gives where the row begins that is nearest behind the middle, or the last one; 0 where there is one row.
func (l *load) half(rows []byte) int {
	if !l.binary {
		at := bytes.IndexByte(rows[len(rows)/2:], '\n') + len(rows)/2 + 1
		if at == len(rows) {
			at = bytes.LastIndexByte(rows[:len(rows)-1], '\n') + 1
		}
		return at
	}
	last := 0
	for at := 0; at < len(rows); {
		if last = at; at > len(rows)/2 {
			return at
		}
		columns := int(binary.BigEndian.Uint16(rows[at:]))
		at += 2
		for range columns {
			n := int32(binary.BigEndian.Uint32(rows[at:]))
			at += 4 + int(max(n, 0))
		}
	}
	return last
}

// attempt does something within the transaction that can be taken back. fits is false where the rows are to blame.
func (l *load) attempt(ctx context.Context, do func() error) (fits bool, reason string, err error) {
	if _, err := l.conn.Exec(ctx, "SAVEPOINT undertide"); err != nil {
		return false, "", err
	}
	err = do()
	var said *pgconn.PgError
	if errors.As(err, &said) && toBlame(said) {
		reason = said.Message
		if said.ColumnName != "" && !strings.Contains(reason, said.ColumnName) {
			reason += " (column " + said.ColumnName + ")"
		}
		_, err = l.conn.Exec(ctx, "ROLLBACK TO SAVEPOINT undertide")
		return false, reason, err
	}
	if err != nil {
		return false, "", err
	}
	_, err = l.conn.Exec(ctx, "RELEASE SAVEPOINT undertide")
	return true, "", err
}

// toBlame says whether an error is one of values: of class 22, or a constraint of class 23 (PostgreSQL, "Error Codes").
func toBlame(e *pgconn.PgError) bool {
	return strings.HasPrefix(e.Code, "22") || strings.HasPrefix(e.Code, "23")
}

// copy writes lines; where that fails for their values it halves them until the rows are found that do not fit.
func (l *load) copy(ctx context.Context, statement string, lines []byte) error {
	if len(lines) == 0 {
		return nil
	}
	fits, reason, err := l.attempt(ctx, func() error {
		var from io.Reader = bytes.NewReader(lines)
		if l.binary {
			from = io.MultiReader(bytes.NewReader(binaryHead), from, bytes.NewReader(binaryEnd))
		}
		_, err := l.conn.PgConn().CopyFrom(ctx, from, statement)
		return err
	})
	if fits || err != nil {
		return err
	}
	half := l.half(lines)
	if half == 0 {
		return l.refuse(ctx, lines, reason)
	}
	if err := l.copy(ctx, statement, lines[:half]); err != nil {
		return err
	}
	return l.copy(ctx, statement, lines[half:])
}

// merge lets the staged rows with these numbers take the place of those with their keys, the newest of each key; where that
// fails for their values it halves them, in order.
func (l *load) merge(ctx context.Context, from, to int64) error {
	t := l.w.table
	key := quoteAll(t.key)
	newest := fmt.Sprintf("SELECT DISTINCT ON (%s) * FROM %s WHERE undertide_n BETWEEN %d AND %d ORDER BY %s, undertide_n DESC", key, stage, from, to, key)
	var same, set []string
	for _, k := range t.key {
		same = append(same, "t."+quote(k)+" = s."+quote(k))
	}
	for _, f := range t.fields {
		if !slices.Contains(t.key, f.Name) {
			set = append(set, quote(f.Name)+" = EXCLUDED."+quote(f.Name))
		}
	}
	act := "DO NOTHING"
	if len(set) > 0 {
		act = "DO UPDATE SET " + strings.Join(set, ", ")
	}
	fits, reason, err := l.attempt(ctx, func() error {
		_, err := l.conn.Exec(ctx, fmt.Sprintf("DELETE FROM %s t USING (%s) s WHERE s.undertide_gone AND %s", t.name.quoted(), newest, strings.Join(same, " AND ")))
		if err == nil {
			_, err = l.conn.Exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM (%s) s WHERE NOT undertide_gone ON CONFLICT (%s) %s", t.name.quoted(), t.columns(), t.columns(), newest, key, act))
		}
		return err
	})
	if fits || err != nil {
		return err
	}
	if from == to {
		var line []byte
		if err := l.conn.QueryRow(ctx, fmt.Sprintf("SELECT to_jsonb(undertide_row) - 'undertide_n' - 'undertide_gone' FROM %s undertide_row WHERE undertide_n = %d", stage, from)).Scan(&line); errors.Is(err, pgx.ErrNoRows) {
			return nil // a number that a refused row had
		} else if err != nil {
			return err
		}
		return l.keep(ctx, string(line), reason)
	}
	half := from + (to-from)/2
	if err := l.merge(ctx, from, half); err != nil {
		return err
	}
	return l.merge(ctx, half+1, to)
}

// refuse keeps a line that the table does not take.
func (l *load) refuse(ctx context.Context, line []byte, reason string) error {
	names := l.w.table.fields.Names()
	var b strings.Builder
	b.WriteByte('{')
	values := fields(bytes.TrimSuffix(line, []byte("\n")))
	if l.binary {
		values = l.w.table.texts(line)
	}
	for i, v := range values[:len(names)] {
		if i > 0 {
			b.WriteByte(',')
		}
		k, err := json.Marshal(names[i])
		if err != nil {
			return err
		}
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, "%s:%s", k, text)
	}
	b.WriteByte('}')
	return l.keep(ctx, b.String(), reason)
}

func (l *load) keep(ctx context.Context, row, reason string) error {
	_, err := l.conn.Exec(ctx, fmt.Sprintf(`INSERT INTO %s (job, sink, "table", reason, "row", at) VALUES ($1, $2, $3, $4, $5, now())`, l.w.refusals()), l.w.job, l.w.sink, string(l.w.table.name), strings.ToValidUTF8(reason, "?"), row)
	if err != nil {
		return fmt.Errorf("keep a row that the table refuses (%s): %w", reason, err)
	}
	l.refused++
	l.last = reason
	return nil
}
