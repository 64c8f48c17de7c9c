package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/accounts"
	"tivset/internal/core"
	"tivset/internal/screen"
	"tivset/internal/sites"
)

// Timer is the call with which this program makes its rounds.
func (a *App) Timer(every string) (accounts.Timer, error) {
	t := accounts.Timer{Every: every, Home: a.World.Env("TIVSET_HOME")}
	var err error
	if t.Program, err = os.Executable(); err == nil && t.Home != "" {
		t.Home, err = filepath.Abs(t.Home)
		return t, err
	}
	for _, name := range []string{"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME"} {
		if value := a.World.Env(name); value != "" {
			t.Env = append(t.Env, name+"="+value)
		}
	}
	return t, err
}

// Upkeep says why nothing looks after sites as their care says, and what would change it; "" where something
// does, or where that cannot be told.
func (a *App) Upkeep(ctx context.Context, s *core.Core) (why, call string) {
	t, err := a.Timer("1h")
	if err != nil {
		return "", ""
	}
	line, _, lineErr := s.Accounts.RoundsLine(ctx, t)
	u, err := sites.UpkeepOf(ctx, s.Book, line != "", a.World.Now())
	if err != nil || lineErr != nil && u.Last.IsZero() && s.Book.Home.Shared != nil {
		return "", "" // a team's other machines may do it
	}
	return u.Wanting()
}

// SayIdle has what is shown of the care of sites say why nothing does it, where nothing does.
func (a *App) SayIdle(ctx context.Context, s *core.Core) {
	if a.JSON {
		return
	}
	if why, call := a.Upkeep(ctx, s); why != "" {
		call = screen.Spelled(call)
		how := map[bool]string{true: "to switch it on: ", false: "to run it: "}[strings.HasSuffix(call, " on")]
		a.Streams.Idle = why + "; " + how + call
	}
}
