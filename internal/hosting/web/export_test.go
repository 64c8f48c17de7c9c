package web

import (
	"crypto/tls"
	"crypto/x509"
	"net/http"
)

// Trust has a visitor take a certificate for that of any host.
func Trust(v *Visitor, c *x509.Certificate) {
	transport := v.got.through.(unhurried).through.(*limited).through.(patient).through.(*http.Transport)
	roots := x509.NewCertPool()
	roots.AddCert(c)
	transport.TLSClientConfig = &tls.Config{RootCAs: roots, ServerName: "example.com"} // whom those of httptest are for
}
