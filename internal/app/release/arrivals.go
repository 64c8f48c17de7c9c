package release

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/debian"
	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Known puts the releases into a kit that had come when they were last looked up: none
// for one that nobody looked up.
func (a *Archives) Known(k *kit.Kit) {
	if k.FollowsUpstream() {
		k.Arrived(a.arrivals(k))
	}
}

func (a *Archives) arrivals(k *kit.Kit) (all []kit.Arrival) {
	text, err := os.ReadFile(a.noteOf(k))
	if err != nil || json.Unmarshal(text, &all) != nil {
		return nil
	}
	return all
}

// noteOf names the file with what was looked up for an app. It holds for one package.
func (a *Archives) noteOf(k *kit.Kit) string {
	return filepath.Join(a.Folder, "arrived-"+k.App+"-"+k.Archive.Debian.Package+".json")
}

// LookUp finds which releases an app has where they come by themselves; the archive's
// indexes are read once a day. Where they cannot be had, what was known before holds;
// a fault when nothing was.
func (a *Archives) LookUp(ctx context.Context, k *kit.Kit) error {
	if !k.FollowsUpstream() {
		return nil
	}
	before := a.arrivals(k)
	ctx, done := a.telling(ctx, "See which releases of "+k.Title+" there are")
	defer done()
	found, err := a.arrive(ctx, k, before)
	switch {
	case len(found) > 0 && !slices.Equal(found, before):
		text, err := json.Marshal(found)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(a.Folder, 0o700); err != nil {
			return err
		}
		if err := atomicfile.Write(a.noteOf(k), text, 0o600); err != nil {
			return err
		}
	case len(found) == 0 && len(before) == 0:
		return a.noneCame(k, err)
	}
	a.Known(k)
	if !errors.Is(err, debian.ErrNone) { // a suite that this machine knows nothing of brings nothing
		k.LookupErr = err
	}
	return nil
}

// arrive asks each suite for the app's package, and since when it has that.
func (a *Archives) arrive(ctx context.Context, k *kit.Kit, before []kit.Arrival) ([]kit.Arrival, error) {
	d := k.Archive.Debian
	var out []kit.Arrival
	var wrong, unknown error
	for _, suite := range d.Suites {
		found, err := a.Debian.Find(ctx, suite, d.Package)
		if errors.Is(err, debian.ErrNone) {
			unknown = err
			continue
		}
		if err != nil {
			wrong = errors.Join(wrong, err)
			out = append(out, of(before, suite)...) // as it was
			continue
		}
		p, there := found[d.Package]
		if !there {
			continue
		}
		arrival := kit.Arrival{Version: p.Version, Suite: suite, Urgent: p.Fixes()}
		if arrival.Date = dateOf(before, arrival); arrival.Date == "" {
			since := a.Debian.Since(ctx, p)
			if since.IsZero() {
				since = a.Debian.Now()
			}
			arrival.Date = since.Format(time.DateOnly)
		}
		out = append(out, arrival)
	}
	return out, cmp.Or(wrong, unknown)
}

func of(before []kit.Arrival, suite string) (out []kit.Arrival) {
	for _, b := range before {
		if b.Suite == suite {
			out = append(out, b)
		}
	}
	return out
}

func dateOf(before []kit.Arrival, a kit.Arrival) string {
	for _, b := range before {
		if b.Version == a.Version && b.Suite == a.Suite {
			return b.Date
		}
	}
	return ""
}

func (a *Archives) noneCame(k *kit.Kit, err error) error {
	d := k.Archive.Debian
	suites := strings.Join(d.Suites, ", ")
	switch {
	case errors.Is(err, debian.ErrNone):
		return fault.New(fault.Usage, k.Title+" comes as the package "+d.Package+" of a Debian archive, and this machine "+
			"knows none that has "+suites, d.Package, "Write a line into "+a.Sources+": deb ADDRESS "+d.Suites[0]+
			" main. Nothing was touched.").Wrap(err)
	case err != nil:
		return fault.New(fault.Failed, "the releases of "+k.Title+" cannot be looked up", suites,
			"Check the connection and try again. Nothing was touched.").Wrap(err)
	}
	return fault.New(fault.Failed, "none of the suites "+suites+" has a package "+d.Package+" any more", k.Title,
		"Tell the kit's author. Nothing was touched.")
}
