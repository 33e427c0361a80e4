package httpd

import "regexp"

// plain are directives whose names speak of secrets and whose values are none.
var plain = regexp.MustCompile(
	`(?i)^(ServerTokens|ServerSignature|SSLPassPhraseDialog|Cookie(Name|Style|Tracking|Domain|Expires|` +
		`HTTPOnly|SameSite|Secure|Format)|ProxyPassReverseCookie\w*|SessionCookie\w*|SessionCryptoPassphraseFile|SSLSessionTicketKeyFile|` +
		`LoadModule|<?/?IfModule|CustomLog|LogFormat|ErrorLogFormat)$`)
