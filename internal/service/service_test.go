package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fernrelay/internal/process"
)

// TestMain is also the stand-in server: it listens at a port once a file says so, and ends with a word on it.
func TestMain(m *testing.M) {
	if len(os.Args) > 2 && os.Args[1] == "serve" {
		serve(os.Args[2])
		return
	}
	os.Exit(m.Run())
}

// serve answers at a port until it is killed, or until somebody says "die".
func serve(port string) {
	fmt.Println("the stand-in begins")
	if os.Getenv("STAND_IN") == "refuses" {
		fmt.Println("the cellar is flooded")
		os.Exit(7)
	}
	l, err := net.Listen("tcp", "127.0.0.1:"+port)
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	for {
		conn, err := l.Accept()
		if err != nil {
			os.Exit(1)
		}
		word := make([]byte, 3)
		_ = conn.SetReadDeadline(time.Now().Add(time.Second))
		n, _ := conn.Read(word)
		conn.Close()
		if string(word[:n]) == "die" {
			fmt.Println("somebody said die")
			os.Exit(3)
		}
	}
}

// standIn returns a spec of the stand-in server, and a place for it.
func standIn(t *testing.T) (Spec, Place) {
	t.Helper()
	dir := t.TempDir()
	slots, err := process.Setup{}.Open()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = slots.Close() })
	slot, err := slots.Slot(2)
	if err != nil {
		t.Fatal(err)
	}
	spec := Spec{Name: "beds", Start: "'" + os.Args[0] + "' serve {port}", Ready: "tcp:{port}", Every: 10 * time.Millisecond, Env: map[string]string{"BEDS": "127.0.0.1:{port}", "AT": "{data} {slot}"}}
	return spec, Place{Dir: dir, Data: filepath.Join(dir, "some data"), Slot: slot}
}

func start(t *testing.T, spec Spec, place Place) *Service {
	t.Helper()
	s, err := Start(t.Context(), spec, place)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	return s
}

// TestService starts a server on data that is created once, passes tests its place, and stops it.
func TestService(t *testing.T) {
	spec, place := standIn(t)
	spec.Create = `sh -c 'echo made >> "{data}/made"'`
	s := start(t, spec, place)
	env := s.Env()
	if len(env) != 2 || env[0] != "AT="+place.Data+" 2" || !strings.HasPrefix(env[1], "BEDS=127.0.0.1:") {
		t.Errorf("tests find %q", env)
	}
	address := strings.TrimPrefix(env[1], "BEDS=")
	s.Stop()
	if _, err := net.Dial("tcp", address); err == nil {
		t.Error("it still answers")
	}
	if s.Err() != nil {
		t.Errorf("a service that was stopped has the error %v", s.Err())
	}
	start(t, spec, place)
	if made, err := os.ReadFile(filepath.Join(place.Data, "made")); string(made) != "made\n" {
		t.Errorf("the data were made as %q, %v", made, err)
	}
}

// TestServiceDies reports a server that ends while tests run, with what it printed.
func TestServiceDies(t *testing.T) {
	spec, place := standIn(t)
	s := start(t, spec, place)
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.Env()[1], "BEDS="))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := conn.Write([]byte("die")); err != nil {
		t.Fatal(err)
	}
	<-s.Died()
	if err := s.Err(); err == nil || !strings.Contains(err.Error(), "it ended: exit status 3") || !strings.Contains(err.Error(), "somebody said die") {
		t.Errorf("it ended because of %v", err)
	}
}

