package kafka

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kgo"

	"undertide/connect"
	"undertide/connect/staging"
	"undertide/core/engine"
	"undertide/core/row"
)

// Once writes rows to a topic exactly once: the rows of an epoch wait in a file until its checkpoint is complete, and then go
// out in one transaction of the broker, which also commits the epoch ([ledger]). Readers that ask for committed rows alone
// see every row once, whoever was killed when.
//
// Why nothing comes twice: a commit whose answer was lost is asked for, not repeated. Why nothing is lost: a file goes only
// once the broker says that it has the epoch. Why an earlier run that lives on does no harm: a start takes the transactional
// id, which aborts what that run has open, and writes its own name into the ledger; who finds another's name there ends. The
// name is needed since a broker ends transactions also for other reasons, and the errors are the same: after each one the
// delivery begins again with a client of its own, and looks at the ledger once it holds the id.
type Once struct {
	*staging.Area // rows wait in it: Open, Write, Prepare
	c             SinkConfig
	run           string
	health        *health
	ledger        ledger
	ctx           context.Context // ends with the sink or when it is interrupted
	cancel        context.CancelFunc

	mu     sync.Mutex // guards client: Deliver runs beside Abort
	client *kgo.Client
}

// NewOnce makes a sink whose shipments wait in an area; the broker is reached by Delivered.
func NewOnce(c SinkConfig, area *staging.Area) *Once {
	name := "undertide." + c.Job + "." + c.Sink
	s := &Once{Area: area, c: c, run: rand.Text(), health: &health{what: c.Connection.String()}, ledger: ledger{txn: name, group: name, topic: c.Topic}}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	return s
}

func (s *Once) NewEncoder(sc row.Schema) engine.Encoder { return newEncoder(&s.c, sc) }

// takeIn bounds how long a start waits until the broker has ended what an earlier run had open.
const takeIn = 30 * time.Second

// Delivered takes the topic over, and gives the epoch that was delivered last.
func (s *Once) Delivered(ctx context.Context) (int64, error) {
	epoch, err := s.ask(ctx, func(ctx context.Context, client *kgo.Client, noted int64) (e entry, err error) {
		for { // a run that is being taken over, and does not know it yet, may take it back in the middle
			e, err = s.ledger.take(ctx, client, s.run, noted)
			if !lost(err) || ctx.Err() != nil {
				return e, err
			}
		}
	})
	if err != nil {
		return 0, err
	}
	return epoch, s.Area.Know(epoch)
}

// Known gives the epoch that was delivered last, and takes nothing over.
func (s *Once) Known(ctx context.Context) (int64, error) {
	return s.ask(ctx, func(ctx context.Context, client *kgo.Client, _ int64) (entry, error) {
		return s.ledger.read(ctx, client)
	})
}

// ask finds the topic and asks its ledger; it gives the epoch that the ledger or the folder says was delivered last, which
// how is told as the folder has it.
func (s *Once) ask(ctx context.Context, how func(ctx context.Context, client *kgo.Client, noted int64) (entry, error)) (int64, error) {
	noted, err := s.Area.Delivered()
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, takeIn)
	defer cancel()
	client, err := kgo.NewClient(s.c.Connection.options()...)
	if err != nil {
		return 0, fmt.Errorf("connect to %s: %w", s.c.Connection, err)
	}
	defer client.Close()
	detail, err := s.c.find(ctx, client)
	if err != nil {
		return 0, err
	}
	s.ledger.id = detail.ID
	e, err := how(ctx, client, noted)
	if err != nil {
		return 0, s.explain(err)
	}
	return max(e.Epoch, noted), nil
}

// explain words why a start did not come about.
func (s *Once) explain(err error) error {
	switch denied := s.c.Connection.denied(err); {
	case denied != nil:
		return denied
	case codeOf(err) == 0:
		return s.c.Connection.unreachable(err)
	}
	return fmt.Errorf("%s: %w", s.c.Connection, err)
}

// Deliver sends a shipment in one transaction, and tries again until that was committed, or another run has taken over.
func (s *Once) Deliver(ctx context.Context, sh engine.Shipment) error {
	return s.deliver(ctx, sh, frames)
}

// deliver is Deliver of the records that of gives.
func (s *Once) deliver(ctx context.Context, sh engine.Shipment, of records) error {
	if !staging.Rows(sh) {
		return nil
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(s.ctx, cancel)()
	wait := connect.Pauses()
	for {
		err := s.commit(ctx, sh, of)
		if err == nil {
			s.health.OK()
			return s.Area.Done(sh)
		}
		s.drop()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if errors.Is(err, engine.ErrFenced) || errors.Is(err, staging.ErrMissing) || errors.Is(err, errRefused) || !passes(err) {
			return cmp.Or(s.c.Connection.denied(err), err)
		}
		s.health.fault(err)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait.NextBackOff()):
		}
	}
}

// drop ends the client, with the transaction that it may have open.
func (s *Once) drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.client != nil {
		s.client.Close()
		s.client = nil
	}
}

