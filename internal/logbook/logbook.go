// Package logbook writes down what the program did, in a text file for the day on which somebody asks what happened.
// Until it is opened, nothing is written. Passwords do not get into it.
package logbook

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gopkg.in/natefinch/lumberjack.v2"
)

// The file is put aside under another name when it has so many MiB, and so many of these are kept.
const (
	mostMiB  = 2
	mostKept = 3
)

var book atomic.Pointer[slog.Logger]

// Open begins to write to a file, in a folder that is made where it is not there. An error is that this cannot be done.
func Open(file string) (io.Closer, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("the log: %w", err)
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("the log: %w", err)
	}
	if err := f.Close(); err != nil {
		return nil, fmt.Errorf("the log: %w", err)
	}
	to := &lumberjack.Logger{Filename: file, MaxSize: mostMiB, MaxBackups: mostKept, LocalTime: true}
	q := &queue{lines: make(chan []byte, mostWaiting), over: make(chan struct{})}
	go q.write(to)
	book.Store(slog.New(slog.NewTextHandler(q, &slog.HandlerOptions{ReplaceAttr: without})).With("pid", os.Getpid()))
	return q, nil
}

// mostWaiting is how many lines may wait for the disk: what comes while there are more is not written down.
const mostWaiting = 4096

// queue has lines written behind the back of those who write them down, as none of them may wait for a disk.
type queue struct {
	mu     sync.Mutex
	closed bool
	lines  chan []byte
	over   chan struct{}
}

func (q *queue) Write(line []byte) (int, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if !q.closed {
		select {
		case q.lines <- slices.Clone(line):
		default:
		}
	}
	return len(line), nil
}

func (q *queue) write(to io.WriteCloser) {
	defer close(q.over)
	for line := range q.lines {
		_, _ = to.Write(line) // a log that cannot be written stops nothing
	}
	_ = to.Close()
}

// Close ends the log. It waits for what is written, and not for ever.
func (q *queue) Close() error {
	book.Store(nil)
	q.mu.Lock()
	q.closed = true
	close(q.lines)
	q.mu.Unlock()
	select {
	case <-q.over:
		return nil
	case <-time.After(5 * time.Second):
		return errors.New("the log: the disk does not take it")
	}
}

// login is a user name, with or without a password, in the address of a server.
var login = regexp.MustCompile(`(\w+://)[^/\s@]*@`)

// without takes out what is nobody's business.
func without(_ []string, a slog.Attr) slog.Attr {
	switch v := a.Value.Any().(type) {
	case string:
		a.Value = slog.StringValue(login.ReplaceAllString(v, "$1"))
	case error:
		a.Value = slog.StringValue(login.ReplaceAllString(v.Error(), "$1"))
	case []string:
		kept := make([]string, len(v))
		for i, s := range v {
			kept[i] = login.ReplaceAllString(s, "$1")
		}
		a.Value = slog.StringValue(fmt.Sprintf("%q", kept))
	}
	return a
}

// Note writes down that something happened, with what belongs to it: names and values in turn, as [slog.Info] takes
// them.
func Note(what string, about ...any) { write(slog.LevelInfo, what, about) }

// Trouble writes down that something went wrong.
func Trouble(what string, about ...any) { write(slog.LevelError, what, about) }

func write(level slog.Level, what string, about []any) {
	if l := book.Load(); l != nil {
		l.Log(context.Background(), level, login.ReplaceAllString(what, "$1"), about...)
	}
}
