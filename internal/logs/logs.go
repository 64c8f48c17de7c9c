// Package logs writes down what is asked of files, databases, the web and SSH, with how long it took and
// what came of it: for whoever is to find out what went wrong. A job's log goes with its context.
//
// A log holds no secret: values of type secret.Text print as a placeholder, and what servers repeat is taken
// out by whoever opens the log. What is asked is named, and never quoted: no statement, no form, no content.
package logs

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

type key struct{}

var nowhere = slog.New(slog.DiscardHandler)

// With gives a context whose work is written to a log too, beside the one that it has.
func With(ctx context.Context, l *slog.Logger) context.Context {
	if of, is := ctx.Value(key{}).(*slog.Logger); is {
		l = slog.New(slog.NewMultiHandler(of.Handler(), l.Handler()))
	}
	return context.WithValue(ctx, key{}, l)
}

// Hiding gives a context from whose log, where it has one, secrets are taken out as well.
func Hiding(ctx context.Context, hide func(string) string) context.Context {
	of, is := ctx.Value(key{}).(*slog.Logger)
	if !is {
		return ctx
	}
	return context.WithValue(ctx, key{}, slog.New(&hiding{of.Handler(), hide}))
}

// hiding takes secrets out of what it hands on.
type hiding struct {
	slog.Handler
	hide func(string) string
}

func (h *hiding) Handle(ctx context.Context, r slog.Record) error {
	out := slog.NewRecord(r.Time, r.Level, h.hide(r.Message), r.PC)
	r.Attrs(func(a slog.Attr) bool {
		if a.Value.Kind() == slog.KindString {
			a.Value = slog.StringValue(h.hide(a.Value.String()))
		}
		out.AddAttrs(a)
		return true
	})
	return h.Handler.Handle(ctx, out)
}

// From gives the log of a context; one that keeps nothing where there is none.
func From(ctx context.Context) *slog.Logger {
	if l, is := ctx.Value(key{}).(*slog.Logger); is {
		return l
	}
	return nowhere
}

// Asked notes that something was asked for, once it has ended: of whom, what, about which names, for how
// long, and the error if it failed. It is used as
//
//	defer logs.Asked(ctx, "files", "move", from, to)(&err)
func Asked(ctx context.Context, of, what string, names ...string) func(*error) {
	l := From(ctx)
	if l == nowhere {
		return func(*error) {}
	}
	begun := time.Now()
	return func(err *error) {
		attrs := []slog.Attr{slog.String("took", time.Since(begun).Round(time.Microsecond).String())}
		if len(names) > 0 {
			attrs = append(attrs, slog.String("names", strings.Join(names, " → ")))
		}
		level := slog.LevelInfo
		if err != nil && *err != nil {
			level = slog.LevelWarn
			if errors.Is(*err, fs.ErrNotExist) || errors.Is(*err, fs.ErrExist) { // often an answer like any other
				level = slog.LevelInfo
			}
			attrs = append(attrs, slog.String("error", (*err).Error()))
		}
		l.LogAttrs(ctx, level, of+": "+what, attrs...)
	}
}

// Longest is how much a log holds, in bytes: a job that goes on for days is not to fill the disk.
const Longest = 16 << 20

// Open opens a log in a file, to which it adds, in a folder that is there: readable for this user alone, one line an
// entry
// (time, level, what, and key=value; log/slog, TextHandler). Hide takes secrets out of every text; it may be nil.
func Open(file string, hide func(string) string) (*slog.Logger, io.Closer, error) {
	out, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, nil, err
	}
	info, err := out.Stat()
	if err != nil {
		return nil, nil, errors.Join(err, out.Close())
	}
	to := &bounded{out: out, left: Longest - info.Size()}
	return slog.New(slog.NewTextHandler(to, &slog.HandlerOptions{ReplaceAttr: func(_ []string, a slog.Attr) slog.Attr {
		switch {
		case a.Key == slog.TimeKey:
			a.Value = slog.StringValue(a.Value.Time().UTC().Format("2006-01-02T15:04:05.000Z"))
		case hide != nil && a.Value.Kind() == slog.KindString:
			a.Value = slog.StringValue(hide(a.Value.String()))
		}
		return a
	}})), out, nil
}

// bounded writes so many bytes, and then says once that it writes no more. What cannot be written is
// not: no job fails for its log.
type bounded struct {
	mu   sync.Mutex
	out  io.Writer
	left int64
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.left <= 0:
	case int64(len(p)) > b.left:
		_, _ = io.WriteString(b.out, "the log ends here: it has become too long\n")
		b.left = 0
	default:
		n, _ := b.out.Write(p)
		b.left -= int64(n)
	}
	return len(p), nil
}

// Prune takes the logs of a folder away that nobody has written to for so long.
func Prune(folder string, before time.Time) {
	all, _ := filepath.Glob(filepath.Join(folder, "*.log"))
	for _, file := range all {
		if info, err := os.Stat(file); err == nil && info.ModTime().Before(before) {
			_ = os.Remove(file) // or the next time
		}
	}
}
