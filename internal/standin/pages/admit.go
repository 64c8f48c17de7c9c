package pages

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"html/template"
	"net/http"
	"time"
)

// admit gives cookies to whoever posts the half whose SHA-256 it is given: once,
// for the page's file goes first, and for a minute. The cookies are covered by a
// pad that the half makes. Somebody who asks without a half is told that it is
// there.
func (p *running) admit(hash, covered, to string) (template.HTML, error) {
	half := p.r.PostForm.Get("half")
	if half == "" {
		return "ready", nil
	}
	gone := &stop{status: http.StatusNotFound, text: "nothing is here"}
	sum := sha256.Sum256([]byte(half))
	info, err := p.root.Stat(p.name)
	if err != nil || time.Since(info.ModTime()) > time.Minute ||
		subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(hash)) != 1 || p.root.Remove(p.name) != nil {
		return "", gone
	}
	text, err := base64.StdEncoding.DecodeString(covered)
	address, errAddress := base64.StdEncoding.DecodeString(to)
	if err := errors.Join(err, errAddress); err != nil {
		return "", err
	}
	for i := range text {
		pad := sha256.Sum256([]byte(fmt.Sprintf("%s/%d", half, i/sha256.Size)))
		text[i] ^= pad[i%sha256.Size]
	}
	var cookies []struct {
		Name, Value, Path string
		HTTPOnly          bool `json:"http_only"`
	}
	if err := json.Unmarshal(text, &cookies); err != nil {
		return "", err
	}
	for _, c := range cookies {
		http.SetCookie(p.w, &http.Cookie{Name: c.Name, Value: c.Value, Path: c.Path, HttpOnly: c.HTTPOnly,
			SameSite: http.SameSiteLaxMode})
	}
	at := html.EscapeString(string(address))
	return template.HTML(`<!doctype html><meta charset="utf-8"><meta http-equiv="refresh" content="0; url=` + at +
		`"><title>One moment</title><a href="` + at + `">Go on</a>`), nil
}
