package engine

import (
	"fmt"
	"sync"
)

// sinkRunner feeds one sink. Rows of several producers come in any order between marks; at a mark
// it waits for every producer, and keeps what is already of the next epoch aside.
type sinkRunner struct {
	e         *run
	at        int
	node      *SinkNode
	in        chan sinkMessage
	producers int
	held      []sinkMessage
	marked    map[int]bool
	mark      *mark
	counts    SinkCounts
	shipped   int64 // of counts.Rows: those of epochs that have ended
	dirty     bool
	delivery  *delivery
	ages      ages // of rows that were taken and have not appeared
	delays    delays
}

// appeared notes that the rows which were taken can be read from now on.
func (s *sinkRunner) appeared() {
	if s.e.opt.Script == nil { // else time is made up
		s.delays.appear(s.ages, s.e.opt.Now())
	}
	s.ages = s.ages[:0]
}

var blockPool = sync.Pool{New: func() any { return new(block) }}

// send hands the rows of b to a sink in a block of its own, and empties b.
func (e *run) send(m *meter, producer, sink int, b *block) {
	out := blockPool.Get().(*block)
	*out, *b = *b, block{data: out.data[:0], ages: out.ages[:0]}
	hand(e, m, producer, sink, e.sinks[sink].in, sinkMessage{producer: producer, block: out})
}

func (s *sinkRunner) run() {
	s.e.guard(s.takeAll)
	for range s.in { // after a panic: nobody may wait for us
	}
}

func (s *sinkRunner) takeAll() {
	for {
		var m sinkMessage
		var ok bool
		select {
		case m, ok = <-s.in:
		default:
			if s.dirty { // nothing waits: let readers see what there is
				s.dirty = false
				s.flush()
			}
			m, ok = <-s.in
		}
		if !ok {
			return
		}
		s.take(m)
	}
}

func (s *sinkRunner) flush() {
	f, ok := s.node.Sink.(Flusher)
	if !ok {
		return
	}
	if err := s.e.waits.during(&s.e.waits.writing[s.at], f.Flush); err != nil {
		s.e.fail(fmt.Errorf("sink %s: %w", s.node.Name, err))
		return
	}
	if s.node.AsMade {
		s.appeared()
	}
}

func (s *sinkRunner) take(m sinkMessage) {
	if s.e.failed() {
		if m.mark != nil {
			s.finishMark(m)
		}
		return // drain, so that nobody waits for us
	}
	if s.marked[m.producer] {
		s.held = append(s.held, m)
		return
	}
	if m.mark != nil {
		s.finishMark(m)
		return
	}
	s.delivery.awaitRoom()
	write := func() error { return s.node.Sink.Write(m.block.data, m.block.rows) }
	if err := s.e.waits.during(&s.e.waits.writing[s.at], write); err != nil {
		s.e.fail(fmt.Errorf("sink %s: %w", s.node.Name, err))
		return
	}
	s.dirty = true
	s.counts.Rows += int64(m.block.rows)
	s.e.sinkCounts(s.at, s.counts)
	s.ages = s.ages.add(m.block.ages)
	if _, flushes := s.node.Sink.(Flusher); s.node.AsMade && !flushes {
		s.appeared()
	}
	blockPool.Put(m.block)
}

// finishMark notes that a producer has passed the mark; with the last one the sink prepares.
func (s *sinkRunner) finishMark(m sinkMessage) {
	s.marked[m.producer] = true
	if len(s.marked) < s.producers {
		return
	}
	clear(s.marked)
	if !s.e.failed() {
		var shipment Shipment
		err := s.e.waits.during(&s.e.waits.writing[s.at], func() (err error) {
			if r, ok := s.node.Sink.(Rester); ok && m.mark.rest {
				r.Rest()
			}
			shipment, err = s.node.Sink.Prepare(m.mark.snap.Epoch)
			return err
		})
		if err != nil {
			s.e.fail(fmt.Errorf("sink %s: %w", s.node.Name, err))
		}
		shipment.Epoch, shipment.Place, shipment.Rows = m.mark.snap.Epoch, m.mark.snap.Turn, s.counts.Rows-s.shipped
		s.shipped = s.counts.Rows
		if s.node.AsMade {
			s.appeared()
		} else {
			s.delivery.expect(shipment.Epoch, s.ages)
			s.ages = nil
		}
		waiting, _ := s.delivery.left()
		m.mark.addShipments(s.node.Name, s.at, append(waiting, shipment), s.counts)
	}
	m.mark.done()
	held := s.held
	s.held = nil
	for _, h := range held {
		s.take(h)
	}
}