// begin gives a client that holds the transactional id, and false where the broker has the epoch already.
func (s *Once) begin(ctx context.Context, epoch int64) (*kgo.Client, bool, error) {
	s.mu.Lock()
	client := s.client
	s.mu.Unlock()
	if client != nil {
		return client, true, nil // nothing has failed since the last commit
	}
	client, err := kgo.NewClient(append(s.c.producing(s.health), kgo.TransactionalID(s.ledger.txn), kgo.TransactionTimeout(transactionLasts))...)
	if err != nil {
		return nil, false, fmt.Errorf("connect to %s: %w", s.c.Connection, err)
	}
	s.mu.Lock()
	s.client = client
	s.mu.Unlock()
	if _, _, err := client.ProducerID(ctx); err != nil {
		return nil, false, fmt.Errorf("%s: begin a transaction: %w", s.c.Connection, err)
	}
	e, err := s.ledger.read(ctx, client)
	if err != nil {
		return nil, false, fmt.Errorf("%s: ask what was delivered: %w", s.c.Connection, err)
	}
	if e.Run != s.run {
		return nil, false, fmt.Errorf("%w: it delivers to topic %s of %s, and has delivered up to epoch %d", engine.ErrFenced, s.c.Topic, s.c.Connection, e.Epoch)
	}
	return client, e.Epoch < epoch, nil
}

// commit is one try.
func (s *Once) commit(ctx context.Context, sh engine.Shipment, of records) error {
	client, lacks, err := s.begin(ctx, sh.Epoch)
	if err != nil || !lacks {
		return err
	}
	if err := client.BeginTransaction(); err != nil {
		return fmt.Errorf("%s: begin a transaction: %w", s.c.Connection, err)
	}
	var sent sending
	err = s.Area.Read(sh, func(rows io.Reader) error {
		return of(rows, func(r *kgo.Record) error {
			client.Produce(ctx, r, sent.done)
			return sent.fault()
		})
	})
	if err := errors.Join(s.c.explain(err), client.Flush(ctx), s.c.explain(sent.fault())); err != nil {
		return err
	}
	id, epoch, err := client.ProducerID(ctx)
	if err != nil {
		return fmt.Errorf("%s: %w", s.c.Connection, err)
	}
	if err := s.ledger.write(ctx, client, id, epoch, entry{sh.Epoch, sh.Place, s.run}); err != nil {
		return fmt.Errorf("%s: %w", s.c.Connection, err)
	}
	if err := client.EndTransaction(ctx, kgo.TryCommit); err != nil {
		return fmt.Errorf("%s: commit epoch %d: %w", s.c.Connection, sh.Epoch, err)
	}
	return nil
}

// sending notes the first refusal of what was sent.
type sending struct {
	mu  sync.Mutex // guards err
	err error
}

func (s *sending) done(_ *kgo.Record, err error) {
	if err == nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.err = cmp.Or(s.err, err)
}

func (s *sending) fault() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// Recover delivers what is left of a run whose last checkpoint said that it was done.
func (s *Once) Recover(ctx context.Context, waiting []engine.Shipment) (err error) {
	defer func() { err = errors.Join(err, s.Abort()) }()
	return s.Area.Recover(ctx, waiting, s)
}

func (s *Once) Finish() error { return s.Abort() }

func (s *Once) Abort() error {
	s.cancel()
	s.drop()
	return s.Area.Close()
}

// Interrupt frees whoever waits for the broker.
func (s *Once) Interrupt() { s.cancel() }

func (s *Once) Trouble() string { return s.health.trouble() }
func (s *Once) Retries() int64  { return s.health.Retries() }

// errRefused is wrapped where the broker will never take a row.
var errRefused = errors.New("the broker refuses a row")

// slab is how much of a shipment is read at once.
const slab = 256 << 10

// frames gives the records of a shipment; their bytes are the library's from then on. It reads slabs, of which the records
// are parts, so that nothing is made for each of them.
func frames(rows io.Reader, take func(*kgo.Record) error) error {
	var made []kgo.Record
	return eachRecord(rows, func(data []byte) (rest []byte, whole bool, err error) {
		key, after, whole := cut(data)
		var value []byte
		if whole {
			value, after, whole = cut(after)
		}
		if !whole {
			return data, false, nil
		}
		if len(made) == 0 {
			made = make([]kgo.Record, 512)
		}
		r := &made[0]
		made = made[1:]
		r.Key, r.Value = key, value
		return after, true, take(r)
	})
}

// eachRecord reads a shipment by slabs; one takes a record off the front of data, whose bytes nobody writes to again, or says that it is not all there.
func eachRecord(rows io.Reader, one func(data []byte) (rest []byte, whole bool, err error)) error {
	var rest []byte
	for ended := false; !ended; {
		buf := make([]byte, len(rest)+max(slab, len(rest))) // a row that is longer than a slab doubles it
		n := copy(buf, rest)
		more, err := io.ReadFull(rows, buf[n:])
		if ended = errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF); err != nil && !ended {
			return err
		}
		rest = buf[:n+more]
		for len(rest) > 0 {
			after, whole, err := one(rest)
			if err != nil {
				return err
			}
			if !whole {
				break
			}
			rest = after
		}
		if ended && len(rest) > 0 {
			return fmt.Errorf("%w: a row ends before its end", staging.ErrMissing)
		}
	}
	return nil
}

// cut takes what appendFrame wrote off the front; false where it is not all there.
func cut(data []byte) (text, rest []byte, whole bool) {
	n, w := binary.Uvarint(data)
	switch {
	case w <= 0 || n > 0 && uint64(len(data)-w) < n-1:
		return nil, nil, false
	case n == 0:
		return nil, data[w:], true
	}
	end := w + int(n) - 1
	return data[w:end:end], data[end:], true
}
