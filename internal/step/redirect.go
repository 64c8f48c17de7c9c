package step

import (
	"context"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site/redirect"
)

// LeadsFrom is the redirect from where a site is to where it is going: the pages
// that it has now are those that lead.
func LeadsFrom(ctx context.Context, t *Tools, x ledger.Site, to string, others files.Others) (*ledger.Redirect, error) {
	pages, err := redirect.Pages(ctx, t.In, x.Folder, others)
	return &ledger.Redirect{Address: x.Address, URL: x.URL, To: to, Account: x.Account, Folder: x.Folder, Files: pages,
		FoldersMade: x.FoldersMade, MadeAt: t.Now().UTC()}, err
}

// lead has the old address of a site that moved lead to the new one, and those
// that led to the old one do so too.
func (r *Removal) lead(ctx context.Context, t *Tools) error {
	if r.Moved == "" {
		return nil
	}
	all, err := t.Book.Ledger.Redirects(ctx)
	if err != nil {
		return err
	}
	for _, other := range all {
		if other.To == r.Old.URL && other.URL != r.Moved {
			r.follow(ctx, t, other)
		}
	}
	if r.Leads == nil {
		return nil
	}
	leads := *r.Leads
	if err := redirect.Write(ctx, t.In, &leads); err != nil {
		return err
	}
	switch leads.Covers {
	case ledger.CoversPages:
		t.Result.Warn("the old address, " + leads.Address + ", leads to the new one for " + redirect.Says(leads) +
			": its server takes no rules for all others")
	case ledger.CoversNothing:
		t.Result.Warn(
			"the old address, " + leads.Address + ", was asked and does not lead to the new one; to take away what " +
				"is to do that: " + fault.Call("free", leads.Address),
		)
	}
	return t.Book.Ledger.PutRedirect(ctx, leads)
}

// follow has a redirect to the old address lead to the new one. Where that cannot
// be it leads on as it did.
func (r *Removal) follow(ctx context.Context, t *Tools, other ledger.Redirect) {
	there, done, err := t.inAccount(ctx, other.Account)
	if err == nil {
		defer done()
		other.To = r.Moved
		if err = redirect.Write(ctx, there.In, &other); err == nil {
			err = t.Book.Ledger.PutRedirect(ctx, other)
		}
	}
	if err != nil {
		t.Result.Warn(other.Address + " still leads to " + r.Old.URL + ", for it could not be changed (" + err.Error() +
			"); to have it lead nowhere: " + fault.Call("free", other.Address))
	}
}
