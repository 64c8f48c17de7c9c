package servers

import (
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"
)

// Mailboxes starts a private IMAP server with one mailbox, and gives its
// host:port.
func Mailboxes(t Stage, name, password string) string {
	t.Helper()
	program := Need(t, "dovecot")[0]
	dir, port := folder(t), FreePort(t)
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	owner, internal := me.Username, me.Username
	if os.Geteuid() == 0 { // it serves no mail as root
		owner, internal = "nobody", "dovecot"
		for _, d := range []string{dir, filepath.Join(dir, "mail")} {
			if err := os.MkdirAll(d, 0o777); err != nil {
				t.Fatal(err)
			}
			_ = os.Chmod(d, 0o777)
		}
	}
	group := strings.ReplaceAll(owner, "nobody", "nogroup")
	write(t, filepath.Join(dir, "users"), []byte(name+":{PLAIN}"+password+"\n"))
	_ = os.Chmod(filepath.Join(dir, "users"), 0o644)
	write(t, filepath.Join(dir, "conf"), []byte(fmt.Sprintf(`protocols = imap
listen = 127.0.0.1
base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = %[1]s/log
ssl = no
disable_plaintext_auth = no
default_internal_user = %[3]s
default_login_user = %[6]s
first_valid_uid = 1
mail_location = maildir:%[1]s/mail/%%u
passdb {
  driver = passwd-file
  args = scheme=PLAIN %[1]s/users
}
userdb {
  driver = static
  args = uid=%[4]s gid=%[5]s home=%[1]s/mail/%%u
}
service imap-login {
  chroot =
  inet_listener imap {
    port = %[2]d
  }
  inet_listener imaps {
    port = 0
  }
}
service anvil {
  chroot =
}
`, dir, port, internal, owner, group, map[bool]string{true: "dovenull", false: owner}[os.Geteuid() == 0])))
	log := start(t, program, "-F", "-c", filepath.Join(dir, "conf"))
	t.Cleanup(func() {
		if t.Failed() {
			own, _ := os.ReadFile(filepath.Join(dir, "log"))
			t.Logf("dovecot: %s\n%s", log, own)
		}
	})
	await(t, "dovecot", func() error {
		c, err := net.DialTimeout("tcp", loopback(port), time.Second)
		if err == nil {
			c.Close()
		}
		return err
	})
	return loopback(port)
}
