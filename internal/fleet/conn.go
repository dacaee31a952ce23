// Package fleet lets many machines share one run. They meet at a station, which is a NATS server with JetStream:
//
//	conn, err := fleet.Dial(ctx, fleet.Options{URL: "nats://build-7:4222"})
//	defer conn.Close()
//	m, err := conn.Join(ctx, "build-418", fleet.Machine{Name: "moss", Workers: 2}, work)
//	err = engine.Run(ctx, engine.Job{Source: m, Lease: m.Lease(), …}, m.Record(sink))
//	ended, err := m.Leave(ctx)
//
// The station holds, for each run, a manifest in a key-value bucket, the batches in a work-queue stream, the events in
// a second stream, and the schedule and the merged run in an object store. JetStream provides all queues, leases and
// replication; this package keeps no such state of its own, so any machine may die at any time. [Conn.Follow] reads the
// events of a run from anywhere, and [Conn.Collect] returns it once it has ended.
//
// Nothing that arrives is trusted: a machine looks up the tests of a schedule in its own checkout, and a reader drops
// events of tests that are not in the batch of the machine that reports them.
package fleet

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// Options say where the station is and how to prove who we are. Empty fields are not used.
type Options struct {
	URL         string // nats:// or tls://, several separated by commas
	Token       string
	Credentials string // a file of NATS credentials
	CA          string // a file with the certificates of the authorities to trust
	Cert, Key   string // files of a client certificate and its key

	Report func(what string) // called when the station is lost or found again, from any goroutine; may be nil
}

// The names of what a station holds.
const (
	batchStream  = "FERN_BATCHES"
	eventStream  = "FERN_EVENTS"
	runBucket    = "fern-runs"
	fileBucket   = "fern-files"
	batchSubject = "fern.batch."
	eventSubject = "fern.event."
)

// What a station holds is removed after this time, also of runs that never ended.
const (
	keepEvents = 3 * 24 * time.Hour
	keepFiles  = 30 * 24 * time.Hour
)

// Conn is a connection to a station.
type Conn struct {
	nc      *nats.Conn
	js      jetstream.JetStream
	batches jetstream.Stream
	events  jetstream.Stream
	runs    jetstream.KeyValue
	files   jetstream.ObjectStore
	report  func(what string)

	identity identity
}

// dialTime is how long Dial waits for a station to answer, so that machines may start a moment before it.
const dialTime = 10 * time.Second

// Dial connects to a station and makes sure that it holds what runs need.
func Dial(ctx context.Context, o Options) (*Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	c := &Conn{report: o.Report}
	if c.report == nil {
		c.report = func(string) {}
	}
	place := Redact(o.URL)
	if place == "" {
		return nil, errors.New("no station is named: give --fleet URL, or set FERN_FLEET, as in nats://build-7:4222")
	}
	for {
		var err error
		if c.nc, err = nats.Connect(o.URL, o.nats(c)...); err == nil {
			break
		}
		if refused(err) || ctx.Err() != nil {
			return nil, fmt.Errorf("the station %s cannot be reached: %s: check the address, and that fern-relay station runs there", place, o.safe(err))
		}
		sleep(ctx, 200*time.Millisecond)
	}
	for {
		err := c.furnish(ctx)
		if err == nil {
			return c, nil
		}
		if !passes(err) || ctx.Err() != nil {
			c.nc.Close()
			why := o.safe(err)
			if errors.Is(err, nats.ErrNoResponders) || errors.Is(err, jetstream.ErrJetStreamNotEnabled) {
				why = "its server has no JetStream: enable it there, or run fern-relay station"
			}
			return nil, fmt.Errorf("the station %s cannot be used: %s", place, why)
		}
		sleep(ctx, 200*time.Millisecond)
	}
}

// sleep waits for some time, or until ctx ends.
func sleep(ctx context.Context, some time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(some):
	}
}

// passes reports whether an error of a station may pass: it starts, or its servers choose who leads.
func passes(err error) bool {
	const unavailable = 503
	var refused *jetstream.APIError
	return errors.Is(err, nats.ErrNoResponders) || errors.Is(err, context.DeadlineExceeded) || errors.As(err, &refused) && refused.Code == unavailable
}

// refused reports whether trying again is of no use.
func refused(err error) bool {
	return errors.Is(err, nats.ErrAuthorization) || errors.Is(err, nats.ErrAuthExpired) || errors.Is(err, nats.ErrNkeysNotSupported) ||
		errors.Is(err, nats.ErrSecureConnRequired) || strings.Contains(err.Error(), "tls:") || strings.Contains(err.Error(), "x509:") ||
		strings.Contains(err.Error(), "credential") || strings.Contains(err.Error(), "no such file")
}

// nats returns the client options.
func (o Options) nats(c *Conn) []nats.Option {
	options := []nats.Option{
		nats.Name("fern-relay"),
		nats.MaxReconnects(-1),
		nats.ReconnectWait(250 * time.Millisecond),
		nats.PingInterval(5 * time.Second),
		nats.MaxPingsOutstanding(2),
		nats.Timeout(3 * time.Second),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				c.report("the station does not answer: " + o.safe(err) + "; running tests go on, and nothing is lost")
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) { c.report("the station answers again") }),
		nats.ErrorHandler(func(*nats.Conn, *nats.Subscription, error) {}), // what fails is reported by its caller
	}
	if o.Token != "" {
		options = append(options, nats.Token(o.Token))
	}
	if o.Credentials != "" {
		options = append(options, nats.UserCredentials(o.Credentials))
	}
	if o.CA != "" {
		options = append(options, nats.RootCAs(o.CA))
	}
	if o.Cert != "" {
		options = append(options, nats.ClientCert(o.Cert, o.Key))
	}
	return options
}

