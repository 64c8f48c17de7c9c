package servers

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// FTP is a real FTP server with one user.
type FTP struct {
	Address, User, Password string
	Ports                   [2]int // of data connections, first and last
	Roots                   *x509.CertPool
}

// FTPOptions say what the server is like.
type FTPOptions struct {
	Home    string // the user's folder, which the user sees as /
	Whole   bool   // the user sees the machine's own / instead
	TLS     bool   // on the same port, needed for control and data
	Expired bool   // the certificate
	Name    string // whom the certificate is for; 127.0.0.1 when empty
	UID     int    // whom files belong to; 0 for the user who runs the test
	Extra   string // further lines of configuration
}

// ProFTPD starts one.
func ProFTPD(t Stage, o FTPOptions) FTP {
	t.Helper()
	program := Need(t, "proftpd")[0]
	dir := folder(t)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	port, first := FreePort(t), freeRange(t, 200)
	f := FTP{Address: loopback(port), User: "quill", Password: `Kranich "Teekanne" 74 é`,
		Ports: [2]int{first, first + 199}}
	hash, err := bcrypt.GenerateFromPassword([]byte(f.Password), bcrypt.MinCost)
	if err != nil {
		t.Fatal(err)
	}
	uid, gid := os.Geteuid(), os.Getegid()
	if o.UID != 0 {
		uid, gid = o.UID, o.UID
	}
	write(t, filepath.Join(dir, "users"), []byte(fmt.Sprintf("%s:%s:%d:%d::%s:/bin/false\n", f.User, "$2y$"+
		strings.TrimPrefix(string(hash), "$2a$"), uid, gid, o.Home)))
	write(t, filepath.Join(dir, "groups"), nil)
	conf := fmt.Sprintf(`ServerType standalone
ServerName test
DefaultAddress 127.0.0.1
SocketBindTight on
Port %d
PassivePorts %d %d
PidFile %[4]s/pid
ScoreboardFile %[4]s/scoreboard
DelayTable none
SystemLog %[4]s/log
WtmpLog off
TransferLog none
AuthOrder mod_auth_file.c
AuthUserFile %[4]s/users
AuthGroupFile %[4]s/groups
RequireValidShell off
RootLogin on
AllowOverwrite on
UseReverseDNS off
TimesGMT on
Umask 022
MaxInstances 60
%[5]s
`, port, f.Ports[0], f.Ports[1], dir, o.Extra)
	if !o.Whole {
		conf += "DefaultRoot ~\n"
	}
	if os.Geteuid() == 0 {
		conf += "User root\nGroup root\n"
	}
	if o.TLS {
		f.Roots = certificate(t, dir, o)
		conf = "LoadModule mod_tls.c\n" + conf +
			fmt.Sprintf("TLSEngine on\nTLSLog %[1]s/tls.log\nTLSRequired on\nTLSRSACertificateFile "+
				"%[1]s/cert.pem\nTLSRSACertificateKeyFile %[1]s/key.pem\n", dir)
		conf = strings.ReplaceAll(strings.ReplaceAll(conf, "TLSRSACertificateFile", "TLSECCertificateFile"),
			"TLSRSACertificateKeyFile", "TLSECCertificateKeyFile")
	}
	write(t, filepath.Join(dir, "conf"), []byte(conf))
	log := start(t, program, "-n", "-q", "-c", filepath.Join(dir, "conf"))
	t.Cleanup(func() {
		if t.Failed() {
			own, _ := os.ReadFile(filepath.Join(dir, "log"))
			t.Logf("proftpd: %s\n%s", log, own)
		}
	})
	await(t, "proftpd", func() error {
		line, err := net.DialTimeout("tcp", f.Address, time.Second)
		if err == nil {
			line.Close()
		}
		return err
	})
	return f
}

// certificate writes a certificate and its key, and gives the authority that
// signed it.
func certificate(t Stage, dir string, o FTPOptions) *x509.CertPool {
	t.Helper()
	now := time.Now()
	authority := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "test authority"},
		NotBefore: now.AddDate(-2, 0, 0), NotAfter: now.AddDate(1, 0, 0),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "test"},
		NotBefore: now.AddDate(-1, 0, 0), NotAfter: now.AddDate(1, 0, 0)}
	if o.Expired {
		leaf.NotAfter = now.AddDate(0, 0, -3)
	}
	if o.Name != "" {
		leaf.DNSNames = []string{o.Name}
	} else {
		leaf.IPAddresses = []net.IP{net.IPv4(127, 0, 0, 1)}
	}
	caKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signed, err := x509.CreateCertificate(rand.Reader, leaf, authority, &key.PublicKey, caKey)
	if err != nil {
		t.Fatal(err)
	}
	root, err := x509.CreateCertificate(rand.Reader, authority, authority, &caKey.PublicKey, caKey)
	if err != nil {
		t.Fatal(err)
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "cert.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: signed}))
	write(t, filepath.Join(dir, "key.pem"), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private}))
	pool := x509.NewCertPool()
	parsed, err := x509.ParseCertificate(root)
	if err != nil {
		t.Fatal(err)
	}
	pool.AddCert(parsed)
	return pool
}
