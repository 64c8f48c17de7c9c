package plan

import (
	"io/fs"
	"maps"
	"slices"
	"strconv"

	"tivset/internal/answer"
	"tivset/internal/app/config"
	"tivset/internal/fault"
	"tivset/internal/question"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// given stands among the answers in the place of a secret.
const given = "(given)"

// secretPart is the site's secrets, and the answers without them.
type secretPart struct {
	secrets map[string]secret.Text
	answers answer.Given
	admin   site.Admin
	asking  *question.Asking
}

// makeSecrets makes every password and key of the site; one that is carried to
// another place keeps its own, for what is stored was made with them.
func (pl *Planner) makeSecrets(d *decided, s *site.Site, carried *site.Carried) (secretPart, error) {
	out := secretPart{secrets: map[string]secret.Text{}, answers: maps.Clone(d.answers), admin: s.Admin,
		asking: masked(d.asking)}
	for _, name := range slices.Sorted(maps.Keys(s.Kit.Secrets)) {
		made, err := pl.Maker.Password(s.Kit.Secrets[name].Length, secret.Alnum)
		if err != nil {
			return out, err
		}
		out.secrets["secret."+name] = made
	}
	for _, id := range site.SecretIDs(s.Kit.Kit) {
		if v := out.answers[id]; v != "" {
			out.secrets[site.AskedSecret(id)], out.answers[id] = secret.Of(v), given
		}
	}
	if err := pl.dataSecret(s, &out); err != nil {
		return out, err
	}
	if err := pl.adminSecret(&out); err != nil {
		return out, err
	}
	return out, out.carry(carried)
}

// masked leaves of the secrets among the answers only that they were given.
func masked(a *question.Asking) *question.Asking {
	other := *a
	other.Given = maps.Clone(a.Given)
	for _, q := range a.Questions() {
		if q.Secret && other.Given[q.ID] != "" {
			other.Given[q.ID] = given
		}
	}
	return &other
}

// dataSecret is the password of the database user, made or given.
func (pl *Planner) dataSecret(s *site.Site, out *secretPart) error {
	if s.Data == nil || s.Server.InFiles() {
		return nil
	}
	if s.Data.From != question.DataNew {
		out.secrets[site.DataPassword] = secret.Of(out.answers[answer.DataPassword])
		delete(out.answers, answer.DataPassword)
		return nil
	}
	made, err := pl.Maker.Password(32, secret.All)
	out.secrets[site.DataPassword] = made
	return err
}

// adminSecret is the admin's password, made or given.
func (pl *Planner) adminSecret(out *secretPart) error {
	password := secret.Of(out.answers[answer.AdminPassword])
	if out.admin.Generated {
		length, err := strconv.Atoi(out.answers["admin.password-length"])
		if err != nil {
			return err
		}
		out.admin.Length = length
		if password, err = pl.Maker.Password(length, secret.Alphabet(out.answers["admin.password-of"])); err != nil {
			return err
		}
	}
	out.secrets[site.AdminPassword] = password
	out.answers[answer.AdminPassword] = question.Generate // from here on it is in secrets only
	return nil
}

// carry takes the secrets of a site that is carried to another place. Only the
// database's user is another.
func (p *secretPart) carry(c *site.Carried) error {
	if c == nil {
		return nil
	}
	for name, value := range c.Secrets {
		if name != site.DataPassword && !slices.Contains(c.Anew, name) {
			p.secrets[name] = value
		}
	}
	if own := c.Secrets[site.AdminPassword]; own.Empty() {
		return fault.New(fault.Usage, "the vault has no password of this site", c.Record.Address,
			"Have a new one made first: "+fault.Call("reveal", c.Record.Address, "--renew"))
	}
	p.admin.Generated = false
	return nil
}

// writeConfigs writes the configuration files: a value that a format cannot hold
// is found here. A site that is carried brings its own.
func (pl *Planner) writeConfigs(s *site.Site, carried *site.Carried) ([][]byte, error) {
	if carried != nil {
		return nil, nil
	}
	values, err := s.Values(pl.Now())
	if err != nil {
		return nil, err
	}
	var out [][]byte
	for _, c := range s.Kit.Config {
		if len(c.Constant) > 0 { // a file of the archive, edited where it is unpacked
			out = append(out, nil)
			continue
		}
		template, err := fs.ReadFile(s.Kit.Files(), c.Template)
		if err != nil {
			return nil, err
		}
		format, err := config.For(c.Format)
		if err != nil {
			return nil, err
		}
		text, err := config.Render(format, string(template), values)
		if err != nil {
			return nil, fault.New(fault.Usage, "a value cannot be written into "+c.Path, s.Title,
				"Choose another value. Nothing was touched.").Wrap(err)
		}
		out = append(out, text)
	}
	return out, nil
}