// TestServiceFails holds what is said of a server that does not become ready.
func TestServiceFails(t *testing.T) {
	for name, c := range map[string]struct {
		change func(s *Spec)
		want   string
	}{
		"refuses":     {func(s *Spec) { s.Start = "env STAND_IN=refuses " + s.Start }, "the cellar is flooded"},
		"never ready": {func(s *Spec) { s.Ready, s.Within = "false", 100*time.Millisecond }, `it is not ready after 100ms: ready = "false"`},
		"no create":   {func(s *Spec) { s.Create = "sh -c 'echo no room; exit 1'" }, "no room"},
		"no command":  {func(s *Spec) { s.Start = "'" }, "is not a command line"},
	} {
		t.Run(name, func(t *testing.T) {
			spec, place := standIn(t)
			c.change(&spec)
			s, err := Start(t.Context(), spec, place)
			if err == nil {
				s.Stop()
				t.Fatal("it starts")
			}
			if !strings.Contains(err.Error(), c.want) {
				t.Errorf("the error is %v, want %q", err, c.want)
			}
		})
	}
	spec, place := standIn(t)
	spec.Start = "no-such-server --port {port}"
	if _, err := Start(t.Context(), spec, place); !errors.As(err, &MissingError{}) {
		t.Errorf("the error of a missing program is %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	spec, place = standIn(t)
	spec.Ready = "false"
	if _, err := Start(ctx, spec, place); err == nil {
		t.Error("it starts though it is canceled")
	}
}

// TestPortTaken starts a server again at another port if somebody took its port before it did.
func TestPortTaken(t *testing.T) {
	spec, place := standIn(t)
	spec.Start = "sh -c 'echo {port} >>ports; [ $(wc -l <ports) -gt 1 ] || { echo address in use; exit 1; }; exec " + os.Args[0] + " serve {port}'"
	s := start(t, spec, place)
	data, err := os.ReadFile(filepath.Join(place.Dir, "ports"))
	ports := strings.Fields(string(data))
	if err != nil || len(ports) != 2 || ports[0] == ports[1] || s.Env()[1] != "BEDS=127.0.0.1:"+ports[1] {
		t.Errorf("the ports are %q, %v; the tests find it at %q", ports, err, s.Env())
	}
}

// TestServiceIsKilled kills a server that does not stop, with all its processes.
func TestServiceIsKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("it waits ten seconds")
	}
	t.Parallel()
	spec, place := standIn(t)
	spec.Start = "sh -c 'trap \"\" TERM; " + os.Args[0] + " serve {port} & wait; wait'"
	s := start(t, spec, place)
	address := s.fill("127.0.0.1:{port}")
	s.Stop()
	for begun := time.Now(); ; { // the system closes the port some time after the signal
		conn, err := net.Dial("tcp", address)
		if err != nil {
			return
		}
		conn.Close()
		if time.Since(begun) > time.Minute {
			t.Fatal("its port is still open")
		}
		time.Sleep(10 * time.Millisecond)
	}
}

// TestRedis runs a real server.
func TestRedis(t *testing.T) {
	if _, err := exec.LookPath("redis-server"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("redis-server is missing")
		}
		t.Skip("redis-server is missing")
	}
	_, place := standIn(t)
	s := start(t, Spec{Name: "redis", Start: "redis-server --bind 127.0.0.1 --port {port} --dir {data} --save ''", Ready: "redis-cli -p {port} ping", Env: map[string]string{"STORE": "127.0.0.1:{port}"}}, place)
	conn, err := net.Dial("tcp", strings.TrimPrefix(s.Env()[0], "STORE="))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_, _ = conn.Write([]byte("PING\r\n"))
	answer := make([]byte, 16)
	if n, err := conn.Read(answer); err != nil || string(answer[:n]) != "+PONG\r\n" {
		t.Errorf("it answers %q, %v", answer, err)
	}
}

// TestServiceAs runs the commands of a service as another user, who owns its data and has a folder for temporary files; a folder on the
// way that this user cannot enter is an error that names it. Only root can do that: anybody else runs them as itself.
func TestServiceAs(t *testing.T) {
	_, place := standIn(t)
	spec := Spec{Name: "beds", As: "nobody", Create: `sh -c 'id -un > "{data}/who"; echo x > "{tmp}/x"; echo x > "$TMPDIR/y"'`, Start: "sleep 1000", Ready: `test -f "{data}/who"`, Every: 10 * time.Millisecond}
	if os.Geteuid() != 0 {
		start(t, spec, place)
		if who, err := os.ReadFile(filepath.Join(place.Data, "who")); string(who) == "nobody\n" || err != nil {
			t.Errorf("it runs as %q, %v", who, err)
		}
		return
	}
	if root, err := os.Stat("/"); err != nil || root.Mode()&0o001 == 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("the root folder is closed to other users: ", err)
		}
		t.Skip("the root folder is closed to other users")
	}
	if os.Lchown(t.TempDir(), 65534, 65534) != nil { // in a container that forbids it
		if err := os.Chmod(filepath.Dir(filepath.Dir(place.Data)), 0o711); err != nil {
			t.Fatal(err)
		}
		if _, err := Start(t.Context(), spec, place); err == nil || !strings.Contains(err.Error(), "root cannot give") {
			t.Errorf("without the right to give folders away: %v", err)
		}
		return
	}
	for closed := filepath.Dir(place.Data); closed != os.TempDir(); closed = filepath.Dir(closed) {
		if err := os.Chmod(closed, 0o700); err != nil {
			t.Fatal(err)
		}
		if _, err := Start(t.Context(), spec, place); err == nil || !strings.Contains(err.Error(), "who cannot enter "+closed) {
			t.Errorf("below a closed folder: %v", err)
		}
		if err := os.Chmod(closed, 0o711); err != nil {
			t.Fatal(err)
		}
	}
	s := start(t, spec, place)
	if who, err := os.ReadFile(filepath.Join(place.Data, "who")); string(who) != "nobody\n" || err != nil {
		t.Errorf("it runs as %q, %v", who, err)
	}
	s.Stop()
	spec.As = "no-such-user"
	if _, err := Start(t.Context(), spec, place); err == nil || !strings.Contains(err.Error(), `as = "no-such-user"`) {
		t.Errorf("of a user that there is not: %v", err)
	}
}
