package fill

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/url"
	"regexp"
	"strings"

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
	"bcrypt": hashBcrypt,
	"number": number,
	"flag":   flag,
}

// BcryptCost is the work factor of the hashes, PHP's own default.
const BcryptCost = 10

// hashBcrypt writes the hash with the mark $2y$, which PHP's password_verify
// and every other current implementation accept. It errs for more than 72
// bytes, which bcrypt would cut off.
func hashBcrypt(s string) (string, error) {
	hash, err := bcrypt.GenerateFromPassword([]byte(s), BcryptCost)
	if err != nil {
		return "", err
	}
	return "$2y$" + strings.TrimPrefix(string(hash), "$2a$"), nil
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
