package fill

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"regexp"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"
)

// filters turn one form of a value into another. None of them quotes for a
// file format: that is for package config.
var filters = map[string]func(string) (string, error){
	"lower":  func(s string) (string, error) { return strings.ToLower(s), nil },
	"upper":  func(s string) (string, error) { return strings.ToUpper(s), nil },
	"url":    func(s string) (string, error) { return url.QueryEscape(s), nil },
	"base64": func(s string) (string, error) { return base64.StdEncoding.EncodeToString([]byte(s)), nil },
	"sha256": func(s string) (string, error) {
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:]), nil
	},
	"sha1":   func(s string) (string, error) { sum := sha1.Sum([]byte(s)); return hex.EncodeToString(sum[:]), nil },
	"md5":    func(s string) (string, error) { sum := md5.Sum([]byte(s)); return hex.EncodeToString(sum[:]), nil },
	"bcrypt": hashBcrypt,

	"argon2id":  hashArgon2id,
	"url-part":  func(s string) (string, error) { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20"), nil },
	"host":      func(s string) (string, error) { return addressPart(s, (*url.URL).Hostname) },
	"host-port": func(s string) (string, error) { return addressPart(s, func(u *url.URL) string { return u.Host }) },
	"path": func(s string) (string, error) {
		return addressPart(s, func(u *url.URL) string { return u.EscapedPath() })
	},

	"html":       func(s string) (string, error) { return html.EscapeString(s), nil },
	"slashes":    func(s string) (string, error) { return slashes.Replace(s), nil },
	"trim-slash": func(s string) (string, error) { return strings.TrimRight(s, "/"), nil },
	"json":       toJSON,

	"number": number,
	"flag":   flag,
}

// slashes writes a backslash before what ends or escapes a string in most languages,
// as PHP's addslashes does.
var slashes = strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`, "\x00", `\0`)

// toJSON writes a text as a JSON string, with its quotes (RFC 8259, 7).
func toJSON(s string) (string, error) {
	text, err := json.Marshal(s)
	return string(text), err
}

// BcryptCost is the work factor of the hashes, PHP's own default.
const BcryptCost = 10

var bcryptCost = BcryptCost

// CheapHashes lowers the work factor as far as it goes. It is for tests, which
// make hundreds of sites with passwords that protect nothing; a test sees that
// nobody else calls it.
func CheapHashes() { bcryptCost = bcrypt.MinCost }

// hashBcrypt writes the hash with the mark $2y$, which PHP's password_verify
// and every other current implementation accept. It errs for more than 72
// bytes, which bcrypt would cut off.
func hashBcrypt(s string) (string, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(s), bcryptCost)
	if err != nil {
		return "", err
	}
	return "$2y$" + strings.TrimPrefix(string(hash), "$2a$"), nil
}

// The parameters of Argon2id (RFC 9106; the password storage advice that hosts
// follow asks for at least these): 19 MiB, two rounds, one lane.
const (
	argonMemory = 19 << 10 // KiB
	argonRounds = 2
	argonLength = 32
)

// hashArgon2id writes the hash as PHP's password_verify reads it.
func hashArgon2id(s string) (string, error) {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		return "", err
	}
	key := argon2.IDKey([]byte(s), salt, argonRounds, argonMemory, 1, argonLength)
	plain := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonRounds,
		plain.EncodeToString(salt), plain.EncodeToString(key)), nil
}

// addressPart takes a part of an address such as {url}.
func addressPart(s string, part func(*url.URL) string) (string, error) {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("not an address")
	}
	return part(u), nil
}

var whole = regexp.MustCompile(`^-?[0-9]{1,18}$`)

func number(s string) (string, error) {
	if !whole.MatchString(s) {
		return "", fmt.Errorf("not a whole number")
	}
	return s, nil
}

func flag(s string) (string, error) {
	switch s {
	case "yes", "true", "1":
		return "true", nil
	case "no", "false", "0", "":
		return "false", nil
	}
	return "", fmt.Errorf("neither yes nor no")
}
