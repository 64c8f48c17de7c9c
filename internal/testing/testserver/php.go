package testserver

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// Site is a domain that the web server serves.
type Site struct {
	Name string // the domain
	Root string // the document root, an absolute path
}

// SiteUser gives whom the sites run as, and the number of that user.
func SiteUser(t testing.TB) (name string, uid int) {
	t.Helper()
	if os.Geteuid() != 0 {
		me, err := user.Current()
		if err != nil {
			t.Fatal(err)
		}
		return me.Username, os.Geteuid()
	}
	owner, err := user.Lookup(siteUser)
	if err != nil {
		Missing(t, "there is no user "+siteUser)
	}
	uid, _ = strconv.Atoi(owner.Uid)
	return siteUser, uid
}

// siteUser is whom the sites run as when the tests run as root: apps refuse to
// run as root, and so do hosts.
const siteUser = "www-data"

// AccountFolder makes a folder for an account, which belongs to the user whom
// the sites run as.
func AccountFolder(t testing.TB) string {
	t.Helper()
	dir := folder(t)
	if os.Geteuid() != 0 {
		return dir
	}
	owner, err := user.Lookup(siteUser)
	if err != nil {
		Missing(t, "there is no user "+siteUser)
	}
	uid, _ := strconv.Atoi(owner.Uid)
	gid, _ := strconv.Atoi(owner.Gid)
	if err := errors.Join(os.Chown(dir, uid, gid), os.Chmod(dir, 0o755)); err != nil {
		t.Fatal(err)
	}
	return dir
}

// PHPWeb starts a private nginx with php-fpm that serves the sites, and gives
// its host:port. Settings are lines of PHP configuration, such as
// "memory_limit = 64M".
func PHPWeb(t testing.TB, sites []Site, settings ...string) string {
	t.Helper()
	paths := Need(t, "nginx", "php-fpm8.2")
	dir, port := folder(t), FreePort(t)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	// PHP's own log is written by the sites' user.
	if err := os.WriteFile(filepath.Join(dir, "php.log"), nil, 0o666); err != nil {
		t.Fatal(err)
	}
	_ = os.Chmod(filepath.Join(dir, "php.log"), 0o666)
	write := func(name, text string) string {
		full := filepath.Join(dir, name)
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return full
	}
	socket := filepath.Join(dir, "fpm.sock")
	pool := fmt.Sprintf("[global]\nerror_log = %[1]s/fpm.log\ndaemonize = no\n[site]\nlisten = %[2]s\npm = "+
		"static\npm.max_children = 4\nclear_env = yes\ncatch_workers_output = yes\nphp_admin_value[error_log] = "+
		"%[1]s/php.log\nphp_admin_flag[log_errors] = on\n", dir, socket)
	for _, line := range settings {
		pool += "php_admin_value[" + strings.Replace(line, " = ", "] = ", 1) + "\n"
	}
	if os.Geteuid() == 0 {
		pool += "user = " + siteUser + "\ngroup = " + siteUser + "\nlisten.owner = " + siteUser + "\n"
	}
	log := start(t, paths[1], "-y", write("fpm.conf", pool))
	t.Cleanup(func() {
		if t.Failed() {
			text, _ := os.ReadFile(filepath.Join(dir, "fpm.log"))
			errors, _ := os.ReadFile(filepath.Join(dir, "error.log"))
			t.Logf("php-fpm: %.2000s\n%.2000s\nnginx: %.2000s", log, text, errors)
		}
	})
	start(t, paths[0], "-c", write("nginx.conf", nginx(dir, socket, port, sites)), "-p", dir, "-e",
		filepath.Join(dir, "error.log"))
	for _, x := range []struct{ network, address string }{{"unix", socket}, {"tcp", loopback(port)}} {
		await(t, x.address, func() error {
			c, err := net.Dial(x.network, x.address)
			if err == nil {
				c.Close()
			}
			return err
		})
	}
	return loopback(port)
}

func nginx(dir, socket string, port int, sites []Site) string {
	var b strings.Builder
	user := ""
	if os.Geteuid() == 0 {
		user = "user " + siteUser + ";\n"
	}
	fmt.Fprintf(&b, "%sdaemon off;\npid %s/nginx.pid;\nevents {}\nhttp {\n", user, dir)
	for _, temp := range []string{"client_body", "proxy", "fastcgi", "uwsgi", "scgi"} {
		fmt.Fprintf(&b, "%s_temp_path %s/%s;\n", temp, dir, temp)
	}
	b.WriteString("types { text/html html; text/css css; application/javascript js; }\ndefault_type " +
		"application/octet-stream;\naccess_log off;\n")
	for _, s := range sites {
		fmt.Fprintf(&b, `server {
  listen 127.0.0.1:%d; server_name %s; root %s; index index.php index.html;
  location / { try_files $uri $uri/ =404; }
  location ~ \.php$ {
    try_files $uri =404;
    fastcgi_pass unix:%s;
    fastcgi_buffer_size 64k; fastcgi_buffers 8 64k;
    fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;
    fastcgi_param SCRIPT_NAME $fastcgi_script_name;
    fastcgi_param REQUEST_URI $request_uri;
    fastcgi_param DOCUMENT_URI $document_uri;
    fastcgi_param DOCUMENT_ROOT $document_root;
    fastcgi_param QUERY_STRING $query_string;
    fastcgi_param REQUEST_METHOD $request_method;
    fastcgi_param CONTENT_TYPE $content_type;
    fastcgi_param CONTENT_LENGTH $content_length;
    fastcgi_param SERVER_PROTOCOL $server_protocol;
    fastcgi_param SERVER_NAME $host;
    fastcgi_param SERVER_PORT $server_port;
    fastcgi_param REMOTE_ADDR $remote_addr;
    fastcgi_param HTTP_HOST $host:$server_port;
  }
}
`, port, s.Name, s.Root, socket)
	}
	return b.String() + "}\n"
}
