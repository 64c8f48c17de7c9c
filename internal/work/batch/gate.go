package batch

import (
	"maps"
	"slices"
	"sync"
	"time"

	"tivset/internal/hosting/account"
)

// Limits is how many jobs go on side by side.
type Limits struct {
	Account  int // in one account
	Host     int // in all accounts of one host
	Database int // with databases of one server
	Machine  int // on this machine
}

// Usual is what a cheap hosting bears.
var Usual = Limits{Account: 3, Host: 6, Database: 6, Machine: 8}

// AtOnce lets so many go on side by side in an account. The other limits make way.
func AtOnce(n int) Limits {
	return Limits{Account: n, Host: max(n, Usual.Host), Database: max(n, Usual.Database), Machine: max(n, Usual.Machine)}
}

// calm is after how long without a crowd one more is let in again.
const calm = 30 * time.Second

// gate counts how many are at work at what, and lets no more in than are borne. Where a
// server turns out to bear fewer, fewer are let in from then on.
type gate struct {
	mu     sync.Mutex
	limits map[string]int
	most   map[string]int // the limits as they were
	busy   map[string]int
	told   map[string]time.Time // when there was a crowd last
	now    func() time.Time
}

func newGate(now func() time.Time) *gate {
	return &gate{limits: map[string]int{}, most: map[string]int{}, busy: map[string]int{}, told: map[string]time.Time{},
		now: now}
}

// keys are what a job in an account is counted at.
func (g *gate) keys(l Limits, a *account.Account, server string) []string {
	g.mu.Lock()
	defer g.mu.Unlock()
	all := l.Counted(a, server)
	all["machine"] = l.Machine
	for key, limit := range all {
		if g.most[key] == 0 {
			g.most[key], g.limits[key] = limit, limit
		}
	}
	return slices.Sorted(maps.Keys(all))
}

// Counted says at what a job in an account is counted beside its machine, and how many may be there.
func (l Limits) Counted(a *account.Account, server string) map[string]int {
	all := map[string]int{"account " + a.Name: l.Account}
	if to := a.Remote(); to != nil {
		all["host "+to.Address] = l.Host
	}
	if d := a.Database(server, ""); server != "" && d != nil {
		all["database "+d.Server] = l.Database
	}
	return all
}

// enter lets one in where all that it is counted at has room.
func (g *gate) enter(keys []string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, key := range keys {
		if g.busy[key] >= g.limits[key] {
			return false
		}
	}
	for _, key := range keys {
		g.busy[key]++
	}
	return true
}

// leave lets one out. Where it has been calm for a while, one more may come than before.
func (g *gate) leave(keys []string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, key := range keys {
		g.busy[key]--
		if g.limits[key] < g.most[key] && g.now().Sub(g.told[key]) > calm {
			g.limits[key]++
			g.told[key] = g.now()
		}
	}
}

// crowded lets fewer into an account: half of those who are there, and one at least. What
// several tell at once counts once.
func (g *gate) crowded(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	key := "account " + name
	if at, was := g.told[key]; was && g.now().Sub(at) < time.Second {
		return
	}
	g.told[key] = g.now()
	g.limits[key] = max(1, g.busy[key]/2)
}
