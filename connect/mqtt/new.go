package mqtt

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"github.com/eclipse/paho.golang/packets"
	"github.com/eclipse/paho.golang/paho"
	"github.com/eclipse/paho.golang/paho/session/state"
)

// newSession speaks MQTT 5.
type newSession struct {
	conn    net.Conn
	client  *paho.Client
	state   *state.State
	known   bool
	sending sync.Mutex // so that messages go out in order
	ended   chan struct{}
	once    sync.Once
	cause   error // set before ended is closed
}

// ackEvery is how long acknowledgments wait for more of them.
const ackEvery = 2 * time.Millisecond

func beginNew(ctx context.Context, b *broker, conn net.Conn, d dialing) (session, error) {
	s := &newSession{conn: packets.NewThreadSafeConn(conn), state: state.NewInMemory(), ended: make(chan struct{})}
	c := paho.ClientConfig{Conn: s.conn, Session: s.state, EnableManualAcknowledgment: true, SendAcksInterval: ackEvery,
		OnClientError: s.end,
		OnServerDisconnect: func(d *paho.Disconnect) {
			if d.ReasonCode == packets.DisconnectSessionTakenOver {
				s.end(errTakenOver)
			} else {
				s.end(fmt.Errorf("the broker took leave: %s", reasonOf(d.ReasonCode, d.Properties)))
			}
		},
		OnPublishReceived: []func(paho.PublishReceived) (bool, error){func(p paho.PublishReceived) (bool, error) {
			if d.take != nil {
				d.take(message{topic: p.Packet.Topic, text: p.Packet.Payload, id: p.Packet.PacketID, again: p.Packet.Duplicate(), ack: func() { _ = p.Client.Ack(p.Packet) }}) // it fails for a packet that the client does not know
			}
			return true, nil
		}}}
	s.client = paho.NewClient(c)
	expiry, most := uint32(min(d.expiry/time.Second, 1<<32-1)), uint16(underWay)
	said, err := s.client.Connect(ctx, &paho.Connect{ClientID: d.client, CleanStart: d.expiry == 0, KeepAlive: uint16(keepAlive / time.Second),
		Username: b.user, UsernameFlag: b.user != "", Password: []byte(b.password), PasswordFlag: b.password != "",
		Properties: &paho.ConnectProperties{SessionExpiryInterval: &expiry, ReceiveMaximum: &most}})
	switch {
	case said != nil && said.ReasonCode >= 0x80:
		text := reasonText(said.ReasonCode)
		if p := said.Properties; p != nil && p.ReasonString != "" {
			text += " (" + p.ReasonString + ")"
		}
		return nil, &refusal{denied: denies(said.ReasonCode), text: text}
	case err != nil:
		return nil, err
	}
	s.known = said.SessionPresent
	return s, nil
}

// end notes the end of the connection.
func (s *newSession) end(err error) {
	s.once.Do(func() {
		s.cause = err
		close(s.ended)
	})
}

func (s *newSession) resumed() bool         { return s.known }
func (s *newSession) over() <-chan struct{} { return s.ended }
func (s *newSession) why() error            { return s.cause }

func (s *newSession) subscribe(ctx context.Context, filters []string) error {
	ask := &paho.Subscribe{}
	for _, filter := range filters {
		ask.Subscriptions = append(ask.Subscriptions, paho.SubscribeOptions{Topic: filter, QoS: 1})
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go func() { // the library waits on where the connection has ended
		select {
		case <-s.ended:
			stop()
		case <-ctx.Done():
		}
	}()
	said, err := s.client.Subscribe(ctx, ask)
	if said == nil {
		select {
		case <-s.ended:
			return s.cause
		default:
			return err
		}
	}
	for i, code := range said.Reasons {
		switch {
		case code >= 0x80:
			return &refusal{denied: denies(code), text: fmt.Sprintf("topic filter %s: %s", filters[i], reasonText(code))}
		case code == 0:
			return &refusal{denied: true, text: fmt.Sprintf("topic filter %s: the broker grants it without acknowledgments (QoS 0)", filters[i])}
		}
	}
	return err
}

func (s *newSession) publish(ctx context.Context, topic string, text []byte, retain bool) (func(context.Context) error, error) {
	p := &packets.Publish{QoS: 1, Topic: topic, Payload: text, Retain: retain, Properties: &packets.Properties{}}
	answer := make(chan packets.ControlPacket, 1)
	s.sending.Lock()
	defer s.sending.Unlock()
	if err := s.state.AddToSession(ctx, p, answer); err != nil {
		return nil, err
	}
	if _, err := p.WriteTo(s.conn); err != nil {
		return nil, err
	}
	return func(ctx context.Context) error {
		select {
		case said := <-answer:
			ack, ok := said.Content.(*packets.Puback)
			switch {
			case !ok:
				return errors.New("the connection ended before the broker had the message")
			case ack.ReasonCode >= 0x80:
				return &refusal{denied: denies(ack.ReasonCode), text: fmt.Sprintf("topic %s: %s", topic, reasonText(ack.ReasonCode))}
			}
			return nil
		case <-s.ended:
			return s.cause
		case <-ctx.Done():
			return ctx.Err()
		}
	}, nil
}

func (s *newSession) close() {
	s.end(errors.New("this side took leave")) // first: who takes messages must not wait any more
	_ = s.conn.SetWriteDeadline(time.Now().Add(reachIn))
	_ = s.client.Disconnect(&paho.Disconnect{}) // the session stays for as long as was said as it began
	_ = s.conn.Close()
	<-s.client.Done()
	_ = s.state.Close() // in memory
}

// errTakenOver: there is another client of the same name.
var errTakenOver = errors.New("another client took over the session by the same name: give each its own in client")

// denies says whether a reason code is about who asks (MQTT 5, section 2.4).
func denies(code byte) bool {
	switch code {
	case packets.ConnackBadUsernameOrPassword, packets.ConnackNotAuthorized, packets.ConnackBanned, packets.ConnackBadAuthenticationMethod:
		return true
	}
	return false
}

func reasonOf(code byte, p *paho.DisconnectProperties) string {
	if p != nil && p.ReasonString != "" {
		return reasonText(code) + " (" + p.ReasonString + ")"
	}
	return reasonText(code)
}

// reasonText words reason codes (MQTT 5, section 2.4).
func reasonText(code byte) string {
	texts := map[byte]string{0x80: "it says no more than that it failed", 0x81: "it could not read what it was sent", 0x82: "what it was sent breaks the protocol", 0x83: "it cannot do that", 0x84: "it does not speak MQTT 5; give version: 3.1.1",
		0x85: "it does not take this name of a client", 0x86: "user or password is wrong", 0x87: "this user may not do that", 0x88: "it is not available", 0x89: "it is busy", 0x8a: "this client is banned", 0x8b: "it shuts down", 0x8c: "it does not know this way to sign in",
		0x8d: "it heard nothing for too long", 0x8f: "it does not take this topic filter", 0x90: "it does not take this topic", 0x93: "too much was sent without its acknowledgment",
		0x95: "a packet is too large for it", 0x96: "too many messages for it", 0x97: "a quota is reached", 0x98: "somebody ended it by hand", 0x99: "the message is not in the form that it says", 0x9a: "it retains no messages", 0x9b: "it does not know this quality of service", 0x9f: "too many connections for it"}
	if text, ok := texts[code]; ok {
		return text
	}
	return fmt.Sprintf("it gives reason 0x%02X", code)
}
