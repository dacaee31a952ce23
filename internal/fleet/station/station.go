// Package station runs the NATS server at which machines of a fleet meet, inside this process:
//
//	err := station.Serve(ctx, station.Config{Listen: "127.0.0.1:4222", Store: dir}, func(s station.Started) {
//		fmt.Println(s.URL)
//	})
//
// Any other NATS server with JetStream does as well.
package station

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/nats-io/nats-server/v2/server"

	"fernrelay/internal/disk"
)

// Config says where a station listens and what it holds.
type Config struct {
	Listen    string // HOST:PORT; the port 0 takes a free one
	Store     string // a folder; it is made if there is none
	Size      int64  // of what it holds at most, in bytes; 0 for three quarters of what is free
	TokenFile string // with the token that machines must have; empty for none
	Cert, Key string // files of the TLS certificate and its key; empty for no TLS
	ClientCA  string // a file with the authorities of client certificates, which machines then must have
	Log       *slog.Logger
}

// Started describes a station that listens.
type Started struct {
	URL   string // with which machines connect
	Token bool   // they need it
}

// healthEvery is how often the log says how a station is, and lookEvery how often it is looked after.
const (
	healthEvery = time.Minute
	lookEvery   = time.Second
)

// Serve runs a station until ctx ends. It calls started once it listens.
func Serve(ctx context.Context, c Config, started func(Started)) error {
	options, err := c.options()
	if err != nil {
		return err
	}
	release, err := lock(c.Store)
	if err != nil {
		return err
	}
	defer release()
	announced := false
	for {
		logger := &toSlog{log: c.Log}
		s, err := start(options, logger)
		if err != nil {
			return err
		}
		if !announced {
			announced = true
			options.Port = s.Addr().(*net.TCPAddr).Port // the same after a restart
			started(Started{c.url(options), options.Authorization != ""})
		}
		full := watch(ctx, s, logger)
		c.Log.Info("the station stops", "connections", s.NumClients())
		s.Shutdown()
		s.WaitForShutdown()
		if !full {
			return nil
		}
		c.Log.Error("the disk is full: the station holds what it has, and starts again once there is room", "store", c.Store)
		if !awaitRoom(ctx, c.Store) {
			return nil
		}
	}
}

// options checks a configuration and returns the server's.
func (c Config) options() (*server.Options, error) {
	host, portText, err := net.SplitHostPort(c.Listen)
	port, portErr := strconv.Atoi(portText)
	if err != nil || portErr != nil || port < 0 || port > 65535 {
		return nil, fmt.Errorf("--listen is %q: HOST:PORT is expected, as in 127.0.0.1:4222", c.Listen)
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	o := &server.Options{ServerName: "fern-relay-station", Host: host, Port: port, JetStream: true, StoreDir: c.Store, JetStreamMaxStore: c.Size,
		NoSigs: true, MaxPayload: 4 << 20, MaxPending: 64 << 20, WriteDeadline: 10 * time.Second}
	if c.TokenFile != "" {
		if o.Authorization, err = readToken(c.TokenFile); err != nil {
			return nil, err
		}
	}
	if (c.Cert == "") != (c.Key == "") {
		return nil, errors.New("--tls-cert and --tls-key go together: give both")
	}
	if c.Cert != "" {
		if o.TLSConfig, err = c.tls(); err != nil {
			return nil, err
		}
		o.TLS, o.TLSTimeout = true, 5
	}
	if !loopback(host) && o.Authorization == "" && o.TLSConfig == nil {
		return nil, fmt.Errorf("a station that listens on %s is open to everybody who reaches this machine: give --token-file F, or --tls-cert F and --tls-key F, or listen on 127.0.0.1", c.Listen)
	}
	if err := os.MkdirAll(c.Store, 0o700); err != nil {
		return nil, fmt.Errorf("the station's folder cannot be made: %w", err)
	}
	return o, nil
}

// lock keeps other stations out of a folder, as two would damage what is in it. The lock ends with the process.
func lock(dir string) (release func(), err error) {
	file, err := os.OpenFile(filepath.Join(dir, "station.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the station's folder cannot be used: %w", err)
	}
	if err := syscall.Flock(int(file.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return nil, errors.Join(fmt.Errorf("another station uses the folder %s: end it, or give another --store", dir), file.Close())
	}
	return func() { file.Close() }, nil
}

// tokenLeast is the least length of a token.
const tokenLeast = 8

func readToken(file string) (string, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return "", fmt.Errorf("--token-file: %w", err)
	}
	token := strings.TrimSpace(string(text))
	if len(token) < tokenLeast || strings.ContainsAny(token, " \t\r\n") {
		return "", fmt.Errorf("--token-file: %s holds no token: one word of at least %d characters is expected", file, tokenLeast)
	}
	return token, nil
}

func (c Config) tls() (*tls.Config, error) {
	pair, err := tls.LoadX509KeyPair(c.Cert, c.Key)
	if err != nil {
		return nil, fmt.Errorf("--tls-cert: %w", err)
	}
	config := &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
	if c.ClientCA == "" {
		return config, nil
	}
	text, err := os.ReadFile(c.ClientCA)
	if err != nil {
		return nil, fmt.Errorf("--tls-client-ca: %w", err)
	}
	config.ClientCAs, config.ClientAuth = x509.NewCertPool(), tls.RequireAndVerifyClientCert
	if !config.ClientCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("--tls-client-ca: %s holds no certificate in PEM", c.ClientCA)
	}
	return config, nil
}

