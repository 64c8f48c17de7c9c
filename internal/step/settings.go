package step

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
)

// PHPSettings has an app that lies in a folder bring the settings of PHP that its
// kit asks for, beside those that are there.
func (t *Tools) PHPSettings(ctx context.Context, folder string) error {
	if len(t.Site.Kit.PHPSettings) == 0 {
		return nil
	}
	name := path.Join(folder, kit.UserINI)
	text, err := files.Read(ctx, t.In.Files, name, mostOfConfig)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if with := t.Site.Kit.WithSettings(string(text)); with != string(text) {
		return replace(ctx, t.In.Files, name, []byte(with), 0o644)
	}
	return nil
}

// AwaitSettings waits until PHP has taken up the settings that an app brings: it
// looks for them only every few minutes, each of its processes by itself (PHP
// manual, user_ini.cache_ttl). In a folder in which nothing was before it does so
// at once.
type AwaitSettings struct {
	*Tools `json:"-"`
	File   string `json:"file"` // the page that is asked, from the account's top
}

// Awaited makes the step; nil for an app that brings no settings.
func Awaited(t *Tools) (*AwaitSettings, error) {
	if len(t.Site.Kit.PHPSettings) == 0 {
		return nil, nil
	}
	token, err := t.Maker.Token(32)
	return &AwaitSettings{Tools: t, File: path.Join(t.Site.Place.Folder, emptierName+token+".php")}, err
}

// Kind and Title implement job.Step.
func (*AwaitSettings) Kind() string  { return "await-settings" }
func (*AwaitSettings) Title() string { return "Wait until PHP has taken up the settings" }

// Undo takes the page away.
func (a *AwaitSettings) Undo(ctx context.Context) error { return files.Drop(ctx, a.In.Files, a.File) }

// How the page is asked: side by side, since each of PHP's processes answers for
// itself, and so many rounds in a row have to be good; and how long beyond PHP's own
// interval it may take.
const (
	sideBySide = 4
	goodRounds = 3
	beyond     = 15 * time.Second
	askAgain   = time.Second
	usualTTL   = 300 * time.Second
)

// toldSettings is what the page tells.
type toldSettings struct {
	Settings map[string]string `json:"settings"`
	Interval string            `json:"ttl"`
	File     string            `json:"file"` // "" where PHP reads no such files
	Kind     string            `json:"sapi"`
	Process  int               `json:"pid"`
}

// reads tells whether this PHP reads settings from folders.
func (t *toldSettings) reads() bool {
	return t.File != "" && t.Kind != "apache2handler" && t.Kind != "cli-server"
}

// Do waits. What PHP does not take up in that time the owner is told; where the
// release cannot do without, the job stops.
func (a *AwaitSettings) Do(ctx context.Context) error {
	names := slices.Sorted(maps.Keys(a.Site.Kit.PHPSettings))
	listed, err := json.Marshal(names)
	if err != nil {
		return err
	}
	page := "<?php header('Cache-Control: no-store');\nusleep(50000); // others have to answer meanwhile\n" +
		"$n = json_decode('" + string(listed) + "');\n" +
		"echo json_encode(['settings' => array_combine($n, array_map(fn($s) => (string) ini_get($s), $n)),\n" +
		"'ttl' => ini_get('user_ini.cache_ttl'), 'file' => (string) ini_get('user_ini.filename'), " +
		"'sapi' => PHP_SAPI, 'pid' => getmypid()]);\n"
	if err := files.Write(ctx, a.In.Files, a.File, []byte(page), 0o644); err != nil {
		return err
	}
	told, err := a.wait(ctx)
	if err := errors.Join(err, a.Undo(context.WithoutCancel(ctx))); err != nil {
		return err
	}
	return a.judge(told)
}

// wait asks until enough rounds in a row are good, and every process that was seen
// without the settings was seen with them or had to look again; or the time is over.
func (a *AwaitSettings) wait(ctx context.Context) (told *toldSettings, err error) {
	begun, good, behind := time.Now(), 0, map[int]time.Time{}
	for {
		answers, err := a.round(ctx)
		if err != nil || answers == nil {
			return nil, err
		}
		told, good = &answers[0], good+1
		for i, t := range answers {
			if len(a.lacking(&t)) == 0 {
				delete(behind, t.Process)
				continue
			}
			told, good, behind[t.Process] = &answers[i], 0, time.Now()
		}
		interval := usualTTL
		if ttl, err := strconv.Atoi(told.Interval); err == nil {
			interval = time.Duration(ttl) * time.Second
		}
		maps.DeleteFunc(behind, func(_ int, at time.Time) bool { return time.Since(at) > interval+2*time.Second })
		passed, limit := time.Since(begun), interval+beyond
		if good >= goodRounds && len(behind) == 0 || !told.reads() || passed > limit {
			return told, nil
		}
		if len(behind) > 0 {
			a.Count(int64(passed.Seconds()), int64(limit.Seconds()), "seconds at most")
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-time.After(askAgain):
			}
		}
	}
}

// round asks side by side; nil where the page is not run.
func (a *AwaitSettings) round(ctx context.Context) ([]toldSettings, error) {
	var answers [sideBySide]*toldSettings
	var wait sync.WaitGroup
	for i := range answers {
		wait.Go(func() { answers[i] = a.ask(ctx) })
	}
	wait.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	told := make([]toldSettings, 0, sideBySide)
	for _, t := range answers {
		if t == nil {
			a.Result.Warn("PHP could not be asked whether it has taken up the settings that the app brings")
			return nil, nil
		}
		told = append(told, *t)
	}
	return told, nil
}

// ask asks the page; nil where it is not run.
func (a *AwaitSettings) ask(ctx context.Context) *toldSettings {
	answer, err := a.In.Visitor().Get(ctx, a.Site.Place.URL+path.Base(a.File))
	var told toldSettings
	if err != nil || json.Unmarshal(answer.Body, &told) != nil {
		return nil
	}
	return &told
}

// lacking lists the settings that are less than the kit says.
func (a *AwaitSettings) lacking(told *toldSettings) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(a.Site.Kit.PHPSettings)) {
		if !kit.EnoughPHP(told.Settings[name], a.Site.Kit.PHPSettings[name]) {
			out = append(out, name)
		}
	}
	return out
}

func (a *AwaitSettings) judge(told *toldSettings) error {
	if told == nil {
		return nil
	}
	var needed []string
	for _, name := range a.lacking(told) {
		is, wanted := told.Settings[name], a.Site.Kit.PHPSettings[name]
		a.Result.Warn(fmt.Sprintf("PHP does not take up %s = %s and has %s: ask the host to set it", name, wanted, is))
		if php := a.Site.Of.Needs.PHP; php != nil && php.Settings[name] != "" && !kit.EnoughPHP(is, php.Settings[name]) {
			needed = append(needed, name+" "+php.Settings[name])
		}
	}
	if len(needed) == 0 {
		return nil
	}
	return fault.New(fault.Failed, "PHP does not take up settings that the app needs: "+strings.Join(needed, ", "),
		a.Site.Place.URL, "Ask the host to set them, or to allow "+kit.UserINI+".")
}
