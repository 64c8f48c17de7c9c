package trust_test

import (
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/trust"
)

var now = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

func signer(t *testing.T, name string) trust.Signer {
	t.Helper()
	s, err := trust.SignerIn(filepath.Join(t.TempDir(), "signing.key"))
	require.NoError(t, err)
	s.Name = name
	return s
}

func member(s trust.Signer, may trust.Role) trust.Member {
	return trust.Member{Name: s.Name, Sign: s.Public(), Seal: "age1" + s.Name, May: may, Since: now}
}

// founded is the log of a new team.
func founded(t *testing.T, by trust.Signer) (c trust.Chain, first trust.Sealed) {
	t.Helper()
	first, _, err := c.Enact(by, now, &trust.Charter{Team: "T", Version: 1, Members: []trust.Member{member(by,
		trust.Admin)},
		Epochs: []trust.EpochKey{{For: "age1x"}}}, "")
	require.NoError(t, err)
	return c, first
}

func TestRoles(t *testing.T) {
	for n, has := range trust.Roles {
		for m, needs := range trust.Roles {
			assert.Equal(t, n >= m, has.May(needs), "%s %s", has, needs)
		}
		assert.True(t, has.Known())
	}
	assert.False(t, trust.Role("all").Known())
	assert.False(t, trust.Admin.May("more"))
}

// A machine's key is made once, and the word by which a team adds it reads back.
func TestKeys(t *testing.T) {
	file := filepath.Join(t.TempDir(), "config", "signing.key")
	one, err := trust.SignerIn(file)
	require.NoError(t, err)
	two, err := trust.SignerIn(file)
	require.NoError(t, err)
	assert.Equal(t, one.Public(), two.Public())
	m := member(one, trust.Operate)
	read, err := trust.Keyed(m.Key())
	require.NoError(t, err)
	assert.Equal(t, m.Sign, read.Sign)
	assert.Equal(t, m.Seal, read.Seal)
	assert.Equal(t, m.Fingerprint(), read.Fingerprint())
	assert.NotEqual(t, m.Fingerprint(), member(signer(t, "other"), trust.Operate).Fingerprint())
	for _, wrong := range []string{"", "age1x", "age1x.", "age1x.AAAA", "age1x.%"} {
		_, err := trust.Keyed(wrong)
		assert.Error(t, err, wrong)
	}
}

// Each entry follows on the one before, is of a member, and of one who may.
func TestFollow(t *testing.T) {
	admin, worker, office := signer(t, "wharfinger"), signer(t, "steward"), signer(t, "office")
	stranger := signer(t, "steward") // calls himself so
	c, first := founded(t, admin)
	next := c.Charter.Next()
	require.NoError(t, next.Add(member(worker, trust.Operate)))
	require.NoError(t, next.Add(member(office, trust.Look)))
	second, _, err := c.Enact(admin, now, next, "two more")
	require.NoError(t, err)
	at := c
	record := []byte("a record")
	third, e, err := c.Note(worker, now, trust.What{Kind: trust.OfSite, Key: "a.localhost", Record: record})
	require.NoError(t, err)
	assert.Equal(t, trust.Digest(record), e.Digest)
	assert.EqualValues(t, 3, c.Head.N)

	var again trust.Chain
	for _, s := range []trust.Sealed{first, second, third} {
		_, err := again.Follow(s)
		require.NoError(t, err)
	}
	assert.Equal(t, c.Head, again.Head)
	_, err = again.Follow(third)
	assert.ErrorIs(t, err, trust.ErrEntry, "once more")
	from := at
	_, err = from.Follow(first)
	assert.ErrorIs(t, err, trust.ErrEntry, "an older one")
	for what, err := range map[string]error{
		"a stranger": noted(at, stranger, trust.OfSite), "who may only look": noted(at, office, trust.OfSite),
		"nobody": noted(at, signer(t, "nobody"), trust.OfSite), "no kind": noted(at, worker, "else"),
		"a worker who makes a charter": enacted(at, worker, at.Charter.Next()),
		"another team's": enacted(at, admin, &trust.Charter{Team: "U", Version: 3, Members: next.Members,
			Epochs: next.Epochs}),
		"a version left out": enacted(at, admin, &trust.Charter{Team: "T", Version: 4, Members: next.Members,
			Epochs: next.Epochs}),
		"keys left out": enacted(at, admin, &trust.Charter{Team: "T", Version: 3, Members: next.Members}),
		"no admin": enacted(at, admin, &trust.Charter{Team: "T", Version: 3, Members: []trust.Member{member(worker,
			trust.Operate)}, Epochs: next.Epochs}),
	} {
		assert.ErrorIs(t, err, trust.ErrEntry, what)
	}
	changed := trust.Sealed{Text: append([]byte(" "), third.Text...), Signature: third.Signature}
	from = at
	_, err = from.Follow(changed)
	assert.ErrorIs(t, err, trust.ErrEntry)
	assert.Equal(t, at.Head, from.Head, "what is not followed changes nothing")
}

