package station

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
)

// toSlog writes what the server logs. It drops what only the server's developers need.
type toSlog struct {
	log  *slog.Logger
	full atomic.Bool // the server could not write for want of room
	mu   sync.Mutex
	bad  string // why the server gave up, if it did
}

// fatal returns why the server gave up, "" if it did not.
func (l *toSlog) fatal() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.bad
}

func (l *toSlog) say(level slog.Level, format string, v ...any) {
	text := fmt.Sprintf(format, v...)
	if strings.Contains(text, syscall.ENOSPC.Error()) {
		l.full.Store(true)
	}
	l.log.Log(context.Background(), level, text)
}

func (l *toSlog) Noticef(string, ...any)         {}
func (l *toSlog) Debugf(string, ...any)          {}
func (l *toSlog) Tracef(string, ...any)          {}
func (l *toSlog) Warnf(format string, v ...any)  { l.say(slog.LevelWarn, format, v...) }
func (l *toSlog) Errorf(format string, v ...any) { l.say(slog.LevelError, format, v...) }

// Fatalf is what the server calls instead of ending the process.
func (l *toSlog) Fatalf(format string, v ...any) {
	l.mu.Lock()
	l.bad = fmt.Sprintf(format, v...)
	l.mu.Unlock()
	l.say(slog.LevelError, format, v...)
}
