package team

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
)

// remembered is the file in which this machine keeps what it has seen of a team's log.
func remembered(h home.Home, founded string) string {
	name := strings.NewReplacer("/", "-", "+", "_").Replace(strings.TrimPrefix(founded, "SHA256:"))
	return filepath.Join(h.State, "team-"+name[:min(22, len(name))]+".db")
}

// Remember opens this machine's memory of the team's log, and its signing key.
func (t *Team) Remember(ctx context.Context, h home.Home, founded string) (err error) {
	if t.memory != nil {
		return nil
	}
	if t.signer, err = trust.SignerIn(h.SigningKey()); err != nil {
		return err
	}
	m, err := remember(ctx, remembered(h, founded))
	if err == nil {
		t.memory, t.founded = m, founded
	}
	return err
}

// Enter has this machine follow the log of the team with that fingerprint, and says who it is there.
func (t *Team) Enter(ctx context.Context, h home.Home, founded string) (me trust.Member, err error) {
	if err := t.Remember(ctx, h, founded); err != nil {
		return me, err
	}
	c, err := t.Charter(ctx)
	if err != nil {
		return me, err
	}
	m := c.Signing(t.signer.Public())
	if m == nil {
		return me, t.notOf()
	}
	return *m, nil
}

// Fingerprint is the team's.
func (t *Team) Fingerprint() string { return t.founded }

func (t *Team) notOf() error {
	return fault.NewAs(fault.NotOfTeam, fault.NeedsConfirmation, "this machine is not of the team", t.address,
		"Have somebody of the team add it with the word that this prints: "+fault.Call("team", "key"))
}

// Charter says who is of the team now.
func (t *Team) Charter(ctx context.Context) (*trust.Charter, error) {
	err := t.View(ctx, func(context.Context, *sql.Tx, ledger.Word) error { return nil })
	if err != nil {
		return nil, err
	}
	c, err := t.memory.chain(ctx, t.memory.db)
	return c.Charter, err
}

// Me is the member that a machine would be: with its keys, and no name yet.
func Me(h home.Home) (m trust.Member, err error) {
	signer, err := trust.SignerIn(h.SigningKey())
	if err != nil {
		return m, err
	}
	m.Sign = signer.Public()
	m.Seal, err = vault.At(h.Vault(), h.VaultKey()).PublicKey()
	return m, err
}

// Join adds somebody to the team, with the vault of an admin.
func (t *Team) Join(ctx context.Context, m trust.Member, v *vault.Vault) error {
	return t.charter(ctx, v, false, m.Name+" added, who may "+string(m.May), func(next *trust.Charter, w *word) error {
		by, err := w.by()
		m.By, m.Since = by.Name, w.at.UTC()
		return errors.Join(err, next.Add(m))
	})
}

// Leave takes somebody out, and has a new epoch begin: every secret is encrypted anew.
func (t *Team) Leave(ctx context.Context, name string, v *vault.Vault) error {
	return t.charter(ctx, v, true, name+" removed", func(next *trust.Charter, w *word) error {
		by, err := w.by()
		return errors.Join(err, next.Remove(name, by.Name, w.at.UTC()))
	})
}

// charter has another charter in force. With anew another epoch begins.
func (t *Team) charter(ctx context.Context, v *vault.Vault, anew bool, note string,
	edit func(next *trust.Charter, w *word) error) error {
	return t.change(ctx, func(ctx context.Context, tx *sql.Tx, w *word) (err error) {
		if by, err := w.by(); err != nil {
			return err
		} else if !w.chain.Charter.Member(by.Name).May.May(trust.Admin) {
			return t.mayNot(errors.New("an admin says who is of the team"))
		}
		before := w.chain.Charter
		next := before.Next()
		if err := edit(next, w); err != nil {
			return err
		}
		if next.Epochs, err = v.EpochsFor(before.Epochs, next.Openers()); err != nil {
			return err
		}
		if anew {
			epoch, err := vault.NewEpoch(next.Openers())
			if err != nil {
				return err
			}
			next.Epochs = append(next.Epochs, epoch)
			if err := t.fixed(ctx, tx, w, before, next); err != nil {
				return err
			}
		}
		if err := w.enact(next, note); err != nil || !anew {
			return err
		}
		return resealAll(ctx, tx, w, v)
	})
}

// resealAll has every secret encrypted for the epoch that begins.
func resealAll(ctx context.Context, tx *sql.Tx, w *word, v *vault.Vault) error {
	names, err := texts(ctx, tx, "SELECT name FROM vault ORDER BY name")
	if err != nil {
		return err
	}
	for _, name := range names {
		var sealed []byte
		if err := tx.QueryRowContext(ctx, "SELECT sealed FROM vault WHERE name = $1", name).Scan(&sealed); err != nil {
			return err
		}
		if err := w.Right(trust.OfSecret, name, sealed); err != nil {
			return err
		}
		anew, err := v.Reseal(sealed, w.chain.Charter.Epoch())
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if err := put(ctx, tx, w, map[string][]byte{name: anew}); err != nil {
			return err
		}
	}
	return nil
}