func noted(c trust.Chain, by trust.Signer, kind trust.Kind) error {
	_, _, err := c.Note(by, now, trust.What{Kind: kind, Key: "x"})
	return err
}

func enacted(c trust.Chain, by trust.Signer, next *trust.Charter) error {
	_, _, err := c.Enact(by, now, next, "")
	return err
}

// Who left makes no entries, though their key is as before; the last admin cannot leave.
func TestLeaving(t *testing.T) {
	admin, worker := signer(t, "wharfinger"), signer(t, "steward")
	c, _ := founded(t, admin)
	next := c.Charter.Next()
	require.NoError(t, next.Add(member(worker, trust.Operate)))
	assert.ErrorIs(t, next.Add(member(worker, trust.Operate)), trust.ErrKnown)
	require.NoError(t, enactedIn(&c, admin, next))
	require.NoError(t, noted(c, worker, trust.OfSite))
	next = c.Charter.Next()
	require.NoError(t, next.Remove("steward", "wharfinger", now))
	assert.NotNil(t, c.Charter.Member("steward"), "the one in force stays as it is")
	require.NoError(t, enactedIn(&c, admin, next))
	assert.ErrorIs(t, noted(c, worker, trust.OfSite), trust.ErrEntry)
	assert.True(t, c.Charter.Knew("steward"))
	assert.Equal(t, []string{"age1wharfinger"}, c.Charter.Openers())
	next = c.Charter.Next()
	assert.ErrorIs(t, next.Remove("nobody", "", now), trust.ErrNobody)
	assert.ErrorIs(t, next.Remove("wharfinger", "", now), trust.ErrLast)
}

func enactedIn(c *trust.Chain, by trust.Signer, next *trust.Charter) error {
	_, _, err := c.Enact(by, now, next, "")
	return err
}

// A line of a journal is signed for its place.
func TestLines(t *testing.T) {
	s := signer(t, "steward")
	m := member(s, trust.Operate)
	first := s.SignLine("T", "a", 0, nil, []byte("x"))
	second := s.SignLine("T", "a", 1, first, []byte("x"))
	assert.True(t, m.SignedLine("T", "a", 0, []byte{}, []byte("x"), first))
	assert.True(t, m.SignedLine("T", "a", 1, first, []byte("x"), second))
	assert.False(t, m.SignedLine("T", "a", 1, first, []byte("y"), second))
	assert.False(t, m.SignedLine("T", "b", 0, nil, []byte("x"), first))
	assert.False(t, m.SignedLine("U", "a", 0, nil, []byte("x"), first))
	assert.False(t, m.SignedLine("T", "a", 0, second, []byte("x"), first))
}

// FuzzFollow: whatever stands in a log, following it ends with an error or an entry of a member.
func FuzzFollow(f *testing.F) {
	f.Add([]byte(`{"n":1,"kind":"charter"}`), []byte("x"))
	charter := `{"team":"T","version":1,"members":[{"name":"a","sign":"AAAA","may":"admin"}],"epochs":[{"for":"x"}]}`
	sum := sha256.Sum256([]byte(charter))
	f.Add([]byte(fmt.Sprintf(`{"team":"T","n":1,"member":"a","kind":"charter","charter":%s,"digest":%q}`, charter,
		base64.StdEncoding.EncodeToString(sum[:]))), []byte("x"))
	f.Fuzz(func(t *testing.T, text, signature []byte) {
		var c trust.Chain
		_, err := c.Follow(trust.Sealed{Text: text, Signature: signature})
		assert.ErrorIs(t, err, trust.ErrEntry)
		assert.Nil(t, c.Charter)
	})
}
