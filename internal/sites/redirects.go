package sites

import (
	"context"
	"path"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
)

// DropRedirect has an address lead nowhere any more: the files of the redirect
// go, and its record. What somebody has put in their place stays, and is named.
func (l *List) DropRedirect(ctx context.Context, r ledger.Redirect) (stays []string, err error) {
	return l.Book.DropRedirect(ctx, l.Hosting, r)
}

// ForgetRedirect drops the record of a redirect whose files are not there, or
// that is to be forgotten anyway.
func (l *List) ForgetRedirect(ctx context.Context, r ledger.Redirect, anyway bool) error {
	if !anyway {
		record := " To drop the record alone: " + fault.Call("forget", r.Address, "--anyway")
		stands, err := l.leadsStill(ctx, r)
		if err != nil {
			f := *fault.Of(err)
			f.Remedy += record
			return &f
		}
		if stands != "" {
			return fault.New(fault.NeedsConfirmation, "the address still leads there", stands,
				"To have it lead nowhere: "+fault.Call("free", r.Address)+"."+record)
		}
	}
	return l.Book.Ledger.DropRedirect(ctx, r.Address)
}

// leadsStill gives the first file of a redirect that is there, or "".
func (l *List) leadsStill(ctx context.Context, r ledger.Redirect) (string, error) {
	a, err := l.Book.Home.Account(r.Account)
	if err != nil {
		return "", nil // of an account that is not kept any more nothing can be there
	}
	in, err := l.Hosting.Open(ctx, a)
	if err != nil {
		return "", err
	}
	defer in.Close()
	for _, name := range r.Files {
		full := path.Join(r.Folder, name)
		if there, err := files.Exists(ctx, in.Files, full); err != nil || there {
			return full, err
		}
	}
	return "", nil
}
