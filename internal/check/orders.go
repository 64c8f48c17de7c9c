package check

import (
	"path"
	"regexp"
	"slices"
	"strings"
)

// tells says whether a file may tell a web server what to run.
func tells(name string) bool {
	base := strings.ToLower(path.Base(name))
	return base == ".htaccess" || isINI(base)
}

func isINI(base string) bool { return base == ".user.ini" || base == "php.ini" || base == "php5.ini" }

// hasOrders says whether such a file says anything that could have something run that would not be, or that sends its
// readers elsewhere than it looks. It is read as the server reads it, and what is not known to be harmless is none of
// that: a list of what is bad would always lack the next.
func hasOrders(name, text string) bool {
	text = strings.TrimPrefix(text, "\ufeff")
	if isINI(strings.ToLower(path.Base(name))) {
		return iniOrders(text)
	}
	for _, line := range logical(text) {
		line = strings.TrimLeft(line, " \t\r\f\v")
		if line == "" || line[0] == '#' {
			continue
		}
		if !harmless(line) {
			return true
		}
	}
	return false
}

// logical joins lines as Apache does: one that ends in a backslash goes on with the next, comments too (Apache manual,
// "Configuration Files", Syntax).
func logical(text string) (out []string) {
	line := ""
	for _, physical := range strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		if before, goesOn := strings.CutSuffix(physical, `\`); goesOn {
			line += before
			continue
		}
		out = append(out, line+physical)
		line = ""
	}
	return append(out, line)
}

// words splits a directive as Apache does: quotation marks of both kinds hold words together, and a backslash takes the
// meaning of the next letter.
func words(line string) (out []string) {
	for {
		line = strings.TrimLeft(line, " \t\r\f\v")
		if line == "" {
			return out
		}
		word, quote, at := strings.Builder{}, byte(0), 0
		if line[0] == '"' || line[0] == '\'' {
			quote, at = line[0], 1
		}
		for ; at < len(line); at++ {
			c := line[at]
			if quote != 0 && c == quote || quote == 0 && strings.IndexByte(" \t\r\f\v", c) >= 0 {
				break
			}
			if c == '\\' && at+1 < len(line) && (line[at+1] == '\\' || quote != 0 && line[at+1] == quote) {
				at++
				c = line[at]
			}
			word.WriteByte(c)
		}
		out = append(out, word.String())
		line = line[min(at+1, len(line)):]
	}
}

// plain are directives that run nothing, whatever they say (Apache manual, "Directive Quick Reference").
var plain = set("Require", "Order", "Allow", "Deny", "Satisfy", "AuthType", "AuthName", "AuthUserFile", "AuthGroupFile",
	"AuthBasicProvider", "AuthMerging", "DirectoryIndex", "DirectorySlash", "DirectoryIndexRedirect", "IndexIgnore",
	"IndexOptions", "IndexOrderDefault", "IndexStyleSheet", "HeaderName", "ReadmeName", "AddDescription", "AddIcon",
	"AddIconByType", "AddIconByEncoding", "DefaultIcon", "FallbackResource", "Redirect", "RedirectMatch",
	"RedirectPermanent", "RedirectTemp", "RewriteEngine", "RewriteBase", "RewriteCond", "RewriteOptions", "Header",
	"RequestHeader", "ExpiresActive", "ExpiresByType", "ExpiresDefault", "FileETag", "AddDefaultCharset", "AddCharset",
	"AddEncoding", "AddLanguage", "DefaultLanguage", "LanguagePriority", "ForceLanguagePriority", "BrowserMatch",
	"BrowserMatchNoCase", "SetEnv", "SetEnvIf", "SetEnvIfNoCase", "UnsetEnv", "PassEnv", "LimitRequestBody",
	"ServerSignature", "ContentDigest", "CheckSpelling", "CheckCaseOnly", "RemoveHandler", "RemoveType",
	"RemoveOutputFilter", "RemoveInputFilter", "RemoveEncoding", "RemoveCharset", "RemoveLanguage", "EnableSendfile",
	"EnableMMAP", "AcceptPathInfo", "UseCanonicalName", "MultiviewsMatch", "AllowEncodedSlashes", "CookieTracking",
	"SSLRequireSSL", "SSLOptions", "ModPagespeed", "DeflateCompressionLevel", "BrotliCompressionQuality")

// sections are containers whose contents are read as the rest is.
var sections = set("IfModule", "IfDefine", "IfVersion", "IfDirective", "IfSection", "Files", "FilesMatch", "Limit",
	"LimitExcept", "If", "ElseIf", "Else", "RequireAll", "RequireAny", "RequireNone")

func set(names ...string) map[string]bool {
	out := map[string]bool{}
	for _, name := range names {
		out[strings.ToLower(name)] = true
	}
	return out
}

// harmless says whether a directive is known to run nothing that would not be run.
func harmless(line string) bool {
	if section, is := strings.CutPrefix(line, "<"); is {
		section = strings.TrimPrefix(section, "/")
		end := strings.IndexAny(section, " \t>")
		return end > 0 && sections[strings.ToLower(section[:end])]
	}
	all := words(line)
	name, rest := strings.ToLower(all[0]), all[1:]
	switch {
	case plain[name]:
		return true
	case name == "options" || name == "allowoverride":
		return !slices.ContainsFunc(rest, optionRuns)
	case name == "errordocument":
		return true
	case name == "rewriterule":
		return len(rest) >= 2 && !slices.ContainsFunc(rest[2:], flagRuns) && !strings.HasPrefix(rest[1], "proxy:")
	case name == "addtype" || name == "forcetype" || name == "defaulttype":
		return len(rest) > 0 && typeIsPlain(rest[0])
	case name == "sethandler" || name == "addhandler":
		return len(rest) > 0 && (strings.EqualFold(rest[0], "none") || strings.EqualFold(rest[0], "default-handler"))
	case name == "addoutputfilterbytype" || name == "setoutputfilter" || name == "addoutputfilter":
		return len(rest) > 0 && filtersArePlain(rest[0])
	case (name == "php_flag" || name == "php_admin_flag") && len(rest) == 2 && strings.EqualFold(rest[0], "engine"):
		return isOff(rest[1])
	case name == "php_value" || name == "php_flag" || name == "php_admin_value" || name == "php_admin_flag":
		return len(rest) > 0 && settingIsPlain(rest[0])
	}
	return false
}

// optionRuns says whether an option has something run: programs, and commands within pages.
func optionRuns(option string) bool {
	if strings.HasPrefix(option, "-") || strings.EqualFold(option, "none") {
		return false
	}
	return !set("Indexes", "FollowSymLinks", "SymLinksIfOwnerMatch", "MultiViews")[strings.ToLower(
		strings.TrimPrefix(option, "+"))]
}

// flagRuns says whether flags of a RewriteRule have something run, or fetched from elsewhere (Apache manual,
// "RewriteRule Flags").
func flagRuns(flags string) bool {
	for _, flag := range strings.Split(strings.Trim(flags, "[]"), ",") {
		name, _, _ := strings.Cut(strings.TrimSpace(flag), "=")
		if slices.Contains([]string{"h", "handler", "t", "type", "p", "proxy"}, strings.ToLower(name)) {
			return true
		}
	}
	return false
}

// typeIsPlain says whether a type is one that servers hand out as it is.
func typeIsPlain(kind string) bool {
	kind = strings.ToLower(kind)
	for _, word := range []string{"php", "httpd", "server-parsed", "cgi", "script-", "shtml", "asis"} {
		if strings.Contains(kind, word) {
			return false
		}
	}
	return strings.Contains(kind, "/")
}

func filtersArePlain(filters string) bool {
	for _, filter := range strings.Split(strings.ToUpper(filters), ";") {
		if !slices.Contains([]string{"DEFLATE", "BROTLI_COMPRESS", "INFLATE", "NONE"}, filter) {
			return false
		}
	}
	return true
}

// plainSettings are settings of PHP that bring in no other file (PHP manual, "List of php.ini directives").
var plainSettings = regexp.MustCompile(`^(?:upload_max_filesize|post_max_size|memory_limit|max_execution_time|` +
	`max_input_vars|max_input_time|max_file_uploads|file_uploads|display_errors|display_startup_errors|log_errors|` +
	`error_reporting|html_errors|date\.timezone|output_buffering|zlib\.output_compression(?:_level)?|` +
	`default_charset|default_mimetype|default_socket_timeout|arg_separator\.(?:output|input)|session\.[a-z_]+|` +
	`mbstring\.[a-z_]+|iconv\.[a-z_]+|pcre\.[a-z_]+|opcache\.(?:enable|revalidate_freq|validate_timestamps)|` +
	`realpath_cache_(?:size|ttl)|register_globals|magic_quotes_[a-z]+|allow_url_fopen|short_open_tag|precision|` +
	`serialize_precision|always_populate_raw_post_data|variables_order|request_order|expose_php|` +
	`open_basedir|disable_functions|user_ini\.[a-z_]+|safe_mode)$`)

// leads are those of the plain ones that name a program or a place after all.
var leads = set("session.save_handler", "session.save_path", "session.serialize_handler", "user_ini.filename",
	"mbstring.http_output_conv_mimetypes")

func settingIsPlain(name string) bool {
	name = strings.ToLower(strings.TrimSpace(name))
	return plainSettings.MatchString(name) && !leads[name]
}

func isOff(value string) bool {
	return slices.Contains([]string{"off", "0", "no", "false", "none"}, strings.ToLower(strings.Trim(value, " \t\"")))
}

// iniOrders reads a file of settings (PHP manual, "The configuration file").
func iniOrders(text string) bool {
	for _, line := range strings.FieldsFunc(text, func(r rune) bool { return r == '\n' || r == '\r' }) {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == ';' || line[0] == '#' || line[0] == '[' {
			continue
		}
		name, value, _ := strings.Cut(line, "=")
		if strings.EqualFold(strings.TrimSpace(name), "engine") && isOff(value) {
			continue
		}
		if !settingIsPlain(name) {
			return true
		}
	}
	return false
}