// loopback reports whether only this machine reaches a host.
func loopback(host string) bool {
	if host == "localhost" {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// url returns how machines connect.
func (c Config) url(o *server.Options) string {
	host := o.Host
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		if name, err := os.Hostname(); err == nil {
			host = name
		}
	}
	scheme := "nats"
	if o.TLSConfig != nil {
		scheme = "tls"
	}
	return scheme + "://" + net.JoinHostPort(host, strconv.Itoa(o.Port))
}

// startTime is how long a server may take until it listens, and listenTime how long is waited for that at a time.
const (
	startTime  = 30 * time.Second
	listenTime = 200 * time.Millisecond
)

func start(o *server.Options, logger *toSlog) (*server.Server, error) {
	options := *o // the server changes its own
	s, err := server.NewServer(&options)
	if err != nil {
		return nil, fmt.Errorf("the station cannot start: %w", err)
	}
	s.SetLoggerV2(logger, false, false, false)
	go s.Start()
	for began := time.Now(); !s.ReadyForConnections(listenTime); {
		why := logger.fatal()
		if why == "" && time.Since(began) > startTime {
			why = "it does not listen after " + startTime.String()
		}
		if why != "" {
			s.Shutdown()
			return nil, fmt.Errorf("the station cannot start: %s", why)
		}
	}
	return s, nil
}

// watch looks after a server until ctx ends, or its disk is full, which it reports: then the server refuses to store anything
// until it is started again.
func watch(ctx context.Context, s *server.Server, logger *toSlog) (full bool) {
	look, health := time.NewTicker(lookEvery), time.NewTicker(healthEvery)
	defer look.Stop()
	defer health.Stop()
	for {
		select {
		case <-ctx.Done():
			return false
		case <-look.C:
			if logger.full.Load() || !s.JetStreamEnabled() {
				return true
			}
		case <-health.C:
			if usage, err := s.Jsz(nil); err == nil {
				logger.log.Info("healthy", "machines", s.NumClients(), "messages", usage.Messages, "stored_mb", usage.Store>>20, "limit_mb", usage.Config.MaxStore>>20)
			}
		}
	}
}

// roomToStart is the room on the disk, in bytes, with which a station starts again.
const roomToStart = 64 << 20

// awaitRoom waits until the disk has room again. It reports false if ctx ends before.
func awaitRoom(ctx context.Context, dir string) bool {
	for {
		if free, err := disk.Free(dir); err == nil && free >= roomToStart {
			return true
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(lookEvery):
		}
	}
}
