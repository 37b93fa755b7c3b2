package kafka

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// ledger is where a topic's broker keeps how far a sink has delivered: the metadata of an offset that a group of the sink's
// own commits for partition 0 of the topic, in the transaction that also holds the rows.
type ledger struct {
	txn   string // the transactional id
	group string
	topic string
	id    kadm.TopicID // of the topic; newer requests go by it
}

// entry is what it says.
type entry struct {
	Epoch int64  `json:"epoch"` // the last one delivered; 0 for none
	Place int64  `json:"place"` // engine.Shipment.Place of it
	Run   string `json:"run"`   // who may deliver: each run that starts writes its own name
}

// transactionLasts is how long a broker lets a transaction stand open: long enough for a shipment of 1 GiB.
const transactionLasts = 5 * time.Minute

// read gives the entry; a zero one where the group never committed. Transactions that are ending are waited for.
func (l *ledger) read(ctx context.Context, client *kgo.Client) (e entry, err error) {
	all, err := kadm.NewClient(client).FetchOffsets(kadm.RequireStable(ctx), l.group)
	if errors.Is(err, kerr.GroupIDNotFound) {
		return e, nil
	}
	if err != nil {
		return e, err
	}
	o, ok := all.Lookup(l.topic, 0)
	if !ok || o.At < 0 {
		return e, nil
	}
	if o.Err != nil {
		return e, o.Err
	}
	if err := json.Unmarshal([]byte(o.Metadata), &e); err != nil {
		return e, fmt.Errorf("group %s has committed %q for topic %s, which is not ours; let nobody else commit for it: %w", l.group, o.Metadata, l.topic, err)
	}
	return e, nil
}

// write commits an entry within the transaction that is open for a producer's id.
func (l *ledger) write(ctx context.Context, client *kgo.Client, id int64, epoch int16, e entry) error {
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	add := kmsg.NewPtrAddOffsetsToTxnRequest()
	add.TransactionalID, add.ProducerID, add.ProducerEpoch, add.Group = l.txn, id, epoch, l.group
	err = settle(ctx, func() error {
		resp, err := add.RequestWith(ctx, client)
		if err != nil {
			return err
		}
		return kerr.ErrorForCode(resp.ErrorCode)
	})
	if err != nil {
		return fmt.Errorf("take the group %s into a transaction: %w", l.group, err)
	}
	c := kmsg.NewPtrTxnOffsetCommitRequest()
	c.TransactionalID, c.Group, c.ProducerID, c.ProducerEpoch = l.txn, l.group, id, epoch
	t := kmsg.NewTxnOffsetCommitRequestTopic()
	t.Topic, t.TopicID = l.topic, l.id
	p := kmsg.NewTxnOffsetCommitRequestTopicPartition()
	metadata := string(text)
	p.Offset, p.Metadata = e.Epoch, &metadata
	t.Partitions = append(t.Partitions, p)
	c.Topics = append(c.Topics, t)
	err = settle(ctx, func() error {
		resp, err := c.RequestWith(ctx, client)
		if err != nil {
			return err
		}
		for _, t := range resp.Topics {
			for _, p := range t.Partitions {
				if err := kerr.ErrorForCode(p.ErrorCode); err != nil {
					return err
				}
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("commit epoch %d to group %s: %w", e.Epoch, l.group, err)
	}
	return nil
}

// take makes run the one that may deliver, and gives what the entry said before. Whoever delivered before is fenced from
// the first request on: their open transaction is aborted, and no later one of theirs is committed.
func (l *ledger) take(ctx context.Context, client *kgo.Client, run string, least int64) (e entry, err error) {
	begin := kmsg.NewPtrInitProducerIDRequest()
	begin.TransactionalID, begin.TransactionTimeoutMillis = &l.txn, int32(transactionLasts.Milliseconds())
	var id int64
	var epoch int16
	err = settle(ctx, func() error {
		resp, err := begin.RequestWith(ctx, client)
		if err != nil {
			return err
		}
		id, epoch = resp.ProducerID, resp.ProducerEpoch
		return kerr.ErrorForCode(resp.ErrorCode)
	})
	if err != nil {
		return e, fmt.Errorf("take over the transactions of %s: %w", l.txn, err)
	}
	if e, err = l.read(ctx, client); err != nil {
		return e, fmt.Errorf("ask what was delivered: %w", err)
	}
	e.Epoch, e.Run = max(e.Epoch, least), run
	if err := l.write(ctx, client, id, epoch, e); err != nil {
		return e, err
	}
	end := kmsg.NewPtrEndTxnRequest()
	end.TransactionalID, end.ProducerID, end.ProducerEpoch, end.Commit = l.txn, id, epoch, true
	err = settle(ctx, func() error {
		resp, err := end.RequestWith(ctx, client)
		if err != nil {
			return err
		}
		return kerr.ErrorForCode(resp.ErrorCode)
	})
	if err != nil {
		return e, fmt.Errorf("take over the transactions of %s: %w", l.txn, err)
	}
	return e, nil
}

// settle asks again while the broker is still ending an earlier transaction, or finding out who keeps it.
func settle(ctx context.Context, ask func() error) error {
	wait := &backoff.ExponentialBackOff{InitialInterval: 20 * time.Millisecond, Multiplier: 2, MaxInterval: time.Second, RandomizationFactor: 0.5}
	for {
		err := ask()
		switch {
		case errors.Is(err, kerr.ConcurrentTransactions), errors.Is(err, kerr.CoordinatorLoadInProgress), errors.Is(err, kerr.CoordinatorNotAvailable), errors.Is(err, kerr.NotCoordinator), errors.Is(err, kerr.UnstableOffsetCommit):
		default:
			return err
		}
		select {
		case <-ctx.Done():
			return errors.Join(err, ctx.Err())
		case <-time.After(wait.NextBackOff()):
		}
	}
}

// passes says whether an error may pass when the delivery is tried again, with a transaction of its own: what is wrong with
// the connection, and what a broker says of a transaction that it has lost or ended.
func passes(err error) bool {
	var k *kerr.Error
	if !errors.As(err, &k) {
		return true
	}
	return k.Retriable || lost(err) || isOne(err, kerr.UnknownProducerID, kerr.OutOfOrderSequenceNumber, kerr.OperationNotAttempted, kerr.TransactionAbortable, kerr.UnknownServerError,
		kerr.FencedMemberEpoch, kerr.UnknownTopicID, kerr.DuplicateSequenceNumber)
}

// lost says whether somebody else has ended our transaction. Which of these a broker says depends on how far it has come.
func lost(err error) bool {
	return isOne(err, kerr.InvalidProducerEpoch, kerr.ProducerFenced, kerr.InvalidTxnState, kerr.InvalidProducerIDMapping)
}

func isOne(err error, list ...*kerr.Error) bool {
	return slices.ContainsFunc(list, func(of *kerr.Error) bool { return errors.Is(err, of) })
}
