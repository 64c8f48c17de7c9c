package check

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Ways to have a picture run, and what apps and owners write that has nothing run.
func TestOrdersOfRules(t *testing.T) {
	for _, text := range []string{
		"AddHandler application/x-httpd-php .jpg", "SetHandler application/x-httpd-php",
		"sethandler \"proxy:unix:/run/x|fcgi://l\"",
		"AddType application/x-httpd-php .jpg", "AddType \"application/x-httpd-php\" .jpg",
		"ForceType application/x-httpd-php",
		"<FilesMatch \"\\.jpg$\">\nSetHandler application/x-httpd-php\n</FilesMatch>",
		"RewriteEngine On\nRewriteRule \\.jpg$ - [H=application/x-httpd-php]",
		"RewriteRule \\.jpg$ - [L,T=application/x-httpd-php]",
		"RewriteRule \\.jpg$ - \"[L, handler=application/x-httpd-php]\"",
		"RewriteRule ^(.*)$ http://elsewhere.localhost/$1 [P]", "RewriteRule ^(.*)$ proxy:http://elsewhere.localhost/$1",
		"Add\\\nHandler application/x-httpd-php .jpg", "Set\\\r\nHandler application/x-httpd-php",
		"# a comment that does not go on\nAddHandler cgi-script .jpg", "  \t AddHandler cgi-script .jpg",
		"Options +ExecCGI", "Options All", "Options +Includes\nAddOutputFilter INCLUDES .jpg", "Options IncludesNOEXEC",
		"AddOutputFilterByType INCLUDES text/html", "XBitHack on", "Action run /x.php", "ScriptAlias /a /b",
		"CGIMapExtension sys:/x .jpg", "php_value auto_prepend_file pic.jpg", "php_value \"auto_append_file\" pic.jpg",
		"php_flag engine on", "php_value session.save_path /tmp/x", "LuaMapHandler /x /y.lua",
		"ExtFilterDefine x cmd=\"/bin/sh\"",
		"SetInputFilter x", "\ufeffAddHandler cgi-script .jpg", "<IfModule x>\nAddType x/php .y\n</IfModule>",
		"<Perl>\n</Perl>",
		strings.Repeat("# nothing of interest\n", 4000) + "AddHandler cgi-script .jpg", "Include /etc/passwd",
	} {
		assert.True(t, hasOrders("uploads/.htaccess", text), "%.200s", text)
	}
	for _, text := range []string{
		"", "# AddHandler application/x-httpd-php .jpg", "# goes on \\\nAddHandler cgi-script .jpg",
		"Order allow,deny\nDeny from all", "<IfModule mod_authz_core.c>\n\tRequire all denied\n</IfModule>",
		"<Files ~ \"\\.(php|phtml)$\">\nDeny from all\n</Files>", "Options -Indexes",
		"Options -ExecCGI -Includes +FollowSymLinks",
		"RewriteEngine On\nRewriteBase /forum/\nRewriteCond %{REQUEST_FILENAME} !-f\n" +
			"RewriteRule ^(.*)$ index.php?p=$1 [L,QSA]",
		"RewriteRule .* - [E=HTTP_AUTHORIZATION:%{HTTP:Authorization}]", "RewriteRule ^old$ /new [R=301,L,NC]",
		"ErrorDocument 404 /404.html", "DirectoryIndex index.php index.html", "AddType image/svg+xml .svg .svgz",
		"AddType application/font-woff2 .woff2", "ExpiresActive On\nExpiresByType image/png \"access plus 1 month\"",
		"AddOutputFilterByType DEFLATE text/css application/javascript", "SetHandler none", "php_flag engine off",
		"php_value upload_max_filesize 64M\nphp_flag display_errors Off", "Header set X-Frame-Options \"SAMEORIGIN\"",
		"AddDefaultCharset UTF-8", "RemoveHandler .php .phtml",
		"<IfModule !mod_rewrite.c>\nErrorDocument 404 /i.php\n</IfModule>",
	} {
		assert.False(t, hasOrders("uploads/.htaccess", text), "%.200s", text)
	}
	for _, name := range []string{"x/.user.ini", "php.ini"} {
		for _, text := range []string{"auto_prepend_file = pic.jpg", "\"auto_prepend_file\"=x",
			"; no\r auto_append_file=x",
			"extension=x.so", "include_path=/tmp", "[PATH=/x]\nzend_extension = y", "engine = On", "error_log = x.php",
			"sendmail_path = /bin/sh", "unserialize_callback_func = x", "session.save_handler = user"} {
			assert.True(t, tells(name) && hasOrders(name, text), text)
		}
		for _, text := range []string{"upload_max_filesize = 64M\nmemory_limit=256M", "; auto_prepend_file = x",
			"engine = off",
			"session.gc_maxlifetime = 3600", "date.timezone = \"Europe/Berlin\""} {
			assert.False(t, hasOrders(name, text), text)
		}
	}
}

// However a text is written, reading it ends; and what goes on over lines is never read as less than it is.
func FuzzOrders(f *testing.F) {
	f.Add("AddHandler cgi-script .jpg")
	f.Add("Add\\\nHandler \"a\\\"b\" 'c")
	f.Fuzz(func(t *testing.T, text string) {
		hasOrders(".user.ini", text)
		if hasOrders(".htaccess", text) {
			assert.True(t, hasOrders(".htaccess", "Require all denied\n"+strings.TrimPrefix(text, "\ufeff")))
		}
	})
}
