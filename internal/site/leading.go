package site

import (
	"context"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/records/ledger"
	"tivset/internal/site/redirect"
)

// DropRedirect has an address lead nowhere any more: the files of the redirect
// go, and its record. What somebody has put in their place stays, and is named.
func (b *Book) DropRedirect(ctx context.Context, o *hosting.Opener, r ledger.Redirect) (stays []string, err error) {
	a, err := b.Home.Account(r.Account)
	if err != nil {
		return nil, err
	}
	in, err := o.Open(ctx, a)
	if err != nil {
		f := *fault.Of(err)
		f.Remedy += " To drop the record alone: " + fault.Call("forget", r.Address, "--anyway")
		return nil, &f
	}
	defer in.Close()
	if stays, err = redirect.Drop(ctx, in, r); err != nil {
		return stays, err
	}
	return stays, b.Ledger.DropRedirect(ctx, r.Address)
}