// safe returns an error's text without secrets.
func (o Options) safe(err error) string {
	text := err.Error()
	for _, server := range strings.Split(o.URL, ",") {
		if u, parseErr := url.Parse(server); parseErr == nil && u.User != nil {
			text = strings.ReplaceAll(text, u.User.String(), "…")
		}
	}
	if o.Token != "" {
		text = strings.ReplaceAll(text, o.Token, "…")
	}
	return text
}

// Redact returns the URLs of a station without user, password and token.
func Redact(urls string) string {
	servers := strings.Split(urls, ",")
	for i, server := range servers {
		scheme, rest, found := strings.Cut(strings.TrimSpace(server), "://")
		if !found {
			scheme, rest = "", scheme
		}
		if at := strings.LastIndexByte(rest, '@'); at >= 0 {
			rest = rest[at+1:]
		}
		if found {
			rest = scheme + "://" + rest
		}
		servers[i] = rest
	}
	return strings.Join(servers, ",")
}

// Close closes the connection.
func (c *Conn) Close() { c.nc.Close() }

// replicas returns how many servers of the station keep each thing.
func (c *Conn) replicas() int {
	if c.nc.ConnectedClusterName() == "" {
		return 1
	}
	return 3
}

// furnish makes the streams and buckets that the station does not have yet.
func (c *Conn) furnish(ctx context.Context) (err error) {
	if c.js, err = jetstream.New(c.nc, jetstream.WithDefaultTimeout(5*time.Second)); err != nil {
		return err
	}
	replicas := c.replicas()
	c.batches, err = c.stream(ctx, jetstream.StreamConfig{Name: batchStream, Subjects: []string{batchSubject + ">"}, Retention: jetstream.WorkQueuePolicy,
		Description: "Fern Relay: batches that no machine has finished", MaxAge: keepEvents, Storage: jetstream.FileStorage, Replicas: replicas, Duplicates: 2 * time.Minute})
	if err != nil {
		return err
	}
	c.events, err = c.stream(ctx, jetstream.StreamConfig{Name: eventStream, Subjects: []string{eventSubject + ">"}, Compression: jetstream.S2Compression,
		Description: "Fern Relay: events of runs", MaxAge: keepEvents, Storage: jetstream.FileStorage, Replicas: replicas, Duplicates: 2 * time.Minute})
	if err != nil {
		return err
	}
	if c.runs, err = c.js.KeyValue(ctx, runBucket); errors.Is(err, jetstream.ErrBucketNotFound) {
		c.runs, err = c.js.CreateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: runBucket, Description: "Fern Relay: runs, machines and leases", TTL: keepFiles, LimitMarkerTTL: time.Minute, Replicas: replicas})
		if err != nil {
			c.runs, err = c.js.KeyValue(ctx, runBucket) // another machine was faster
		}
	}
	if err != nil {
		return err
	}
	if c.files, err = c.js.ObjectStore(ctx, fileBucket); errors.Is(err, jetstream.ErrBucketNotFound) {
		c.files, err = c.js.CreateObjectStore(ctx, jetstream.ObjectStoreConfig{Bucket: fileBucket, Description: "Fern Relay: schedules and merged runs", TTL: keepFiles, Replicas: replicas})
		if err != nil {
			c.files, err = c.js.ObjectStore(ctx, fileBucket)
		}
	}
	if err != nil {
		return err
	}
	if err := c.answers(ctx); err != nil {
		return err
	}
	c.identity, err = c.identify(ctx)
	return err
}

// answers reports whether everything that the station holds answers. In a cluster each part first chooses a server that
// leads.
func (c *Conn) answers(ctx context.Context) error {
	_, batches := c.batches.Info(ctx)
	_, events := c.events.Info(ctx)
	_, runs := c.runs.Status(ctx)
	_, files := c.files.Status(ctx)
	return errors.Join(batches, events, runs, files)
}

// stream returns a stream, and makes it if there is none.
func (c *Conn) stream(ctx context.Context, config jetstream.StreamConfig) (jetstream.Stream, error) {
	s, err := c.js.Stream(ctx, config.Name)
	if !errors.Is(err, jetstream.ErrStreamNotFound) {
		return s, err
	}
	s, err = c.js.CreateStream(ctx, config)
	if errors.Is(err, jetstream.ErrStreamNameAlreadyInUse) {
		return c.js.Stream(ctx, config.Name)
	}
	return s, err
}

// now returns the station's time, by which machines with wrong clocks agree.
func (c *Conn) now(ctx context.Context) (time.Time, error) {
	info, err := c.batches.Info(ctx)
	if err != nil {
		return time.Time{}, err
	}
	return info.TimeStamp, nil
}

// late returns how much the station's clock is ahead of this computer's.
func (c *Conn) late(ctx context.Context) (time.Duration, error) {
	asked := time.Now()
	now, err := c.now(ctx)
	if err != nil {
		return 0, err
	}
	return now.Sub(asked.Add(time.Since(asked) / 2)), nil
}

// token returns a name as a part of a subject or key. Names that have other characters than these allow get a part of their
// hash, so that different names have different tokens.
func token(name string) string {
	const most = 48
	plain := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' {
			return r
		}
		return '_'
	}, name)
	if plain == name && len(name) <= most && name != "" {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	return plain[:min(len(plain), most)] + "-" + hex.EncodeToString(sum[:6])
}
