package nginx

import "regexp"

// plain are directives whose names or values speak of secrets and are none.
var plain = regexp.MustCompile(
	`^(?:server_name|server_tokens|location|root|alias|index|include|listen|rewrite|try_files|` +
		`error_page|upstream|server|hash|sticky|internal|user|auth_basic|proxy_cookie_\w+|userid\w*)$|` +
		`_(?:log|format|zone|user_file|no_cache|cache_\w+|(?:hide|pass)_header|ignore_headers)$`)
