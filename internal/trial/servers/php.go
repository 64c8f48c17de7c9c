package servers

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
)

// Site is a domain that the web server serves.
type Site struct {
	Name string // the domain
	Root string // the document root, an absolute path

	Rules string // of the web server's own, for this domain
}

// SiteUser gives whom the sites run as, and the number of that user.
func SiteUser(t Stage) (name string, uid int) {
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
func AccountFolder(t Stage) string {
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
// "memory_limit = 64M". This nginx knows nothing of .htaccess.
func PHPWeb(t Stage, sites []Site, settings ...string) string {
	t.Helper()
	program := Need(t, "nginx")[0]
	dir, port := folder(t), FreePort(t)
	socket := fpm(t, dir, settings)
	errors := filepath.Join(dir, "error.log")
	start(t, program, "-c", readable(t, dir, "nginx.conf", nginx(dir, socket, port, sites)), "-p", dir, "-e", errors)
	logWhenFailed(t, errors)
	awaitPort(t, "tcp", loopback(port))
	return loopback(port)
}

// Apache does the same with an Apache that obeys .htaccess.
func Apache(t Stage, sites []Site, settings ...string) string {
	t.Helper()
	return startApache(t, "All", sites, settings)
}

// StrictApache does the same with an Apache that answers 500 where a .htaccess says
// more than who may come in and what is answered in a page's place (Apache manual,
// AllowOverrideList).
func StrictApache(t Stage, sites []Site, settings ...string) string {
	t.Helper()
	return startApache(t,
		"AuthConfig Limit\nAllowOverrideList RewriteEngine RewriteRule RewriteCond ErrorDocument RedirectMatch", sites,
		settings)
}

func startApache(t Stage, override string, sites []Site, settings []string) string {
	t.Helper()
	program := Need(t, "apache2")[0]
	dir, port := folder(t), FreePort(t)
	socket := fpm(t, dir, settings)
	errors := filepath.Join(dir, "error.log")
	start(t, program, "-D", "FOREGROUND", "-f",
		readable(t, dir, "apache.conf", apache(dir, socket, override, port, sites)))
	logWhenFailed(t, errors)
	awaitPort(t, "tcp", loopback(port))
	return loopback(port)
}

// fpm starts PHP for a web server, and gives its socket.
func fpm(t Stage, dir string, settings []string) (socket string) {
	t.Helper()
	program := Need(t, "php-fpm8.2")[0]
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	// PHP's own log and its sessions are written by the sites' user.
	for _, name := range []string{"php.log", "sessions"} {
		full := filepath.Join(dir, name)
		var err error
		if name == "sessions" {
			err = os.Mkdir(full, 0o777)
		} else {
			err = os.WriteFile(full, nil, 0o666)
		}
		if err := errors.Join(err, os.Chmod(full, 0o777)); err != nil {
			t.Fatal(err)
		}
	}
	socket = filepath.Join(dir, "fpm.sock")
	pool := fmt.Sprintf("[global]\nerror_log = %[1]s/fpm.log\ndaemonize = no\n[site]\nlisten = %[2]s\npm = "+
		"static\npm.max_children = 4\nclear_env = yes\ncatch_workers_output = yes\nphp_admin_value[error_log] = "+
		"%[1]s/php.log\nphp_admin_flag[log_errors] = on\nphp_admin_value[session.save_path] = %[1]s/sessions\n", dir, socket)
	for _, line := range settings {
		pool += "php_admin_value[" + strings.Replace(line, " = ", "] = ", 1) + "\n"
	}
	if os.Geteuid() == 0 {
		pool += "user = " + siteUser + "\ngroup = " + siteUser + "\nlisten.owner = " + siteUser + "\n"
	}
	// Settings of folders are looked for again soon, and not after five minutes.
	start(t, program, "-d", "user_ini.cache_ttl=4", "-y", readable(t, dir, "fpm.conf", pool))
	logWhenFailed(t, filepath.Join(dir, "fpm.log"), filepath.Join(dir, "php.log"))
	awaitPort(t, "unix", socket)
	return socket
}

// readable writes a server's configuration.
func readable(t Stage, dir, name, text string) string {
	t.Helper()
	full := filepath.Join(dir, name)
	if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return full
}

func logWhenFailed(t Stage, names ...string) {
	t.Cleanup(func() {
		for _, name := range names {
			if text, _ := os.ReadFile(name); t.Failed() && len(text) > 0 {
				t.Logf("%s: %s", filepath.Base(name), text[max(0, len(text)-2000):])
			}
		}
	})
}

func awaitPort(t Stage, network, address string) {
	t.Helper()
	await(t, address, func() error {
		c, err := net.Dial(network, address)
		if err == nil {
			c.Close()
		}
		return err
	})
}

func apache(dir, socket, override string, port int, sites []Site) string {
	var b strings.Builder
	fmt.Fprintf(&b, "ServerRoot %[1]s\nServerName localhost\nPidFile %[1]s/apache.pid\nErrorLog %[1]s/error.log\n"+
		"Mutex file:%[1]s default\nScriptSock %[1]s/cgi.sock\nListen 127.0.0.1:%[2]d\n", dir, port)
	for _, m := range []string{"mpm_event", "authz_core", "authz_host", "dir", "mime", "alias", "rewrite", "headers",
		"autoindex", "proxy", "proxy_fcgi", "include", "cgid"} {
		fmt.Fprintf(&b, "LoadModule %[1]s_module /usr/lib/apache2/modules/mod_%[1]s.so\n", m)
	}
	if os.Geteuid() == 0 {
		fmt.Fprintf(&b, "User %[1]s\nGroup %[1]s\n", siteUser)
	}
	b.WriteString(
		"TypesConfig /dev/null\nAddType text/css .css\nDirectoryIndex index.php index.html\n<Files \".ht*\">\nRequire all " +
			"denied\n</Files>\n",
	)
	for _, s := range sites {
		fmt.Fprintf(&b, "<VirtualHost 127.0.0.1:%d>\nServerName %s\nDocumentRoot %s\n<Directory %[3]s>\n"+
			"AllowOverride %[5]s\nOptions FollowSymLinks\nRequire all granted\n</Directory>\n"+
			"<FilesMatch \"\\.php$\">\n<If \"-f %%{REQUEST_FILENAME}\">\n"+
			"SetHandler \"proxy:unix:%[4]s|fcgi://localhost\"\n</If>\n</FilesMatch>\n%[6]s</VirtualHost>\n",
			port, s.Name, s.Root, socket, override, s.Rules)
	}
	return b.String()
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
  %s
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
`, port, s.Name, s.Root, s.Rules, socket)
	}
	return b.String() + "}\n"
}
