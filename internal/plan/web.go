package plan

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/place"
)

// reached is a place as its domain answers.
type reached struct {
	at       place.Place // with http or https settled
	warnings []string
}

// lookAtDomain settles http or https, and makes sure that the domain answers.
// Asked is the address as the owner wrote it.
func (pl *Planner) lookAtDomain(ctx context.Context, in *hosting.Account, at place.Place, asked string) (reached,
	error) {
	out := reached{at: at}
	d := &out.at.Domain
	u, err := url.Parse(d.URL)
	if err != nil {
		return out, err
	}
	if u.Scheme == "https" {
		if _, err := in.Certified(ctx, *d); err != nil {
			return out, fault.New(fault.Failed, "the certificate of "+d.Name+" does not verify", d.URL,
				"Ask the host for one that does, or give the domain an address with http:// in the account.").Wrap(err)
		}
	} else {
		pl.preferHTTPS(ctx, &out, asked, u)
	}
	page, err := in.Visitor().Get(ctx, d.URL+"/")
	switch {
	case err != nil:
		return out, fault.NewAs(fault.NoAnswer, fault.Failed, d.Name+" does not answer", d.URL,
			"When the domain is new, wait until its name is known, or say where it is with connect: in the "+
				"account.").Wrap(err)
	case page.Away != "" && strings.HasPrefix(page.Away, "https://"+d.Name) && u.Scheme == "http":
		return out, fault.New(fault.Usage, d.Name+" sends its visitors to https", page.Away,
			"Give the domain that address in the account: url: https://"+d.Name)
	}
	return out, nil
}

// preferHTTPS takes https where a certificate verifies, unless the owner wrote
// http:// or the account knows the domain at a port of its own.
func (pl *Planner) preferHTTPS(ctx context.Context, out *reached, asked string, u *url.URL) {
	d := &out.at.Domain
	if onThisMachine(d.Name) {
		return // nothing travels
	}
	if u.Port() == "" && d.Connect == "" && !strings.HasPrefix(asked, "http://") {
		if _, err := pl.Hosting.Certified(ctx, d.Name, net.JoinHostPort(d.Name, "443")); err == nil {
			d.URL = "https://" + d.Name
			return
		}
	}
	out.warnings = append(out.warnings,
		fmt.Sprintf("%s has no certificate in use: passwords and pages travel readable by anybody on the way. Ask the "+
			"host for one, and give the account url: https://%s", d.Name, d.Name))
}

// onThisMachine says whether a name never leaves the machine (RFC 6761).
func onThisMachine(name string) bool {
	return name == "localhost" || strings.HasSuffix(name, ".localhost")
}
