package mqtt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"sync"

	mqtt "github.com/eclipse/paho.mqtt.golang"
	"github.com/eclipse/paho.mqtt.golang/packets"
)

// oldSession speaks MQTT 3.1.1.
type oldSession struct {
	client mqtt.Client
	known  bool
	ended  chan struct{}
	once   sync.Once
	cause  error // set before ended is closed
}

func beginOld(ctx context.Context, b *broker, conn net.Conn, d dialing) (session, error) {
	s := &oldSession{ended: make(chan struct{})}
	o := mqtt.NewClientOptions().SetProtocolVersion(4).SetClientID(d.client).SetCleanSession(d.expiry == 0).SetKeepAlive(keepAlive).SetPingTimeout(reachIn).SetConnectTimeout(reachIn).SetWriteTimeout(reachIn).
		SetAutoReconnect(false).SetConnectRetry(false).SetOrderMatters(true).SetAutoAckDisabled(true).SetUsername(b.user).SetPassword(b.password).AddBroker("tcp://" + b.address).
		SetCustomOpenConnectionFn(func(*url.URL, mqtt.ClientOptions) (net.Conn, error) { return conn, nil }).
		SetConnectionLostHandler(func(_ mqtt.Client, err error) { s.end(err) }).
		SetDefaultPublishHandler(func(_ mqtt.Client, m mqtt.Message) {
			if d.take != nil {
				d.take(message{topic: m.Topic(), text: m.Payload(), id: m.MessageID(), again: m.Duplicate(), ack: m.Ack})
			}
		})
	s.client = mqtt.NewClient(o)
	t := s.client.Connect().(*mqtt.ConnectToken)
	if err := await(ctx, t); err != nil {
		s.client.Disconnect(0)
		if code := t.ReturnCode(); code > 0 && code < packets.ErrNetworkError {
			return nil, &refusal{denied: code == packets.ErrRefusedBadUsernameOrPassword || code == packets.ErrRefusedNotAuthorised, text: returnText(code)}
		}
		return nil, err
	}
	s.known = t.SessionPresent()
	return s, nil
}

// await waits for a token of the library.
func await(ctx context.Context, t mqtt.Token) error {
	select {
	case <-t.Done():
		return t.Error()
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (s *oldSession) end(err error) {
	s.once.Do(func() {
		s.cause = err
		close(s.ended)
	})
}

func (s *oldSession) resumed() bool         { return s.known }
func (s *oldSession) over() <-chan struct{} { return s.ended }
func (s *oldSession) why() error            { return s.cause }

func (s *oldSession) subscribe(ctx context.Context, filters []string) error {
	ask := map[string]byte{}
	for _, filter := range filters {
		ask[filter] = 1
	}
	t := s.client.SubscribeMultiple(ask, nil).(*mqtt.SubscribeToken)
	select {
	case <-s.ended:
		return s.cause
	case <-t.Done():
		if err := t.Error(); err != nil {
			return err
		}
	case <-ctx.Done():
		return ctx.Err()
	}
	for filter, code := range t.Result() {
		if code != 1 {
			return &refusal{denied: true, text: fmt.Sprintf("topic filter %s: it does not grant it with acknowledgments (QoS 1)", filter)}
		}
	}
	return nil
}

func (s *oldSession) publish(_ context.Context, topic string, text []byte, retain bool) (func(context.Context) error, error) {
	t := s.client.Publish(topic, 1, retain, text)
	return func(ctx context.Context) error {
		select {
		case <-s.ended:
			return s.cause
		case <-t.Done():
			return t.Error()
		case <-ctx.Done():
			return ctx.Err()
		}
	}, nil
}

func (s *oldSession) close() {
	s.end(errors.New("this side took leave")) // first: who takes messages must not wait any more
	s.client.Disconnect(100)
}

// returnText words return codes (MQTT 3.1.1, section 3.2.2.3).
func returnText(code byte) string {
	switch code {
	case packets.ErrRefusedBadProtocolVersion:
		return "it does not speak MQTT 3.1.1; leave version out for MQTT 5"
	case packets.ErrRefusedIDRejected:
		return "it does not take this name of a client"
	case packets.ErrRefusedServerUnavailable:
		return "it is not available"
	case packets.ErrRefusedBadUsernameOrPassword:
		return "user or password is wrong"
	case packets.ErrRefusedNotAuthorised:
		return "this user may not do that"
	}
	return fmt.Sprintf("it gives return code %d", code)
}
