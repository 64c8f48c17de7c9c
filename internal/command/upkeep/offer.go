package upkeep

import (
	"context"
	"path/filepath"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/demo"
	"tivset/internal/records/recovery"
	"tivset/internal/screen"
)

// OfferRecovery says after the first install what to do for the day on which this machine is lost.
func OfferRecovery(ctx context.Context, shared *cli.App, s *core.Core) {
	last, err := recovery.Last(shared.World.Home())
	sites, sitesErr := s.Book.Ledger.Addresses(ctx)
	if err != nil || sitesErr != nil || last != nil || len(sites) != 1 {
		return
	}
	shared.Streams.Say("Only this machine opens its records and backups. To save what another one needs,\n" +
		"should it be lost: tivset recovery save FILE")
}

// OfferRounds asks once on a machine, after its first install, whether it is to look after
// its sites by itself. Where nobody is there to answer, it says how.
func OfferRounds(ctx context.Context, shared *cli.App, s *core.Core) {
	a := &app{shared}
	if a.Quiet || a.JSON || demo.Is(filepath.Dir(a.World.Home().Config)) {
		return // of a demo nobody is to look after for longer than it runs
	}
	t, err := a.Timer("1h")
	if err != nil {
		return
	}
	line, _, err := s.Accounts.RoundsLine(ctx, t)
	kept, keptErr := s.Book.Home.Rounds()
	if err != nil || line != "" || keptErr != nil {
		return // no crontab, or it is set already
	}
	if kept.Asked || a.Yes || !a.Streams.Asks() {
		a.Streams.Say("Updates and backups are not automatic yet. To switch them on: tivset maintain on")
		return
	}
	kept.Asked = true
	if err := s.Book.Home.KeepRounds(kept); err != nil {
		return // then nothing is asked, rather than each time
	}
	a.Streams.Say("\nUpdates, backups and checks are due from time to time. This machine can look every hour, and do\n" +
		"what each site's care asks for; that adds a line to your crontab, or a timer of systemd.")
	word, err := screen.NewAsker(a.Streams).Word(ctx, "Switch it on? [Y/n]")
	if err != nil || word != "" && word != "y" && word != "yes" {
		a.Streams.Say("Left off. To switch it on later: tivset maintain on")
		return
	}
	if err := a.roundsOn(ctx, s, "1h", false); err != nil {
		a.Streams.Fault(err)
	}
}
