package station

import (
	"bytes"
	"context"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/nats-io/nats.go"
)

// log is a log that several goroutines write and a test reads.
type log struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *log) Write(data []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(data)
}

func (l *log) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// serve runs a station, and returns how it started and a function that ends it and returns its error.
func serve(t *testing.T, c Config) (Started, func() error) {
	t.Helper()
	if c.Log == nil {
		c.Log = slog.New(slog.DiscardHandler)
	}
	ctx, cancel := context.WithCancel(t.Context())
	begun, ended := make(chan Started, 1), make(chan error, 1)
	go func() { ended <- Serve(ctx, c, func(s Started) { begun <- s }) }()
	stop := sync.OnceValue(func() error {
		cancel()
		return <-ended
	})
	t.Cleanup(func() { _ = stop() }) // a test that wants the error has asked
	select {
	case s := <-begun:
		return s, stop
	case err := <-ended:
		t.Fatalf("the station did not start: %v", err)
		return Started{}, nil
	}
}

func token(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "token")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestServeKeepsWhatItHolds stores a message, ends the station, and finds the message in the next station on the same folder. While
// one station uses the folder, no other starts there.
func TestServeKeepsWhatItHolds(t *testing.T) {
	c := Config{Listen: "127.0.0.1:0", Store: filepath.Join(t.TempDir(), "made", "store")}
	s, stop := serve(t, c)
	if s.Token || !strings.HasPrefix(s.URL, "nats://127.0.0.1:") {
		t.Fatalf("it started as %+v", s)
	}
	if err := Serve(t.Context(), c, func(Started) { t.Error("a second station starts") }); err == nil || !strings.Contains(err.Error(), "another station uses the folder") {
		t.Errorf("a second station on one folder: %v", err)
	}
	conn, err := nats.Connect(s.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	js, err := conn.JetStream()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := js.AddStream(&nats.StreamConfig{Name: "KEPT", Subjects: []string{"kept"}}); err != nil {
		t.Fatal(err)
	}
	if _, err := js.Publish("kept", []byte("water")); err != nil {
		t.Fatal(err)
	}
	if err := stop(); err != nil {
		t.Errorf("a station that is ended returns %v", err)
	}
	again, _ := serve(t, c)
	next, err := nats.Connect(again.URL)
	if err != nil {
		t.Fatal(err)
	}
	defer next.Close()
	if js, err = next.JetStream(); err != nil {
		t.Fatal(err)
	}
	if m, err := js.GetLastMsg("KEPT", "kept"); err != nil || string(m.Data) != "water" {
		t.Errorf("after a restart the station has %+v, %v", m, err)
	}
}

// TestServeAsksForItsToken refuses machines without the token, and says so in the log.
func TestServeAsksForItsToken(t *testing.T) {
	var lines log
	s, _ := serve(t, Config{Listen: "127.0.0.1:0", Store: t.TempDir(), TokenFile: token(t, " glasshouse-8\n"), Log: slog.New(slog.NewTextHandler(&lines, nil))})
	if !s.Token {
		t.Errorf("it started as %+v", s)
	}
	for _, wrong := range []nats.Option{nats.Token("glasshouse-9"), nats.Name("without")} {
		if conn, err := nats.Connect(s.URL, wrong); err == nil {
			conn.Close()
			t.Error("a machine with a wrong token, or none, connects")
		}
	}
	conn, err := nats.Connect(s.URL, nats.Token("glasshouse-8"))
	if err != nil {
		t.Fatal(err)
	}
	conn.Close()
	if strings.Contains(lines.String(), "glasshouse-8") {
		t.Errorf("the log has the token:\n%s", lines.String())
	}
}

// TestConfigIsChecked refuses what cannot work, or would be open to everybody, before anything is made.
func TestConfigIsChecked(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	file := token(t, "long-enough")
	for name, c := range map[string]struct {
		config Config
		words  string
	}{
		"no port":         {Config{Listen: "127.0.0.1"}, "HOST:PORT is expected"},
		"a port too high": {Config{Listen: "127.0.0.1:65536"}, "HOST:PORT is expected"},
		"open":            {Config{Listen: "0.0.0.0:0"}, "open to everybody"},
		"open by default": {Config{Listen: ":0"}, "open to everybody"},
		"no token there":  {Config{Listen: "127.0.0.1:0", TokenFile: file + "-none"}, "no such file"},
		"a short token":   {Config{Listen: "127.0.0.1:0", TokenFile: token(t, "short")}, "at least 8 characters"},
		"two words":       {Config{Listen: "127.0.0.1:0", TokenFile: token(t, "two words")}, "holds no token"},
		"half of TLS":     {Config{Listen: "127.0.0.1:0", Cert: file}, "give both"},
		"no certificate":  {Config{Listen: "127.0.0.1:0", Cert: file, Key: file}, "--tls-cert"},
		"a port in use":   {Config{Listen: taken.Addr().String()}, "address already in use"},
	} {
		store := filepath.Join(t.TempDir(), "store")
		c.config.Store, c.config.Log = store, slog.New(slog.DiscardHandler)
		err := Serve(t.Context(), c.config, func(Started) { t.Errorf("%s: it starts", name) })
		if err == nil || !strings.Contains(err.Error(), c.words) {
			t.Errorf("%s: %v, want %q", name, err, c.words)
		}
		if _, err := os.Stat(store); err == nil && name != "a port in use" {
			t.Errorf("%s: the folder is made", name)
		}
	}
}
