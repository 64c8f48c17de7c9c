package site

import (
	"io/fs"
	"maps"
	"slices"
	"strconv"

	"tivset/internal/app/config"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/secret"
)

// makeSecrets makes every password and key of the site.
func (s *Service) makeSecrets(p *Plan) error {
	p.secrets = map[string]secret.Text{}
	for _, name := range slices.Sorted(maps.Keys(p.kit.Secrets)) {
		made, err := s.Maker.Password(p.kit.Secrets[name].Length, secret.Alnum)
		if err != nil {
			return err
		}
		p.secrets["secret."+name] = made
	}
	for _, id := range secretIDs(p.kit.Kit) {
		if v := p.answers[id]; v != "" {
			p.secrets[askedSecret(id)] = secret.Of(v)
			p.answers[id] = "(given)"
		}
	}
	if err := s.dataSecret(p); err != nil {
		return err
	}
	p.password = secret.Of(p.answers["admin.password"])
	if p.Admin.Generated {
		length, err := strconv.Atoi(p.answers["admin.password-length"])
		if err != nil {
			return err
		}
		p.Admin.Length = length
		if p.password, err = s.Maker.Password(length, secret.Alphabet(p.answers["admin.password-of"])); err != nil {
			return err
		}
	}
	p.secrets[adminPassword] = p.password
	p.answers["admin.password"] = Generate // from here on it is in secrets only
	p.mask()
	return nil
}

// mask leaves of the secrets among the answers only that they were given.
func (p *Plan) mask() {
	p.given = maps.Clone(p.given)
	for _, q := range p.asking.questions() {
		if q.Secret && p.given[q.ID] != "" {
			p.given[q.ID] = "(given)"
		}
	}
	p.asking.given = p.given
}

// dataSecret is the password of the database user, made or given.
func (s *Service) dataSecret(p *Plan) error {
	if p.Data == nil || p.Data.Engine == account.SQLite {
		return nil
	}
	if p.Data.From != dataNew {
		p.secrets[dataPassword] = secret.Of(p.answers["data.password"])
		delete(p.answers, "data.password")
		return nil
	}
	made, err := s.Maker.Password(32, secret.All)
	p.secrets[dataPassword] = made
	return err
}

// writeConfigs writes the configuration files into the plan: a value that a
// format cannot hold is found here.
func (s *Service) writeConfigs(p *Plan) error {
	if p.content != nil { // which brings its own
		return nil
	}
	values, err := p.values(s.Now())
	if err != nil {
		return err
	}
	for _, c := range p.kit.Config {
		if len(c.Constant) > 0 { // a file of the archive, edited where it is unpacked
			p.configs = append(p.configs, nil)
			continue
		}
		template, err := fs.ReadFile(p.kit.Files(), c.Template)
		if err != nil {
			return err
		}
		format, err := config.For(c.Format)
		if err != nil {
			return err
		}
		text, err := config.Render(format, string(template), values)
		if err != nil {
			return fault.New(fault.Usage, "a value cannot be written into "+c.Path, p.Title, "Choose another value. Nothing was touched.").Because(err)
		}
		p.configs = append(p.configs, text)
		p.Changes.Bytes += int64(len(text))
	}
	return nil
}
