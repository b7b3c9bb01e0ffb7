package notice

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"net/netip"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"
)

// The example of the scheme's own specification.
func TestSignatureOfTheSpecification(t *testing.T) {
	secret, err := base64.StdEncoding.DecodeString("MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
	require.NoError(t, err)
	m := Message{ID: "msg_p5jXN8AQM9LWM0D4loKWxJek", Headers: map[string]string{}, Body: []byte(`{"test": 2432232314}`)}
	require.NoError(t, m.Sign(time.Unix(1614265330, 0), secret))
	require.Equal(t, map[string]string{"webhook-id": m.ID, "webhook-timestamp": "1614265330",
		"webhook-signature": "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="}, m.Headers)
}

var entered = Notice{ID: "71", Source: "/projects/vessels", Type: Type("edition", "entered"),
	Subject: "vessel-classifier#3", Time: time.Date(2026, 11, 2, 3, 4, 5, 6000, time.UTC),
	Data: json.RawMessage(`{"who":"Ada"}`)}

// Receivers take the messages with the libraries of both schemes, in both modes.
func TestMessagesAreTakenByTheLibraries(t *testing.T) {
	now := time.Now()
	old, young := []byte("an old secret of some length...."), []byte("a young secret of that length...")
	structured, err := entered.Structured()
	require.NoError(t, err)
	for _, m := range []Message{structured, entered.Binary()} {
		require.NoError(t, m.Sign(now, young, old))
		headers := http.Header{}
		for name, value := range m.Headers {
			headers.Set(name, value)
		}
		for _, secret := range [][]byte{old, young} {
			hook, err := standardwebhooks.NewWebhookRaw(secret)
			require.NoError(t, err)
			require.NoError(t, hook.Verify(m.Body, headers))
			require.Error(t, hook.Verify(append([]byte(" "), m.Body...), headers))
		}
		event := received(t, headers, m.Body)
		require.NoError(t, event.Validate())
		require.Equal(t, "71", event.ID())
		require.Equal(t, "internal.kembrel.edition.entered", event.Type())
		require.Equal(t, "vessel-classifier#3", event.Subject())
		require.True(t, entered.Time.Equal(event.Time()))
		require.JSONEq(t, `{"who":"Ada"}`, string(event.Data()))
	}
}

func received(t *testing.T, h http.Header, body []byte) *cloudevents.Event {
	r, err := http.NewRequest(http.MethodPost, "/", bytes.NewReader(body))
	require.NoError(t, err)
	r.Header = h
	event, err := cehttp.NewEventFromHTTPRequest(r)
	require.NoError(t, err)
	return event
}

func TestHeadersBearEverySubject(t *testing.T) {
	n := entered
	n.Subject = "håfen \"100 %\"\n"
	require.Equal(t, "h%C3%A5fen%20%22100%20%25%22%0A", n.Binary().Headers["ce-subject"])
}

func TestKinds(t *testing.T) {
	require.True(t, Kinds(nil).Has("run", "ended"))
	k := Kinds{"edition.*", "run.ended"}
	require.NoError(t, k.Check())
	for name, want := range map[[2]string]bool{{"edition", "entered"}: true, {"run", "ended"}: true,
		{"run", "began"}: false, {"editions", "entered"}: false} {
		require.Equal(t, want, k.Has(name[0], name[1]), name)
	}
	for _, bad := range []string{"", "run", "run.", ".ended", "*", "*.*", "run.ended.twice", "Run.ended"} {
		require.Error(t, Kinds{bad}.Check(), bad)
	}
}

func TestSubjects(t *testing.T) {
	for _, c := range []struct {
		subject, of string
		want        bool
	}{{"vessels/1", "", true}, {"vessels/1", "vessels/1", true}, {"vessels/1@s3", "vessels/1", true},
		{"vessels/17", "vessels/1", false}, {"vessel-classifier#3", "vessel-classifier", true},
		{"vessel-classifier-two#3", "vessel-classifier", false}, {"vessel-classifier/in-use", "vessel-classifier", true}} {
		require.Equal(t, c.want, Of(c.subject, c.of), c)
	}
}

func TestPausesGrowForDays(t *testing.T) {
	require.Equal(t, 4*time.Second, Pause(1, 0, 0))
	require.Equal(t, 10*time.Second, Pause(2, 0, 0.5))
	require.Equal(t, LongestPause, Pause(1000, 0, 0.5))
	require.Equal(t, time.Hour, Pause(1, time.Hour, 0.5), "what the receiver asks for")
	require.Equal(t, 24*time.Hour, Pause(1, 900*time.Hour, 0.5), "within reason")
	first := time.Now()
	at, tries := first, 1
	for n := 1; !Hopeless(first, at); n++ {
		at = at.Add(Pause(n, 0, 0.5))
		tries++
	}
	require.InDelta(t, 24, tries, 2)
	require.Less(t, at.Sub(first), Patience+LongestPause)
}

func TestTheInsideIsNotReached(t *testing.T) {
	for _, a := range []string{"127.0.0.1", "127.8.8.8", "10.1.2.3", "172.16.0.1", "172.31.255.255", "192.168.1.1",
		"169.254.169.254", "100.64.0.1", "0.0.0.0", "255.255.255.255", "224.0.0.1", "::", "::1", "fe80::1%eth0",
		"fc00::1", "fd12::1", "ff02::1", "::ffff:127.0.0.1", "::ffff:10.0.0.1", "::127.0.0.1", "64:ff9b::7f00:1",
		"64:ff9b::a00:1", "2002:7f00:1::", "2002:c0a8:101::1", "2001:0:1::1", "fec0::1"} {
		require.ErrorIs(t, Reachable(netip.MustParseAddr(a), nil), ErrInside, a)
	}
	for _, a := range []string{"8.8.8.8", "172.32.0.1", "::ffff:8.8.8.8", "2a00:1450::1", "64:ff9b::808:808", "2002:808:808::"} {
		require.NoError(t, Reachable(netip.MustParseAddr(a), nil), a)
	}
	let := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	require.NoError(t, Reachable(netip.MustParseAddr("127.0.0.1"), let))
	require.NoError(t, Reachable(netip.MustParseAddr("::ffff:127.0.0.1"), let))
	require.ErrorIs(t, Reachable(netip.MustParseAddr("::1"), let), ErrInside)
	require.ErrorIs(t, Reachable(netip.MustParseAddr("64:ff9b::7f00:1"), let), ErrInside)
}
