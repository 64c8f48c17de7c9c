package trust

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Charter says who is of a team. Each version is signed by an admin of the one before; the first by its founder.
type Charter struct {
	Team    string `json:"team"` // a random name that no other has
	Version int    `json:"version"`

	// Line grows when an admin accepts that the log goes on from an earlier state, such as a database that was put
	// back: machines that saw more follow nothing else.
	Line int `json:"line"`

	Members []Member   `json:"members"`
	Left    []Left     `json:"left,omitempty"`
	Epochs  []EpochKey `json:"epochs"` // the newest last
}

// Left is somebody who was of the team.
type Left struct {
	Name  string    `json:"name"`
	Sign  []byte    `json:"sign"`
	Until time.Time `json:"until"`
	By    string    `json:"by"`
}

// EpochKey is the key for which everything was encrypted while the same people were allowed to open it.
type EpochKey struct {
	For    string `json:"for"`    // a public key of age
	Sealed []byte `json:"sealed"` // the private half, encrypted to those who may open
}

// Member finds who is called so; nil for nobody.
func (c *Charter) Member(name string) *Member {
	for i := range c.Members {
		if c.Members[i].Name == name {
			return &c.Members[i]
		}
	}
	return nil
}

// Signing finds who has a signing key; nil for nobody.
func (c *Charter) Signing(key []byte) *Member {
	for i := range c.Members {
		if bytes.Equal(c.Members[i].Sign, key) {
			return &c.Members[i]
		}
	}
	return nil
}

// Knew says whether somebody is or was called so.
func (c *Charter) Knew(name string) bool {
	return c.Member(name) != nil || slices.ContainsFunc(c.Left, func(l Left) bool { return l.Name == name })
}

// Who gives the names of those who may do something at least.
func (c *Charter) Who(least Role) (names []string) {
	for _, m := range c.Members {
		if m.May.May(least) {
			names = append(names, m.Name)
		}
	}
	return names
}

// Openers are the keys of those who may open what is secret.
func (c *Charter) Openers() (keys []string) {
	for _, m := range c.Members {
		if m.May.May(Operate) {
			keys = append(keys, m.Seal)
		}
	}
	return keys
}

// Epoch is the key for which things are encrypted now.
func (c *Charter) Epoch() string { return c.Epochs[len(c.Epochs)-1].For }

// Next is a copy to be changed into the next version.
func (c *Charter) Next() *Charter {
	next := *c
	next.Version++
	next.Members, next.Left, next.Epochs = slices.Clone(c.Members), slices.Clone(c.Left), slices.Clone(c.Epochs)
	return &next
}

// ErrNobody and the like say what cannot be done with people.
var (
	ErrNobody = errors.New("nobody of the team is called so")
	ErrLast   = errors.New("nobody else could say who is of the team any more")
	ErrKnown  = errors.New("somebody of the team has this name or this key already")
)

// Add puts somebody among the members.
func (c *Charter) Add(m Member) error {
	if c.Member(m.Name) != nil || c.Signing(m.Sign) != nil ||
		slices.ContainsFunc(c.Members, func(one Member) bool { return one.Seal == m.Seal }) {
		return ErrKnown
	}
	c.Members = append(c.Members, m)
	return nil
}

// Remove takes somebody out.
func (c *Charter) Remove(name, by string, at time.Time) error {
	m := c.Member(name)
	if m == nil {
		return ErrNobody
	}
	c.Left = append(c.Left, Left{Name: name, Sign: m.Sign, Until: at, By: by})
	c.Members = slices.DeleteFunc(c.Members, func(m Member) bool { return m.Name == name })
	if len(c.Who(Admin)) == 0 {
		return ErrLast
	}
	return nil
}

// follows says what is wrong with a charter as the one after another, signed by one of its members; nil for nothing.
// Before the first there is none, and it says of itself who founds the team.
func (c *Charter) follows(before *Charter, signer string) error {
	if err := c.whole(); err != nil {
		return err
	}
	if before == nil {
		if m := c.Member(signer); c.Version != 1 || c.Line != 0 || m == nil || m.May != Admin {
			return errors.New("it is not the charter of a team that begins")
		}
		return nil
	}
	goesOn := c.Version == before.Version+1 && c.Line == before.Line
	accepts := c.Version > before.Version && c.Line > before.Line
	switch {
	case c.Team != before.Team:
		return errors.New("it is another team's")
	case !goesOn && !accepts:
		return fmt.Errorf("version %d does not come after %d", c.Version, before.Version)
	case len(c.Epochs) < len(before.Epochs):
		return errors.New("keys are missing in it")
	}
	return nil
}

// whole says what is wrong with a charter by itself.
func (c *Charter) whole() error {
	names, keys := map[string]bool{}, map[string]bool{}
	for _, m := range c.Members {
		if len(m.Sign) != ed25519.PublicKeySize {
			return errors.New("the key of a member is none")
		}
		if m.Name == "" || names[m.Name] || keys[string(m.Sign)] || !m.May.Known() {
			return errors.New("its members are not told apart")
		}
		names[m.Name], keys[string(m.Sign)] = true, true
	}
	if c.Team == "" || len(c.Epochs) == 0 || len(c.Who(Admin)) == 0 {
		return errors.New("it is not whole")
	}
	return nil
}

func (c *Charter) text() []byte {
	text, _ := json.Marshal(c) // texts, bytes and times always have a form in JSON
	return text
}
