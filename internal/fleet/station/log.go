package station

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
)

// toSlog writes what the server logs. It drops what only the server's developers need.
type toSlog struct {
	log *slog.Logger
	mu  sync.Mutex
	bad string // the latest error
}

func (l *toSlog) latest(otherwise string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.bad == "" {
		return otherwise
	}
	return l.bad
}

func (l *toSlog) say(level slog.Level, format string, v ...any) {
	text := fmt.Sprintf(format, v...)
	if level >= slog.LevelError {
		l.mu.Lock()
		l.bad = text
		l.mu.Unlock()
	}
	l.log.Log(context.Background(), level, text)
}

func (l *toSlog) Noticef(string, ...any)         {}
func (l *toSlog) Debugf(string, ...any)          {}
func (l *toSlog) Tracef(string, ...any)          {}
func (l *toSlog) Warnf(format string, v ...any)  { l.say(slog.LevelWarn, format, v...) }
func (l *toSlog) Errorf(format string, v ...any) { l.say(slog.LevelError, format, v...) }
func (l *toSlog) Fatalf(format string, v ...any) { l.say(slog.LevelError, format, v...) }
